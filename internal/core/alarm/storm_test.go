package alarm

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/measure"
)

// probe is how often everything is measured.
const probe = 15 * time.Second

// world is three sites of two zones, each with two hosts of two instances; on them four services of three tiers, two of each at different sites. What a tier needs is
// the tier below it.
type world struct {
	nodes  []Node
	graph  *Graph
	things []measure.Thing
	wants  map[string][]*Threshold
	// fault is what is wrong.
	fault fault
	rand  *rand.Rand
	began time.Time
	panel Panel
	book  Book
	// opened and ended are all alerts that ever were.
	opened, ended []*Alert
}

// fault is something that goes wrong, and which causes are right for it.
type fault struct {
	kind string
	at   string
	// right are the nodes that may be named as the cause.
	right []string
}

func newWorld(t testing.TB, seed uint64) *world {
	w := &world{rand: rand.New(rand.NewPCG(seed, 7)), began: time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC), wants: map[string][]*Threshold{}}
	var hosts []string
	for _, site := range []string{"presa", "vega", "alisio"} {
		w.nodes = append(w.nodes, Node{ID: measure.SiteKey(site), Rank: Site, Name: site, Site: site})
		w.things = append(w.things, measure.Thing{Key: measure.SiteKey(site), Kind: measure.OfSite, Name: site, Site: site})
		for _, zone := range []string{"a", "b"} {
			z := "zone " + site + "/" + zone
			w.nodes = append(w.nodes, Node{ID: z, Rank: Zone, Name: zone, Site: site, On: []string{measure.SiteKey(site)}})
			for n := range 2 {
				h := fmt.Sprintf("host %s/%s-%d", site, zone, n)
				w.nodes = append(w.nodes, Node{ID: h, Rank: Host, Name: h, Site: site, On: []string{z}})
				hosts = append(hosts, h)
			}
		}
	}
	for service := range 4 {
		for tier, name := range []string{"store", "work", "front"} {
			for k := range 2 {
				host := hosts[(service*2+tier*3+k*5)%len(hosts)]
				site, _, _ := strings.Cut(strings.TrimPrefix(host, "host "), "/")
				id := fmt.Sprintf("s%d-%s-%d", service, name, k)
				group := func(name string) string { return fmt.Sprintf("d1/s%d-%s", service, name) }
				part := Node{ID: "part d1/" + id, Rank: Part, Name: id, Site: site, Service: fmt.Sprint("s", service), Group: group(name), On: []string{measure.InstanceKey(site, id)}}
				if tier > 0 {
					part.Needs = []string{group([]string{"store", "work"}[tier-1])}
				}
				end := Node{ID: measure.EndpointKey(1, id), Rank: Endpoint, Name: id, Site: site, Service: part.Service, On: []string{part.ID}}
				w.nodes = append(w.nodes, Node{ID: measure.InstanceKey(site, id), Rank: Instance, Name: id, Site: site, On: []string{host}}, part, end)
				w.things = append(w.things, measure.Thing{Key: measure.InstanceKey(site, id), Kind: measure.OfInstance, Name: id, Site: site},
					measure.Thing{Key: end.ID, Kind: measure.OfEndpoint, Name: id, Site: site})
			}
		}
	}
	w.graph = NewGraph(w.nodes)
	for i := range w.things {
		of, err := Default().For(&w.things[i])
		require.NoError(t, err)
		require.NotEmpty(t, of)
		w.wants[w.things[i].Key] = of
	}
	return w
}

// hosted reports that a node is the one where the fault is, or stands on it.
func (w *world) hosted(id string) bool { return w.graph.isUnder(w.fault.at, id) }

// broken reports that a part does nothing: its machine is lost or full, or what it needs is broken.
func (w *world) broken(part *Node) bool {
	switch w.fault.kind {
	case "instance", "host", "zone", "site", "full":
		if w.hosted(part.ID) {
			return true
		}
	}
	for _, group := range part.Needs {
		if !slices.ContainsFunc(w.graph.groups[group], func(id string) bool { return !w.broken(w.graph.nodes[id]) && !w.cut(id) }) {
			return true
		}
	}
	return false
}

