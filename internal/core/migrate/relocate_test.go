package migrate

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
)

func scenario(t require.TestingT) *estate.Estate {
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	return e
}

func TestAWorkloadIsLikeItIsChosenToBe(t *testing.T) {
	before, e := plantest.Plan(t, "drill"), scenario(t)
	room := func(site string) float64 {
		sum := 0.0
		for _, r := range e.Site(site).Rooms() {
			sum += float64(r.Free.Cores)
		}
		return sum
	}
	free := room("alisio-norte")
	p, err := Relocate(before, e, []Choice{{Instance: "contacts-host-1", Site: "alisio-norte", Zone: "2", Size: "c8-16", Hostname: "register", KeepMAC: true}},
		map[string]map[string]string{"contacts-port-1": {"mac": "02:00:5e:00:53:01"}})
	require.NoError(t, err)
	host, port := p.Resource("contacts-host-1"), p.Resource("contacts-port-1")
	assert.Equal(t, "alisio-norte 2 c8-16 register", strings.Join([]string{host.Site, host.Zone, host.AsInstance().Size, host.AsInstance().Hostname}, " "))
	assert.Equal(t, 8, host.AsInstance().Cores)
	assert.InDelta(t, free-8, room("alisio-norte"), 1e-9, "it takes its room")
	assert.Equal(t, "contacts-lan@alisio-norte", port.AsInterface().Network)
	assert.Equal(t, "02:00:5e:00:53:01", port.AsInterface().MAC)
	assert.Empty(t, port.AsInterface().Address, "that site hands out none inside")
	for _, id := range []string{"contacts-vol-1", "contacts-1", "contacts-port-1"} {
		assert.Equal(t, "alisio-norte", p.Resource(id).Site, id)
	}
	assert.NotNil(t, p.Resource("contacts-lan@alisio-norte"), "its network is built there")
	assert.Nil(t, p.Resource("contacts-lan@vega"), "and not where nobody is linked to it any more")
	assert.Contains(t, p.Step("contacts-port-1/plug").After, "contacts-lan@alisio-norte/create")
	assert.Equal(t, "vega", before.Resource("contacts-host-1").Site, "the design before stays as it is")
	assert.Equal(t, "vega", p.Resource("readings-host-1").Site)
}

func TestWhereAWorkloadCannotGo(t *testing.T) {
	for want, c := range map[string]Choice{
		"no such instance":                  {Instance: "nobody", Site: "vega"},
		"nowhere is not connected":          {Instance: "contacts-host-1", Site: "nowhere"},
		"it is there already":               {Instance: "contacts-host-1", Site: "vega"},
		"there is no size c1":               {Instance: "contacts-host-1", Site: "alisio-sur", Size: "c1"},
		"there is no size of 4 cores":       {Instance: "contacts-host-1", Site: "presa"},
		"in zone 9":                         {Instance: "contacts-host-1", Site: "alisio-sur", Zone: "9"},
		"the design has no network back":    {Instance: "contacts-host-1", Site: "alisio-sur", Network: "back"},
		"so 10.0.0.9 cannot be picked":      {Instance: "contacts-host-1", Site: "alisio-sur", Address: "10.0.0.9"},
		"which is in no pool of vega":       {Instance: "forecast-host-1", Site: "vega", Address: "10.9.9.9"},
		"it has no storage of class golden": {Instance: "forecast-host-1", Site: "vega", Class: "golden"},
	} {
		_, err := Relocate(plantest.Plan(t, "drill"), scenario(t), []Choice{c}, nil)
		require.ErrorContains(t, err, want)
		assert.ErrorContains(t, err, c.Instance)
	}
	p := plantest.Plan(t, "drill")
	plan.Respec(p.Resource("contacts-lan@vega"), func(s *plan.NetworkSpec) { s.Existing = "net-7" })
	_, err := Relocate(p, scenario(t), []Choice{{Instance: "contacts-host-1", Site: "alisio-sur"}}, nil)
	assert.ErrorContains(t, err, "stands at vega alone; name another one there")
	assert.ErrorContains(t, err, "contacts-host-1")

	for want, change := range map[string]func(vega *estate.Site){
		"there is no image of its system, linux": func(vega *estate.Site) { vega.Images = nil },
		"VLAN": func(vega *estate.Site) {
			for i := range vega.Networks {
				if v := vega.Networks[i].VLANs; v != nil {
					for n := v.From; n <= v.To; n++ {
						v.Taken = append(v.Taken, n)
					}
				}
			}
		},
	} {
		e := scenario(t)
		change(e.Site("vega"))
		before := plantest.Plan(t, "drill")
		got, err := Relocate(before, e, []Choice{{Instance: "forecast-host-1", Site: "vega"}}, nil)
		require.ErrorContains(t, err, want)
		assert.ErrorContains(t, err, "forecast-host-1")
		assert.Nil(t, got)
		assert.Equal(t, plantest.Plan(t, "drill"), before, "nothing is changed")
	}
}

