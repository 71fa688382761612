package watch

import (
	"bytes"
	"cmp"
	"context"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"andamio/internal/core/measure"
	"andamio/internal/service/deployments"
	"andamio/internal/service/shells"
)

// Inside runs a command in an instance, for what it tells of itself.
type Inside interface {
	Inside(ctx context.Context, h shells.Host, command string, in io.Reader, out, errOut io.Writer) (int, error)
}

// look is what is run in a machine: only what reads. Where there is no systemd nothing is said of services.
const look = `echo '== load'; cat /proc/loadavg
echo '== memory'; cat /proc/meminfo
echo '== disks'; df -kP
systemctl --version >/dev/null 2>&1 && { echo '== services'; systemctl --failed --no-legend --plain; }
exit 0
`

const (
	// enterEvery is how often a machine is gone into; how it is inside is taken to be as it was for twice as long.
	enterEvery = time.Minute
	// enterMost is how many machines are gone into in one round: where there are more, each is less often.
	enterMost = 200
	// lookMost is how much is read of what a machine says of itself.
	lookMost = 256 << 10
)

// insides are what machines said of themselves.
type insides struct {
	mu sync.Mutex
	of map[string]*within
}

// within is what one machine said of itself, and when it was asked last.
type within struct {
	asked, at time.Time
	values    map[string]float64
}

// door is a machine of a deployment into which one may go.
type door struct {
	thing string
	host  shells.Host
}

// opened has the machines of a deployment that are on be known as such into which one may go.
func (k *known) opened(d *deployments.Deployment) {
	for _, h := range shells.HostsOf(d) {
		id := d.Stand.Plan.Known[h.ID]["site.id"]
		if h.Off || id == "" {
			continue
		}
		k.doors = append(k.doors, door{measure.InstanceKey(h.Site, id), h})
	}
}

// due are the machines that are to be gone into now, those that waited longest first.
func (m *Memory) due(k *known, now time.Time) []door {
	in := &m.inside
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.of == nil {
		in.of = map[string]*within{}
	}
	maps.DeleteFunc(in.of, func(key string, _ *within) bool { return k.things[key] == nil })
	asked := func(d door) time.Time {
		if s := in.of[d.thing]; s != nil {
			return s.asked
		}
		return time.Time{}
	}
	var out []door
	for _, d := range k.doors {
		if k.rests[d.thing] == "" && now.Sub(asked(d)) >= enterEvery {
			out = append(out, d)
		}
	}
	slices.SortStableFunc(out, func(a, b door) int {
		return cmp.Or(asked(a).Compare(asked(b)), cmp.Compare(a.thing, b.thing))
	})
	return out[:min(len(out), enterMost)]
}

// enter asks a machine how it is inside. One that cannot be gone into tells nothing, which is nothing wrong by itself: whether it is on its site says.
func (svc *Service) enter(ctx context.Context, d door, now time.Time) {
	ctx, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	var out bytes.Buffer
	_, err := svc.inside.Inside(ctx, d.host, "sh -s", strings.NewReader(look), shells.AtMost(&out, lookMost), io.Discard)
	in := &svc.memory.inside
	in.mu.Lock()
	defer in.mu.Unlock()
	s := in.of[d.thing]
	if s == nil {
		s = &within{}
		in.of[d.thing] = s
	}
	s.asked = now
	if err == nil {
		s.at, s.values = now, looked(out.String())
	}
}

// told has machines be in a round as they said they were inside. What a site tells of a machine counts before what it says itself.
func (in *insides) told(r *round, now time.Time) {
	in.mu.Lock()
	defer in.mu.Unlock()
	for key, s := range in.of {
		if len(s.values) > 0 && now.Sub(s.at) < 2*enterEvery {
			r.lacking(key, s.values)
		}
	}
}

// looked reads what a machine printed of itself. What is not understood is left out.
func looked(text string) map[string]float64 {
	out := map[string]float64{}
	memory := map[string]float64{}
	section := ""
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if name, head := strings.CutPrefix(line, "== "); head {
			section = name
			if section == "services" {
				out[measure.ServicesDown] = 0
			}
			continue
		}
		fields := strings.Fields(line)
		switch {
		case len(fields) == 0:
		case section == "load" && out[measure.Load] == 0:
			put(out, measure.Load, fields[0], 1)
		case section == "memory" && len(fields) > 1:
			put(memory, strings.TrimSuffix(fields[0], ":"), fields[1], 1024)
		case section == "disks":
			disk(out, fields)
		case section == "services":
			out[measure.ServicesDown]++
		}
	}
	if total, free := memory["MemTotal"], memory["MemAvailable"]; total > 0 && free > 0 {
		out[measure.MemoryHeld], out[measure.MemoryUsed] = total, max(total-free, 0)
	}
	return out
}

// put reads a number that is not below 0.
func put(out map[string]float64, name, text string, times float64) {
	if v, err := strconv.ParseFloat(text, 64); err == nil && v >= 0 && v < 1<<60 {
		out[name] = v * times
	}
}

// disk reads a line of df -kP: the file system, its size, what of it is used and what is free. Those in memory are left out.
func disk(out map[string]float64, fields []string) {
	if len(fields) < 6 || !strings.HasPrefix(fields[0], "/dev/") {
		return
	}
	of := map[string]float64{}
	for i, name := range []string{"size", "used", "free"} {
		put(of, name, fields[i+1], 1024)
	}
	if of["used"]+of["free"] <= 0 {
		return
	}
	out[measure.DiskHeld] += of["size"]
	out[measure.DiskUsed] += of["used"]
	out[measure.Fullest] = max(out[measure.Fullest], of["used"]/(of["used"]+of["free"]))
}