// cut reports that a part is not reached.
func (w *world) cut(id string) bool {
	return slices.Contains([]string{"instance", "host", "zone", "site", "network"}, w.fault.kind) && w.hosted(id)
}

// usual is how a measure is when nothing is wrong.
func (w *world) usual(thing *measure.Thing, name string, now time.Time) Reading {
	hour := float64(now.Hour()) + float64(now.Minute())/60
	day := 0.5 + 0.35*math.Sin((hour-9)/24*2*math.Pi)
	noise := w.rand.NormFloat64()
	switch name {
	case measure.CoresUsed:
		return Reading{Has: true, Value: max(4*(day*0.7+0.04*noise), 0), Limit: 4}
	case measure.MemoryUsed:
		return Reading{Has: true, Value: 8e9 * (0.55 + 0.1*day + 0.01*noise), Limit: 8e9}
	case measure.DiskUsed:
		return Reading{Has: true, Value: 40e9 * (0.4 + 0.002*now.Sub(w.began).Hours()/24), Limit: 40e9}
	case measure.Fullest:
		return Reading{Has: true, Value: 0.4 + 0.002*now.Sub(w.began).Hours()/24}
	case measure.ServicesDown:
		return Reading{Has: true}
	case measure.AnswerTime:
		return Reading{Has: true, Value: 0.02 + 0.05*day + 0.01*math.Abs(noise)}
	case measure.Certificate:
		return Reading{Has: true, Value: (60*24*time.Hour - now.Sub(w.began)%(30*24*time.Hour)).Seconds()}
	case measure.SiteTime:
		return Reading{Has: true, Value: 0.2 + 0.1*math.Abs(noise)}
	}
	return Reading{Has: true, Value: 1, Said: "200", Reached: true}
}

// read is a measure as the fault has it.
func (w *world) read(thing *measure.Thing, name string, now time.Time) Reading {
	r := w.usual(thing, name, now)
	switch thing.Kind {
	case measure.OfSite:
		if w.hosted(thing.Key) && (w.fault.kind == "site" || w.fault.kind == "control") {
			if name == measure.SiteAnswers {
				return Reading{Has: true, Said: "no answer"}
			}
			return Reading{}
		}
	case measure.OfInstance:
		return w.readInstance(thing, name, r)
	case measure.OfEndpoint:
		return w.readEndpoint(thing, name, r, now)
	}
	return r
}

func (w *world) readInstance(thing *measure.Thing, name string, r Reading) Reading {
	if !w.graph.isUnder(w.fault.at, thing.Key) {
		return r
	}
	switch w.fault.kind {
	case "instance":
		if name == measure.On {
			return Reading{Has: true, Said: "stopped"}
		}
		return Reading{}
	case "host", "zone", "site", "control":
		return Reading{} // nobody tells anything of it
	case "full":
		if name == measure.DiskUsed {
			r.Value = 0.999 * r.Limit
		}
		if name == measure.Fullest {
			r.Value = 0.999
		}
	case "service":
		if name == measure.ServicesDown {
			r.Value = 2
		}
	}
	return r
}

func (w *world) readEndpoint(thing *measure.Thing, name string, r Reading, now time.Time) Reading {
	part := w.graph.nodes[w.graph.nodes[thing.Key].On[0]]
	here := thing.Key == w.fault.at
	silent := w.cut(part.ID) || here && w.fault.kind == "flapping" && now.Unix()/15%3 == 0
	switch {
	case silent && name == measure.Answers:
		return Reading{Has: true, Said: "no answer"}
	case silent:
		return Reading{}
	case name == measure.Answers && (w.broken(part) || here && w.fault.kind == "wrong"):
		return Reading{Has: true, Said: "503", Reached: true}
	case here && w.fault.kind == "certificate" && name == measure.Certificate:
		return Reading{Has: true, Value: -60}
	case here && w.fault.kind == "certificate" && name == measure.Answers:
		return Reading{Has: true, Said: "certificate has expired"}
	case here && w.fault.kind == "slow" && name == measure.AnswerTime:
		r.Value = 4
	}
	return r
}