// TestWhatIsLinkedIsLinkedThere: the network that is built there has a VLAN of its own where such are handed out, and what is plugged waits for that one alone.
func TestWhatIsLinkedIsLinkedThere(t *testing.T) {
	p, err := Relocate(plantest.Plan(t, "drill"), scenario(t), []Choice{{Instance: "forecast-host-1", Site: "vega"}, {Instance: "forecast-host-2", Site: "vega"}}, nil)
	require.NoError(t, err)
	lan := p.Resource("model-net@vega")
	require.NotNil(t, lan)
	vlan := lan.AsNetwork().VLAN
	assert.NotEmpty(t, vlan)
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Network && r.Site == "vega" && r.ID != lan.ID {
			assert.NotEqual(t, vlan, r.AsNetwork().VLAN, r.ID)
		}
	}
	for _, id := range []string{"forecast-port-1/plug", "forecast-port-2/plug"} {
		after := p.Step(id).After
		assert.Contains(t, after, "model-net@vega/create", id)
		assert.NotContains(t, after, "model-net@alisio-norte/create", id)
		assert.Equal(t, "plug into model-net", p.Step(id).Title)
	}
	assert.Contains(t, p.Step("forecast-port-3/plug").After, "model-net@alisio-norte/create", "the third stays")
	assert.NotNil(t, p.Resource("model-net@alisio-norte"))
}

// TestAnyRelocationIsADesign moves any workloads anywhere: what comes out is a plan in order, whose parts are where the
// workloads are and whose costs add up.
func TestAnyRelocationIsADesign(t *testing.T) {
	of := plantest.Plan(t, "storm-season")
	var hosts []string
	for _, r := range of.Resources {
		if r.Kind == kinds.Instance {
			hosts = append(hosts, r.ID)
		}
	}
	sites := []string{"vega", "alisio-norte", "alisio-sur", "tramonta", "presa"}
	rapid.Check(t, func(t *rapid.T) {
		var choices []Choice
		for _, id := range rapid.SliceOfNDistinct(rapid.SampledFrom(hosts), 1, 6, rapid.ID[string]).Draw(t, "hosts") {
			choices = append(choices, Choice{Instance: id, Site: rapid.SampledFrom(sites).Draw(t, id)})
		}
		p, err := Relocate(of, scenario(t), choices, nil)
		if err != nil {
			if strings.Contains(err.Error(), "already") || strings.Contains(err.Error(), "no room") || strings.Contains(err.Error(), "no size") {
				return
			}
			t.Fatal(err)
		}
		data, err := p.Write()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := plan.Read(data); err != nil {
			t.Fatalf("what comes out is no plan: %v", err)
		}
		var sum money.Amount
		for _, r := range p.Resources {
			sum += r.Costs()
			on := p.Resource(r.On)
			if r.Kind == kinds.Interface {
				on = p.Resource(r.AsInterface().Instance)
				if net := p.Resource(r.AsInterface().Network); net == nil || net.Site != r.Site {
					t.Fatalf("%s at %s is linked to %s", r.ID, r.Site, r.AsInterface().Network)
				}
			}
			if on != nil && on.Site != r.Site {
				t.Fatalf("%s is at %s and what it is on at %s", r.ID, r.Site, on.Site)
			}
		}
		if sum != p.CostPerHour {
			t.Fatalf("the parts cost %v, all %v", sum, p.CostPerHour)
		}
		for _, s := range p.Steps {
			if r := p.Resource(s.Resource); s.Site != r.Site {
				t.Fatalf("%s is done at %s, and its resource is at %s", s.ID, s.Site, r.Site)
			}
		}
	})
}

// standing is the drill as it stands, with what the sites told of one workload.
func standing(t *testing.T) change.Standing {
	t.Helper()
	p := plantest.Plan(t, "drill")
	out, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	out.Plan.Known = map[string]map[string]string{"contacts-port-1": {"address": "127.8.17.4", "port.5432": "5432", "mac": "02:00:5e:00:53:01"},
		"contacts-host-1": {"site.id": "vega-compute-1"}, "contacts-vol-1": {"site.id": "vega-storage-1"}}
	return out
}

