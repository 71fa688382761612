package migrate

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/golden"
)

// summed holds sums of what is worked out. Where one is another, SHOW_MOVE=NAME writes that out, to be compared with what it was before.
type summed struct {
	*testing.T
	out strings.Builder
}

func (s *summed) hold(name string, of any) {
	text, is := of.(string)
	if !is {
		data, err := json.MarshalIndent(of, "", " ")
		require.NoError(s, err)
		text = string(data)
	}
	if os.Getenv("SHOW_MOVE") == name {
		s.Log(text)
	}
	fmt.Fprintf(&s.out, "%s: %s\n", name, golden.Sum(text))
}

// ways are how a workload may be chosen to be somewhere.
func ways(instance string, site *estate.Site) []Choice {
	at := Choice{Instance: instance, Site: site.Name}
	out := []Choice{at}
	vary := func(change func(*Choice)) {
		c := at
		change(&c)
		out = append(out, c)
	}
	vary(func(c *Choice) { c.Address, c.KeepMAC, c.Hostname = keepAddress, true, "elsewhere" })
	vary(func(c *Choice) { c.Address, c.MAC, c.Class = "10.9.8.7", "02:00:5e:00:53:aa", "fast" })
	vary(func(c *Choice) { c.Zone, c.Size, c.Network = "nowhere", "huge", "none" })
	for _, z := range site.Zones {
		vary(func(c *Choice) { c.Zone = z.Name })
		for _, h := range z.Hosts {
			vary(func(c *Choice) { c.Host = h.Name })
			vary(func(c *Choice) { c.Zone, c.Host = z.Name, h.Name })
		}
	}
	for _, z := range site.Sizes {
		vary(func(c *Choice) { c.Size = z.Name })
	}
	for _, c := range site.Storage {
		vary(func(x *Choice) { x.Class = c.Name })
	}
	return out
}

// TestEveryMoveIsAsItWas relocates every workload of the scenario to every site in every way that it can be chosen to be there, with what will be otherwise, and moves each in every mode.
func TestEveryMoveIsAsItWas(t *testing.T) {
	t.Parallel()
	x := &summed{T: t}
	for _, preset := range []string{"drill", "storm-season"} {
		p := plantest.Plan(t, preset)
		stand, err := change.Done(change.Nothing(p), p)
		require.NoError(t, err)
		for _, r := range p.Resources {
			if r.Kind != kinds.Instance || preset != "drill" && !strings.HasSuffix(r.ID, "-1") {
				continue
			}
			stand.Plan.Known[r.ID+".if"] = map[string]string{"address": "127.8.17.4", "port.5432": "5432", "mac": "02:00:5e:00:53:01"}
			for _, s := range scenario(t).Sites {
				for i, c := range ways(r.ID, s) {
					e := scenario(t)
					to, err := Relocate(stand.Plan, e, []Choice{c}, stand.Plan.Known)
					if err != nil {
						x.hold(fmt.Sprintf("%s %s %s %d refused", preset, r.ID, s.Name, i), err.Error())
						continue
					}
					all := []any{to, Differences(stand, to, e, []string{r.ID}, change.Warm), Needs(to, []string{r.ID})}
					if i == 0 {
						for _, mode := range []change.Mode{change.Cold, change.Warm, change.Live} {
							move, _, err := change.Move(stand, to, change.Moving{Instances: []string{r.ID}, Mode: mode}, "move")
							require.NoError(t, err)
							all = append(all, Down(move), WithinWindow(move), DownWith(move, r.ID, 7), Differences(stand, to, e, []string{r.ID}, mode))
						}
					}
					x.hold(fmt.Sprintf("%s %s %s %d", preset, r.ID, s.Name, i), all)
				}
			}
		}
	}
	golden.Is(t, "testdata/moves.txt", x.out.String())
}

