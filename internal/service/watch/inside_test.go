package watch

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"andamio/internal/core/measure"
)

// TestWhatMachinesSayOfThemselves has what several systems print, with what is understood of it.
func TestWhatMachinesSayOfThemselves(t *testing.T) {
	for _, c := range []struct {
		name, text string
		want       map[string]float64
	}{
		{"a machine with systemd", `== load
0.42 0.36 0.30 2/315 4711
== memory
MemTotal:        2031596 kB
MemFree:          143668 kB
MemAvailable:    1531596 kB
SwapTotal:             0 kB
== disks
Filesystem     1024-blocks    Used Available Capacity Mounted on
udev                993480       0    993480       0% /dev
/dev/vda1          8174572 1638400   6099468      22% /
/dev/vdb           1000000  990000     10000      99% /srv/levels
tmpfs               203160     600    202560       1% /run
== services
gauge.service loaded failed failed Water levels
`, map[string]float64{measure.Load: 0.42, measure.MemoryHeld: 2031596 * 1024, measure.MemoryUsed: 500000 * 1024, measure.DiskHeld: 9174572 * 1024, measure.DiskUsed: 2628400 * 1024,
			measure.Fullest: 0.99, measure.ServicesDown: 1}},
		{"all services are well", "== services\n", map[string]float64{measure.ServicesDown: 0}},
		{"a small one without systemd", "== load\n1.00 0.5 0.1 1/2 3\n== memory\nMemTotal: 64000 kB\n== disks\nrootfs 100 50 50 50% /\n", map[string]float64{measure.Load: 1}},
		{"nothing", "", map[string]float64{}},
		{"a page that is none", "== load\nhigh\n== memory\nMemTotal: lots kB\nMemAvailable: -3 kB\n== disks\n/dev/vda1 x y z 1% /\n/dev/vdb 1 2\n/dev/vdc 0 0 0 0% /empty\n== else\n1 2 3\n", map[string]float64{}},
		{"numbers that are none", "== load\nNaN\n== memory\nMemTotal: 1e300 kB\nMemAvailable: 1 kB\n", map[string]float64{}},
	} {
		assert.Equal(t, c.want, looked(c.text), c.name)
	}
}

// TestWhateverAMachineSaysIsNoFigureBelowNothing holds that of any text no figure comes that cannot be.
func TestWhateverAMachineSaysIsNoFigureBelowNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringOfN(rapid.RuneFrom([]rune("== loadmeryviscs/MT:Ak0129.- \n")), 0, 400, -1).Draw(t, "text")
		for name, v := range looked(text) {
			assert.GreaterOrEqual(t, v, 0.0, name)
			assert.Less(t, v, 1e24, name)
		}
	})
}
