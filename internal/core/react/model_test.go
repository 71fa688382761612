package react

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/core/promise"
)

// step is how often the world is looked at.
const step = 30 * time.Second

// world is a model of sites, hosts and machines as they really are, beside what sites and endpoints say of them. Runs take a while, and what is decided is done as a plan would.
type world struct {
	now      time.Time
	sites    []string
	hosts    []*worldHost
	machines map[string]*worldMachine
	tier     int // how many machines the tier is to have
	// silent are sites that do not answer until a time.
	silent map[string]time.Time
	// totals are what the tier used at each step.
	totals []measure.Point
	demand func(time.Time) float64
	// run is what goes on, and until when.
	run     func()
	runEnds time.Time
	lastRun time.Time
	builds  []string
}

type worldHost struct {
	site, name string
	up         bool
}

// worldMachine is one as it really is. What its site says of it, and whether it is reached, may differ from that for a while, but not both at once.
type worldMachine struct {
	id           string
	host         *worldHost
	exists, on   bool
	works        bool
	lie          promise.How
	lies, parted time.Time
}

// reached reports that a machine answers.
func (m *worldMachine) reached(now time.Time) bool {
	return m.exists && m.on && m.works && m.host.up && !m.parted.After(now)
}

func (m *worldMachine) serves() bool { return m.exists && m.on && m.works && m.host.up }

func newWorld(demand func(time.Time) float64) *world {
	w := &world{now: now, sites: []string{"vega", "alisio"}, machines: map[string]*worldMachine{}, tier: 2, silent: map[string]time.Time{}, demand: demand}
	for _, s := range w.sites {
		for i := range 3 {
			w.hosts = append(w.hosts, &worldHost{s, fmt.Sprintf("%s-host-%d", s, i), true})
		}
	}
	for i := range w.tier {
		w.build(fmt.Sprintf("m-%d", i+1), w.hosts[i])
	}
	return w
}

// build makes a machine. Whatever there is of the same name, anywhere, must not be there: it would be a second one.
func (w *world) build(id string, on *worldHost) {
	if was := w.machines[id]; was != nil && was.exists && was.host.up {
		panic("a second copy of " + id)
	}
	w.builds = append(w.builds, id)
	w.machines[id] = &worldMachine{id: id, host: on, exists: true, on: true, works: true}
}

// free is a host of a site that is up, other than those.
func (w *world) free(sites []string) *worldHost {
	for _, h := range w.hosts {
		if h.up && slices.Contains(sites, h.site) {
			return h
		}
	}
	return nil
}