func TestWhatWillBeOtherwiseIsSaid(t *testing.T) {
	stand, e := standing(t), scenario(t)
	to, err := Relocate(stand.Plan, e, []Choice{{Instance: "contacts-host-1", Site: "tramonta"}}, nil)
	require.NoError(t, err)
	said := map[string]Difference{}
	for _, d := range Differences(stand, to, e, []string{"contacts-host-1"}, change.Warm) {
		said[d.What] = d
	}
	assert.Equal(t, "127.8.17.4", said["address"].Here)
	assert.Equal(t, "the site's own, shared", said["address"].There)
	assert.Equal(t, "worse", said["port 5432"].Weight, "the network there maps ports")
	assert.Contains(t, said["port 5432"].Why, "service record")
	assert.Equal(t, "a new one", said["hardware address"].There)
	assert.Equal(t, "missing", said["feature encrypted-disks"].There)
	assert.Equal(t, "same site", said["distance to alert-dispatch 1"].Here)
	assert.Equal(t, "19 ms", said["distance to alert-dispatch 1"].There)
	assert.Equal(t, "worse", said["distance to alert-dispatch 1"].Weight)
	assert.Equal(t, "better", said["distance to alert-dispatch 2"].Weight, "that one is there already")
	assert.Contains(t, said["cost a month"].There, "cr")
	assert.NotContains(t, said, "host name", "what stays is not listed")
	assert.Empty(t, Differences(stand, stand.Plan, e, []string{"nobody"}, change.Warm))
}

func TestWhatIsNeededIsFound(t *testing.T) {
	p := plantest.Plan(t, "drill")
	needs := Needs(p, []string{"contacts-host-1", "dispatch-host-1", "forecast-host-1"})
	assert.Contains(t, needs["dispatch-host-1"], "contacts-host-1")
	assert.NotContains(t, slices.Collect(maps.Keys(needs)), "contacts-host-1", "what it needs is not among them")
}

// TestTheRunBookFollowsTheRun reads the run-book before, during and after.
func TestTheRunBookFollowsTheRun(t *testing.T) {
	stand, e := standing(t), scenario(t)
	to, err := Relocate(stand.Plan, e, []Choice{{Instance: "contacts-host-1", Site: "alisio-sur"}}, nil)
	require.NoError(t, err)
	move, _, err := change.Move(stand, to, change.Moving{Instances: []string{"contacts-host-1"}, Mode: change.Warm, Copying: plan.Copying{Await: true}}, "move")
	require.NoError(t, err)
	now := time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC)
	titles := func(book []Entry) (out []string) {
		for _, e := range book {
			out = append(out, e.Title)
		}
		return out
	}
	book := Book(move, nil, "contacts-host-1", now)
	assert.Equal(t, []string{"reserve size, network and disks", "first copy", "rounds of what changed", "cut over", "switch off"}, titles(book)[:5])
	assert.Equal(t, "when you say", book[3].Note)
	assert.Contains(t, titles(book), "give up 127.8.17.4")
	assert.Equal(t, "kept at vega, to go back to", book[len(book)-1].Title)

	s := run.New(move)
	seq := int64(0)
	say := func(kind run.EventKind, step string) {
		seq++
		s.Apply(run.Event{Seq: seq, At: now.Add(time.Duration(seq) * time.Second), Kind: kind, Step: step, Resource: resourceOf(move, step)})
	}
	say(run.RunStarted, "")
	assert.Equal(t, Waiting, PhaseOf(s, "contacts-host-1"))
	for _, step := range move.Steps {
		if step.Op == op.Replicate {
			break
		}
		say(run.StepStarted, step.ID)
		say(run.StepDone, step.ID)
	}
	assert.Equal(t, run.Standing, Book(move, s, "contacts-host-1", now)[0].Status)
	say(run.StepStarted, "contacts-host-1/replicate")
	assert.Equal(t, Copying, PhaseOf(s, "contacts-host-1"))
	say(run.StepDone, "contacts-host-1/replicate")
	say(run.StepStarted, "contacts-host-1/follow")
	assert.Equal(t, Following, PhaseOf(s, "contacts-host-1"))
	seq++
	s.Apply(run.Event{Seq: seq, At: now.Add(time.Hour), Kind: run.Judged, Step: "contacts-host-1/follow", Resource: "contacts-host-1",
		Attributes: map[string]string{"round": "3", "bytes": "100", "changing": "50", "bandwidth": "1000", "pause": "0.1"}})
	assert.Equal(t, Ready, PhaseOf(s, "contacts-host-1"))
	book = Book(move, s, "contacts-host-1", now.Add(time.Hour))
	assert.Equal(t, "round 3", book[2].Note)
	say(run.StepFailed, "contacts-host-1/follow")
	assert.Equal(t, Broken, PhaseOf(s, "contacts-host-1"))
}

func resourceOf(p *plan.Plan, step string) string {
	if s := p.Step(step); s != nil {
		return s.Resource
	}
	return ""
}

func TestBytesAreSaidInTheirUnit(t *testing.T) {
	for n, want := range map[float64]string{0: "0", 999: "999", 1000: "1 kB", 1500: "1.5 kB", 99_960_000: "100 MB", 168e6: "168 MB", 2.5e9: "2.5 GB", 3e12: "3 TB"} {
		assert.Equal(t, want, Bytes(n), fmt.Sprint(n))
	}
}
