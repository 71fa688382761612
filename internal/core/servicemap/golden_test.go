package servicemap_test

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/servicemap"
)

var update = flag.Bool("update", false, "write the recorded maps anew")

// scenario is the map of all that the drill raises, with a record of each instance, of which one is gone, two machines that nobody deployed, and what was seen to talk.
func scenario(t *testing.T) *servicemap.Map {
	t.Helper()
	p := plantest.Plan(t, "drill")
	p.Known = map[string]map[string]string{}
	in := servicemap.Input{Deployments: []servicemap.Deployment{{ID: 7, Name: "flood-watch", Plan: p}}, Gone: map[string]bool{}}
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind != kinds.Instance {
			continue
		}
		p.Known[r.ID] = map[string]string{"site.id": "vm-" + r.ID}
		a := map[string]string{"zone": r.Zone}
		if i%2 == 0 { // not every site says on which host
			a["host"] = fmt.Sprint("h", i%4)
		}
		in.Records = append(in.Records, inventory.Record{ID: "r/" + r.ID, Class: kinds.Instance, Name: r.ID, Site: r.Site, Provider: "vm-" + r.ID, Attributes: a})
	}
	in.Gone[in.Records[0].ID] = true
	in.Records = append(in.Records,
		inventory.Record{ID: "r/old", Class: kinds.Instance, Name: "old", Site: "presa", Provider: "old", Attributes: map[string]string{"tag.service": "recorder"}},
		inventory.Record{ID: "r/mute", Class: kinds.Instance, Name: "mute", Site: "vega", Provider: "mute"},
		inventory.Record{ID: "r/vol", Class: kinds.Volume, Name: "vol", Site: "vega", Provider: "vol"})
	at := in.Records[1]
	in.Talks = [][2]string{{"presa/old", at.Site + "/" + at.Provider}, {at.Site + "/" + at.Provider, "presa/old"}, {"vega/mute", "presa/old"}, {"vega/mute", "vega/mute"}, {"vega/nobody", "presa/old"}}
	return servicemap.New(in)
}

// told is all that a map says: what there is by layer, what needs what, and what the loss of each takes down.
func told(m *servicemap.Map) string {
	var b strings.Builder
	for l := range servicemap.Layers {
		fmt.Fprintf(&b, "%s\n", servicemap.Layer(l).Word())
		for _, n := range m.On(servicemap.Layer(l)) {
			fmt.Fprintf(&b, "  %s  %q of %q in %q%s\n", n.ID, n.Name, n.Site, n.Group, map[bool]string{true: ", missing"}[n.Missing])
		}
	}
	b.WriteString("links\n")
	for _, l := range m.Links {
		fmt.Fprintf(&b, "  %s -> %s  %s%s\n", l.From, l.To, l.Basis, map[bool]string{true: ", peers"}[l.Peer])
	}
	b.WriteString("losses\n")
	for _, n := range m.Nodes {
		loss := m.Losing(n.ID)
		fmt.Fprintf(&b, "  %s  down %v  weakened %v  lost %d %v  cut %v\n", n.ID, loss.Down, loss.Weakened, len(loss.Lost), slices.Sorted(maps.Keys(loss.Lost)), slices.Sorted(maps.Keys(loss.Cut)))
	}
	return b.String()
}

// TestMapsAreAsRecorded holds all that is said of the scenario and of a small sample against what is recorded of them.
func TestMapsAreAsRecorded(t *testing.T) {
	for name, m := range map[string]*servicemap.Map{"drill": scenario(t), "sample": sample()} {
		golden := filepath.Join("testdata", name+".txt")
		if *update {
			require.NoError(t, os.WriteFile(golden, []byte(told(m)), 0o644))
		}
		want, err := os.ReadFile(golden)
		require.NoError(t, err, "run the test with -update")
		assert.Equal(t, string(want), told(m), name)
	}
}