func (w *world) ids() (out []string) {
	for id := range w.machines {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// see is what is known at this moment.
func (w *world) see(leastAfter time.Duration) *Situation {
	s := &Situation{LastRun: w.lastRun}
	if w.run != nil {
		s.Busy = "a run is under way"
	}
	serving := 0
	for _, id := range w.ids() {
		m := w.machines[id]
		site := m.host.site
		x := promise.Sight{Machine: id, Tried: true, Answered: m.reached(w.now), Asked: !w.silent[site].After(w.now), Has: m.exists && m.host.up, On: m.on, Off: !m.on}
		switch {
		case !m.lies.After(w.now):
		case m.lie == promise.FellGone:
			x.Has = false
		case m.lie == promise.FellOff:
			x.Has, x.On, x.Off = true, false, true
		default:
			x.Has, x.On, x.Off = true, true, false
		}
		s.Sights = append(s.Sights, x)
		if m.serves() {
			serving++
		}
	}
	each := 0.0
	if serving > 0 {
		each = min(w.demand(w.now)/float64(serving), 2)
	}
	used := 0.0
	for _, id := range w.ids() {
		m := w.machines[id]
		known := m.serves() && !w.silent[m.host.site].After(w.now)
		s.Machines = append(s.Machines, Machine{ID: id, Node: "m", Site: m.host.site, Host: m.host.name, Load: each, Cores: 2, Known: known})
		if m.serves() {
			used += each
		}
	}
	w.totals = append(w.totals, measure.Point{At: w.now, Mean: used, N: 1})
	t := &Tier{Node: "m", Count: w.tier, Lead: 2 * time.Minute, Load: Foresee(w.totals[max(0, len(w.totals)-50):], nil, w.now, 2*time.Minute, leastAfter)}
	t.Load.Each = 2
	for i := range s.Machines {
		if s.Machines[i].Known {
			t.Load.Of++
		}
	}
	s.Tiers = map[string]*Tier{"m": t}
	for _, h := range w.hosts {
		x := Host{Site: h.site, Name: h.name, Cores: 4}
		gone, of := 0, 0
		for _, id := range w.ids() {
			if m := w.machines[id]; m.host == h {
				of++
				if m.serves() {
					x.Used += each
				} else {
					gone++
				}
			}
		}
		if h.up {
			s.Hosts = append(s.Hosts, x)
		}
		if of > 0 && gone == of && !w.silent[h.site].After(w.now) {
			s.Alerts = append(s.Alerts, alarm.Alert{Rank: "host", Name: h.name, Site: h.site, Severity: alarm.Critical})
		}
	}
	for _, site := range w.sites {
		if w.silent[site].After(w.now) {
			a := slow(site)
			a.Alarms[0].Measure = measure.SiteAnswers
			s.Alerts = append(s.Alerts, a)
		}
	}
	return s
}

// carry begins what was decided, as a plan that takes two minutes.
func (w *world) carry(d Decision) {
	w.runEnds = w.now.Add(2 * time.Minute)
	w.run = func() {
		switch d.Do {
		case Raising:
			for _, f := range d.Falls {
				w.raise(f)
			}
		case Elsewhere:
			for _, id := range d.Machines {
				m := w.machines[id]
				if h := w.free(slices.DeleteFunc(slices.Clone(w.sites), func(s string) bool { return slices.Contains(d.Not, s) || w.silent[s].After(w.now) })); h != nil {
					if m.exists && m.host.up { // the plan takes away what is there before it builds
						m.exists = false
					}
					w.build(id, h)
				}
			}
		case Spreading:
			for _, h := range w.hosts {
				if h.name == d.Host && h.up {
					m := w.machines[d.Machines[0]]
					m.exists = false
					w.build(m.id, h)
				}
			}
		case Scaling:
			for w.tier < d.Count {
				w.tier++
				if h := w.free(w.sites); h != nil {
					w.build(fmt.Sprintf("m-%d", w.tier), h)
				}
			}
			for w.tier > d.Count {
				delete(w.machines, fmt.Sprintf("m-%d", w.tier))
				w.tier--
			}
		}
	}
}

// raise does what a plan would about one machine: a site that has it is not asked to build it.
func (w *world) raise(f promise.Fall) {
	m := w.machines[f.Machine]
	if m == nil || w.silent[m.host.site].After(w.now) {
		return
	}
	switch f.How {
	case promise.FellOff:
		m.on = true
	case promise.FellSilent:
		m.on, m.works = true, true
	case promise.FellGone:
		if m.host.up {
			w.build(m.id, m.host)
		}
	}
}

func (w *world) step(all []*Reaction, states []*State) (Decision, bool) {
	w.now = w.now.Add(step)
	if w.run != nil && !w.runEnds.After(w.now) {
		w.run()
		w.run, w.lastRun = nil, w.now
	}
	which, d := Step(all, states, w.see(10*time.Minute), w.now)
	if which < 0 {
		return d, false
	}
	states[which].Note(&d, w.now)
	if d.Mode == Do {
		w.carry(d)
	}
	return d, true
}

// fault has something go wrong, now and then truly, now and then only as somebody says.
func (w *world) fault(t *rapid.T) {
	ids := w.ids()
	m := w.machines[rapid.SampledFrom(ids).Draw(t, "machine")]
	lasts := time.Duration(rapid.IntRange(1, 40).Draw(t, "minutes")) * time.Minute
	switch rapid.IntRange(0, 7).Draw(t, "fault") {
	case 0:
		m.exists = false
	case 1, 2:
		if m.lies.After(w.now) { // else both sides were wrong at once, which nobody could tell from the truth
			return
		}
		m.on, m.works = m.on && rapid.Bool().Draw(t, "off"), false
	case 3, 4:
		if m.serves() && !m.parted.After(w.now) {
			m.lie, m.lies = rapid.SampledFrom([]promise.How{promise.FellGone, promise.FellOff, promise.FellSilent}).Draw(t, "lie"), w.now.Add(lasts)
		}
	case 5:
		if !m.lies.After(w.now) {
			m.parted = w.now.Add(lasts)
		}
	case 6:
		w.silent[m.host.site] = w.now.Add(lasts)
	case 7:
		m.host.up = false
		for _, x := range w.machines {
			if x.host == m.host {
				x.exists = false
			}
		}
	}
}

// rules draws a set of reactions.
func rules(t *rapid.T) []*Reaction {
	least := rapid.IntRange(1, 2).Draw(t, "least")
	text := fmt.Sprintf(`version: andamio.reactions/1
reactions:
- { name: fell, mode: do, raise: { after: %ds, rebuild: %t, elsewhere: %t }, tries: %d }
- { name: load, mode: do, cool_down: %dm, scale: { tier: m, use: %d%%, least: %d, most: %d } }
- { name: even, mode: do, spread: { above: %d%%, apart: %d%%, after: %dm } }
`, rapid.IntRange(30, 300).Draw(t, "after"), rapid.Bool().Draw(t, "rebuild"), rapid.Bool().Draw(t, "elsewhere"), rapid.IntRange(2, 20).Draw(t, "tries"),
		rapid.IntRange(2, 20).Draw(t, "cool"), rapid.IntRange(20, 90).Draw(t, "use"), least, least+rapid.IntRange(1, 8).Draw(t, "more"),
		rapid.IntRange(20, 90).Draw(t, "above"), rapid.IntRange(10, 60).Draw(t, "apart"), rapid.IntRange(1, 20).Draw(t, "for"))
	f, err := Read([]byte(text))
	require.NoError(t, err)
	all, err := f.For(nobody)
	require.NoError(t, err)
	return slices.DeleteFunc(all, func(*Reaction) bool { return rapid.IntRange(0, 4).Draw(t, "without") == 0 })
}

// TestNoRuleSetMakesTwoCopiesOrOscillates holds that whatever sites say or do not say no machine is there twice, that bounds are kept, that every act has its reason, and that once nothing goes wrong any
// more and the load stays as it is nothing is done any more.
func TestNoRuleSetMakesTwoCopiesOrOscillates(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := rules(t)
		states := make([]*State, len(all))
		for i := range states {
			states[i] = &State{}
		}
		base, swing, noise := rapid.Float64Range(0, 8).Draw(t, "base"), rapid.Float64Range(0, 6).Draw(t, "swing"), rapid.Float64Range(0, 0.05).Draw(t, "noise")
		hours := rapid.IntRange(1, 5).Draw(t, "hours")
		end := now.Add(time.Duration(hours) * time.Hour)
		w := newWorld(func(at time.Time) float64 {
			if at.After(end) { // what is left is a load that stays as it is, but for noise
				at = end
				return max(base+swing*math.Sin(float64(at.Unix())/3000), 0) * (1 + noise*math.Sin(float64(w0(at))))
			}
			return max(base+swing*math.Sin(float64(at.Unix())/3000), 0) * (1 + noise*math.Sin(float64(at.Unix())))
		})
		every := rapid.IntRange(20, 400).Draw(t, "every")
		acts := map[string][]time.Time{}
		note := func(d Decision) {
			require.NotEmpty(t, d.Why)
			acts[string(d.Do)] = append(acts[string(d.Do)], w.now)
			if d.Do == Scaling {
				c := byName(all, "load").Scale
				require.True(t, d.Count >= c.Least && (d.Count <= c.Most || d.Count < d.From), "%v", d)
			}
		}
		for i := 0; w.now.Before(end); i++ {
			if i%every == every-1 && len(w.ids()) > 0 {
				w.fault(t)
			}
			if d, does := w.step(all, states); does {
				note(d)
			}
			for j, r := range all {
				require.LessOrEqual(t, len(states[j].Acts), r.Tries)
			}
		}
		for _, h := range w.hosts { // all hosts are mended, and all lies are over
			h.up = true
		}
		clear(w.silent)
		for _, m := range w.machines {
			m.lies, m.parted = time.Time{}, time.Time{}
		}
		for stop := w.now.Add(4 * time.Hour); w.now.Before(stop); {
			w.step(all, states)
		}
		before := len(w.builds)
		n := w.tier
		for stop := w.now.Add(2 * time.Hour); w.now.Before(stop); {
			d, does := w.step(all, states)
			require.False(t, does, "%s: %s, though nothing has changed for 4 hours", d.Do, d.Why)
		}
		require.Equal(t, before, len(w.builds))
		require.Equal(t, n, w.tier)
	})
}