// TestWhatIsForeseenIsAsItWas works out how copying goes under many loads, into which windows it fits, and in which waves and when many workloads are moved.
func TestWhatIsForeseenIsAsItWas(t *testing.T) {
	t.Parallel()
	x := &summed{T: t}
	r := rand.New(rand.NewPCG(7, 8))
	one := func(of ...float64) float64 { return of[r.IntN(len(of))] }
	now := time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)
	var windows []plan.Window
	for range 5 {
		from := now.Add(time.Duration(r.IntN(600)-60) * time.Minute)
		windows = append(windows, plan.Window{From: from, To: from.Add(time.Duration(1+r.IntN(90)) * time.Minute)})
	}
	slices.SortFunc(windows, func(a, b plan.Window) int { return a.From.Compare(b.From) })
	for n := range 200 {
		l := Load{Used: int64(one(0, 1e6, 5e9, 3e11)), Size: int64(one(1e9, 1e10, 4e11)), Rate: one(0, 1e3, 1e6, 9e7, 2e8), Set: int64(one(0, 1e6, 1e9)), Bandwidth: one(0, 1e6, 1e8, 1e9), Squeeze: one(0, 0.3, 1, 2), Mode: []change.Mode{change.Cold, change.Warm, change.Live}[n%3],
			Pause: one(0, 0.5, 30), Stop: one(0, 3), Start: one(0, 20), Consolidate: n%2 == 0, Merge: one(0, 1e7, 1e9)}
		f := Predict(l)
		text := fmt.Sprintf("%+v\n%+v\n", l, f)
		for _, w := range [][]plan.Window{nil, windows[:1], windows} {
			text += fmt.Sprintf("%+v\n", FitInto(w, now, f.Total))
		}
		x.hold(fmt.Sprintf("load %d", n), text)
	}
	for n := range 100 {
		var all []Candidate
		var names []string
		for i := range 1 + r.IntN(9) {
			c := Candidate{Instance: fmt.Sprint("w", i), Way: fmt.Sprint(r.IntN(3)), Seconds: one(60, 600, 3000), Down: one(0, 5, 50)}
			for _, o := range names {
				if r.IntN(5) == 0 {
					c.Needs = append(c.Needs, o)
				}
			}
			if r.IntN(6) == 0 {
				c.Needs = append(c.Needs, "w8")
			}
			names, all = append(names, c.Instance), append(all, c)
		}
		var groups [][]string
		if r.IntN(2) == 0 && len(names) > 2 {
			groups = append(groups, []string{names[0], names[r.IntN(len(names))]}, []string{names[1], names[2]})
		}
		waves := Waves(all, groups, one(0, 900, 4000))
		x.hold(fmt.Sprintf("waves %d", n), []any{waves, Schedule(waves, windows, now), Schedule(waves, nil, now), Schedule(waves, windows[:1], now.Add(time.Hour))})
	}
	golden.Is(t, "testdata/foreseen.txt", x.out.String())
}

// TestWhatCannotBeRelocatedIsSaid asks for what is not there and cannot be.
func TestWhatCannotBeRelocatedIsSaid(t *testing.T) {
	t.Parallel()
	p, e := plantest.Plan(t, "drill"), scenario(t)
	gone := scenario(t)
	gone.Sites = slices.DeleteFunc(gone.Sites, func(s *estate.Site) bool { return s.Name == p.Resource("contacts-host-1").Site })
	service := plantest.Plan(t, "drill")
	plan.Respec(service.Resource("contacts-host-1"), func(s *plan.InstanceSpec) { s.Appliance = "load_balancer" })
	for _, c := range []struct {
		of   *plan.Plan
		e    *estate.Estate
		to   Choice
		says string
	}{
		{p, e, Choice{Instance: "nobody", Site: "vega"}, "no such instance"},
		{p, e, Choice{Instance: "contacts-vol-1", Site: "vega"}, "no such instance"},
		{p, e, Choice{Instance: "contacts-host-1", Site: "moon"}, "the site moon is not connected"},
		{p, gone, Choice{Instance: "contacts-host-1", Site: "alisio-sur"}, "where it is, is not connected"},
		{p, e, Choice{Instance: "contacts-host-1", Site: p.Resource("contacts-host-1").Site}, "it is there already"},
		{service, e, Choice{Instance: "contacts-host-1", Site: "alisio-sur"}, "runs itself, and has no disks that could be copied"},
	} {
		_, err := Relocate(c.of, c.e, []Choice{c.to}, nil)
		require.ErrorContains(t, err, c.says)
	}
}