// round measures everything once.
func (w *world) round(now time.Time) Changes {
	var alarms []Alarm
	for i := range w.things {
		thing := &w.things[i]
		alarms = append(alarms, w.panel.Step(thing, w.wants[thing.Key], func(name string) Reading { return w.read(thing, name, now) }, false, now)...)
	}
	c := w.book.Step(w.graph, Find(w.graph, alarms), now)
	w.opened, w.ended = append(w.opened, c.Opened...), append(w.ended, c.Ended...)
	return c
}

// draw draws a fault.
func (w *world) draw() fault {
	of := func(rank Rank) *Node {
		var all []*Node
		for i := range w.nodes {
			if n := &w.nodes[i]; n.Rank == rank && (rank < Host || w.loaded(n.ID)) {
				all = append(all, n)
			}
		}
		return all[w.rand.IntN(len(all))]
	}
	kind := []string{"instance", "host", "zone", "site", "control", "network", "full", "slow", "flapping", "wrong", "certificate", "service"}[w.rand.IntN(12)]
	switch kind {
	case "instance", "full", "service":
		n := of(Instance)
		return fault{kind, n.ID, []string{n.ID}}
	case "host":
		n := of(Host)
		return fault{kind, n.ID, []string{n.ID}}
	case "zone":
		n := of(Zone)
		return fault{kind, n.ID, []string{n.ID}}
	case "site", "control":
		n := of(Site)
		return fault{kind, n.ID, []string{n.ID}}
	case "network":
		n := of(Endpoint)
		part := w.graph.nodes[n.On[0]]
		return fault{kind, part.On[0], []string{n.ID, part.ID, part.On[0]}}
	}
	n := of(Endpoint)
	return fault{kind, n.ID, []string{n.ID}}
}

// loaded reports that two things or more that a node carries have something on them, so that it can be told from what it carries.
func (w *world) loaded(id string) bool {
	n := 0
	for _, up := range w.graph.carries[id] {
		if len(w.graph.above(up)) > 0 {
			n++
		}
	}
	return n >= 2
}

func TestAStormIsOneAlertAFault(t *testing.T) {
	for seed := range uint64(2) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) { storm(t, seed) })
	}
}

// storm has 100 faults, one after another.
func storm(t *testing.T, seed uint64) {
	w := newWorld(t, seed)
	now := w.began
	for range 20 {
		w.round(now)
		now = now.Add(probe)
	}
	require.Empty(t, w.opened)
	kinds := map[string]int{}
	for i := range 100 {
		w.fault = w.draw()
		kinds[w.fault.kind]++
		what := fmt.Sprintf("fault %d: %s of %s", i, w.fault.kind, w.fault.at)
		patience := 3                                                // the first in which it is seen, and two more: two periods
		if w.fault.kind == "flapping" || w.fault.kind == "service" { // which may pass by itself within two minutes
			patience = 16
		}
		for k := range 40 {
			w.round(now)
			now = now.Add(probe)
			if k+1 >= patience {
				require.Len(t, w.book.Open, 1, what)
				require.Contains(t, w.fault.right, w.book.Open[0].Cause, what)
			}
		}
		require.Len(t, w.opened, 1, what+": as many were ever opened")
		a := *w.book.Open[0]
		assert.NotEmpty(t, a.Words, what)
		if w.fault.kind == "control" {
			assert.Empty(t, append(a.Down, a.Weakened...), what+": what runs there answers")
		}
		w.fault = fault{}
		for k := range 40 {
			w.round(now)
			now = now.Add(probe)
			if a.Severity == Critical && k >= 2 && !a.Alarms[0].Flaps {
				require.Empty(t, w.book.Open, what+": it is mended")
			}
		}
		require.Empty(t, w.book.Open, what+": it is mended")
		require.Len(t, w.opened, 1, what)
		require.Len(t, w.ended, 1, what)
		w.opened, w.ended = nil, nil
	}
	assert.Len(t, kinds, 12, "every sort of fault was tried")
}

func TestNothingIsSaidInAQuietMonth(t *testing.T) {
	w := newWorld(t, 2)
	every := 10 * time.Minute // a month by 15 s is forty times as long, and is no other
	for now := w.began; now.Sub(w.began) < 31*24*time.Hour; now = now.Add(every) {
		w.round(now)
		require.Empty(t, w.opened, now)
	}
}