// w0 is a moment as a number, the same whenever it is asked.
func w0(at time.Time) int64 { return at.Unix() }

func byName(all []*Reaction, name string) *Reaction {
	for _, r := range all {
		if r.Name == name {
			return r
		}
	}
	return nil
}

// TestAStreamOfLossesIsHealed holds that whatever is lost comes back unattended within the tries that were given, and that a person is called where it does not.
func TestAStreamOfLossesIsHealed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f, err := Read([]byte("version: andamio.reactions/1\nreactions:\n- { name: fell, mode: do, raise: { after: 1m, rebuild: true, elsewhere: true }, tries: 20 }\n"))
		require.NoError(t, err)
		all, states := []*Reaction{&f.Reactions[0]}, []*State{{}}
		w := newWorld(func(time.Time) float64 { return 1 })
		for range rapid.IntRange(1, 12).Draw(t, "losses") {
			m := w.machines[rapid.SampledFrom(w.ids()).Draw(t, "machine")]
			switch rapid.IntRange(0, 3).Draw(t, "loss") {
			case 0:
				m.exists = false
			case 1:
				m.on = false
			case 2:
				m.works = false
			case 3:
				if m.host.site == "vega" { // at the other site it would be the only way
					m.host.up, m.exists = false, false
				}
			}
			for range 20 * time.Minute / step {
				w.step(all, states)
			}
			for _, m := range w.machines {
				require.True(t, m.serves() || !states[0].Called.IsZero(), "%s is down, and nobody was called: %s", m.id, states[0].Says)
			}
		}
		require.True(t, states[0].Called.IsZero(), "what could be healed was: %s", states[0].CalledFor)
		for _, a := range states[0].Acts {
			require.NotEmpty(t, a.Why)
		}
	})
}
