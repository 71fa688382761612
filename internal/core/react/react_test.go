package react

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/alarm"
	"andamio/internal/core/condition"
	"andamio/internal/core/measure"
	"andamio/internal/core/money"
	"andamio/internal/core/promise"
)

const text = `version: andamio.reactions/1
zone: Europe/Madrid
reactions:
- name: what fell
  raise: { after: 1m, rebuild: true, elsewhere: true }
  mode: do
- name: map by load
  when: '"map" in deployment.services'
  scale:
    tier: map
    use: 50%
    least: 2
    most: 6
    hours: [{ name: morning, rule: FREQ=DAILY, at: "07:00", for: 2h, least: 4 }]
  mode: do
  quiet: [{ name: night, rule: FREQ=DAILY, at: "23:00", for: 6h }]
  budget: 500
- name: hosts
  spread: { above: 70%, apart: 20%, after: 5m }
- name: off a bad site
  leave: {}
`

func read(t testing.TB, text string) *File {
	f, err := Read([]byte(text))
	require.NoError(t, err)
	return f
}

func TestAFileOfReactionsIsReadWithWhatHoldsWhereNothingIsSaid(t *testing.T) {
	f := read(t, text)
	require.Len(t, f.Reactions, 4)
	assert.Equal(t, []int{4, 7, 18, 20}, []int{f.Reactions[0].Line, f.Reactions[1].Line, f.Reactions[2].Line, f.Reactions[3].Line})
	assert.Equal(t, "raises what fell after 1m, builds again what is gone, elsewhere where it has to", f.Reactions[0].Words())
	assert.Equal(t, "has 2 to 6 machines of map, so that 50% of their cores is used", f.Reactions[1].Words())
	assert.Equal(t, "evens hosts out that are above 70% and 20% apart (proposed)", f.Reactions[2].Words())
	assert.Equal(t, "moves off a site that is in trouble for 15m (proposed)", f.Reactions[3].Words())
	assert.Equal(t, 48, f.Reactions[1].Tries)
	assert.Equal(t, 3, f.Reactions[2].Tries)
	assert.Equal(t, 2*time.Minute, f.Reactions[0].coolDown)
	assert.Equal(t, 10*time.Minute, f.Reactions[1].coolDown)
}

func TestMistakesOfAFileAreSaidWithTheirLines(t *testing.T) {
	one := func(body string) string {
		return "version: andamio.reactions/1\nreactions:\n- name: x\n  " + strings.ReplaceAll(body, "\n", "\n  ") + "\n"
	}
	for body, says := range map[string]string{
		`mode: do`:                     "line 3, \"x\": it is one of raise, scale, spread and leave",
		"raise: {}\nspread: {}":        "one of raise, scale",
		"raise: {}\nmode: maybe":       `mode: it is propose or do, not "maybe"`,
		"raise: { after: 1s }":         "raise.after: it is between 10s and 1d, not 1s",
		"raise: { after: soon }":       "raise.after",
		"leave: { after: 30h }":        "leave.after",
		"spread: { after: 1s }":        "spread.after",
		"spread: { above: 700% }":      `spread.above: "700%" is no share`,
		"spread: { apart: wide }":      `spread.apart: "wide" is no share`,
		"raise: {}\ntries: 900":        "tries: between 1 and 200 times a day",
		"raise: {}\ntries: -1":         "tries: between",
		"raise: {}\ncool_down: 90h":    "cool_down: it is between",
		"raise: {}\nbudget: -4":        "budget: it is an amount a month",
		"raise: {}\nwhen: deployment.": "when: ",
		"raise: {}\nquiet: [{ name: n, rule: FREQ=NEVER, at: '01:00', for: 1h }]":                                                               "quiet[0]: rule",
		"raise: {}\nquiet: [{ name: n, rule: FREQ=DAILY, at: '01:00', for: 1h, when: 'true' }]":                                                 "quiet[0]: when belongs to the reaction",
		"scale: { use: 50%, least: 1, most: 2 }":                                                                                                "scale.tier: say which",
		"scale: { tier: a, use: '50', least: 1, most: 2 }":                                                                                      `scale.use: "50" is no share`,
		"scale: { tier: a, use: 99%, least: 1, most: 2 }":                                                                                       "scale.use",
		"scale: { tier: a, use: 50%, least: 0, most: 2 }":                                                                                       "least is 1 or more",
		"scale: { tier: a, use: 50%, least: 3, most: 2 }":                                                                                       "between 3 and 2 is nothing",
		"scale: { tier: a, use: 50%, least: 3, most: 2000 }":                                                                                    "at most 1000",
		"scale: { tier: a, use: 50%, least: 1, most: 2, measure: disk }":                                                                        "scale.measure: it is cores or memory",
		"scale: { tier: a, use: 50%, least: 1, most: 2, hours: [{ name: n, rule: FREQ=DAILY, at: '01:00', for: 1h, least: 3 }] }":               "scale.hours[0]: least is between 1 and most, not 3",
		"scale: { tier: a, use: 50%, least: 1, most: 2, hours: [{ name: n, rule: FREQ=DAILY, at: '1', for: 1h, least: 2 }] }":                   "scale.hours[0]: at",
		"scale: { tier: a, use: 50%, least: 1, most: 2, hours: [{ name: n, rule: FREQ=DAILY, at: '01:00', for: 1h, least: 2, when: 'true' }] }": "scale.hours[0]: when belongs",
		"raise: {}\n- name: x\n  leave: {}":                                                                                                     "",
	} {
		_, err := Read([]byte(one(body)))
		if says == "" {
			continue
		}
		require.ErrorContains(t, err, says, body)
		require.ErrorContains(t, err, "line 3", body)
	}
	for body, says := range map[string]string{
		"version: andamio.reactions/2": "version", "version: andamio.reactions/1\nzone: Nowhere/Land": "zone", "reactions: 3": "these are no reactions",
		"version: andamio.reactions/1\nreactions:\n- name: a\n  raise: {}\n- name: a\n  leave: {}": "line 5, \"a\": another in line 3 has the same name",
		"version: andamio.reactions/1\nreactions:\n- name: A b\n  raise: {}":                       "is no name",
		"version: andamio.reactions/1\nreactions:\n- name: a\n  heal: {}":                          "heal",
	} {
		_, err := Read([]byte(body))
		require.ErrorContains(t, err, says, body)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(text))
	f.Add([]byte("version: andamio.reactions/1\nreactions: [{}]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := Read(data)
		if err != nil {
			return
		}
		for i := range file.Reactions {
			r := &file.Reactions[i]
			Decide(r, &State{}, &Situation{}, time.Unix(1e9, 0))
			assert.NotEmpty(t, r.Words())
		}
	})
}

func TestOfTwoThatSeeToTheSameTheFirstCounts(t *testing.T) {
	f := read(t, `version: andamio.reactions/1
reactions:
- { name: a, raise: {}, when: deployment.stage == "trial" }
- { name: b, raise: {} }
- { name: c, scale: { tier: x, use: 50%, least: 1, most: 2 } }
- { name: d, scale: { tier: x, use: 60%, least: 1, most: 4 } }
- { name: e, scale: { tier: y, use: 60%, least: 1, most: 4 } }
- { name: f, leave: {} }
- { name: g, spread: {} }
`)
	names := func(stage string) (out []string) {
		all, err := f.For(&condition.Subject{Stage: stage})
		require.NoError(t, err)
		for _, r := range all {
			out = append(out, r.Name)
		}
		return out
	}
	assert.Equal(t, []string{"a", "c", "e", "f", "g"}, names("trial"))
	assert.Equal(t, []string{"b", "c", "e", "f", "g"}, names("live"))
	wrong := read(t, "version: andamio.reactions/1\nreactions:\n- { name: a, raise: {}, when: deployment.size > 1 }\n")
	_, err := wrong.For(&condition.Subject{})
	require.ErrorContains(t, err, "line 3, \"a\": when: ")
}

var now = time.Date(2027, 3, 2, 12, 0, 0, 0, time.UTC)

func down(machine string, how promise.How, tried bool) promise.Sight {
	s := promise.Sight{Machine: machine, Asked: true, Tried: tried}
	switch how {
	case promise.FellOff:
		s.Has, s.Off = true, true
	case promise.FellSilent:
		s.Has, s.On = true, true
	}
	return s
}

// twice decides now and again after a while, as what was seen has to last.
func twice(r *Reaction, st *State, s Situation, after time.Duration) Decision {
	Decide(r, st, &s, now)
	return Decide(r, st, &s, now.Add(after))
}

func TestWhatFellIsRaisedByWhatIsSeenFromTwoSides(t *testing.T) {
	r := &read(t, text).Reactions[0]
	machines := []Machine{{ID: "a", Site: "vega", Zone: "z", Host: "h1"}, {ID: "b", Site: "vega", Zone: "z", Host: "h2", Disks: true}}
	host := []alarm.Alert{{Rank: "host", Name: "h1", Site: "vega", Severity: alarm.Critical}, {Rank: "host", Name: "h2", Site: "vega", Severity: alarm.Critical}}
	for name, c := range map[string]struct {
		sights []promise.Sight
		alerts []alarm.Alert
		acts   []Act
		do     Doing
		mode   Mode
		on     []string
		why    string
		holds  string
		called string
	}{
		"off":                {sights: []promise.Sight{down("a", promise.FellOff, true)}, do: Raising, mode: Do, on: []string{"a"}, why: "a is off since 12:00:00"},
		"silent":             {sights: []promise.Sight{down("a", promise.FellSilent, true)}, do: Raising, mode: Do, on: []string{"a"}, why: "a is silent"},
		"gone":               {sights: []promise.Sight{down("a", promise.FellGone, true)}, do: Raising, mode: Do, on: []string{"a"}, why: "a is gone"},
		"gone, by one side":  {sights: []promise.Sight{down("a", promise.FellGone, false)}, do: Raising, mode: Propose, on: []string{"a"}, why: "nobody but its site can tell"},
		"its site is silent": {sights: []promise.Sight{{Machine: "a", Tried: true}}},
		"it answers":         {sights: []promise.Sight{{Machine: "a", Asked: true, Tried: true, Answered: true}}},
		"on, and not asked":  {sights: []promise.Sight{{Machine: "a", Asked: true, Has: true, On: true}}},
		"its host is down":   {sights: []promise.Sight{down("a", promise.FellGone, true)}, alerts: host, do: Elsewhere, mode: Do, on: []string{"a"}, why: "host h1 is down"},
		"host, by one side":  {sights: []promise.Sight{down("a", promise.FellGone, false)}, alerts: host, do: Elsewhere, mode: Propose, on: []string{"a"}},
		"off, host is down":  {sights: []promise.Sight{down("a", promise.FellOff, true)}, alerts: host, do: Raising, mode: Do, on: []string{"a"}},
		"it has disks":       {sights: []promise.Sight{down("b", promise.FellGone, true)}, alerts: host, holds: "b has disks", called: "b has disks, which would be empty elsewhere"},
		"in vain": {sights: []promise.Sight{down("a", promise.FellSilent, true)}, acts: []Act{{Do: Raising, On: []string{"a"}, At: now.Add(-40 * time.Minute)}, {Do: Raising, On: []string{"a"}, At: now.Add(-20 * time.Minute)}},
			do: Elsewhere, mode: Do, on: []string{"a"}, why: "raising it there did not help"},
		"it had helped": {sights: []promise.Sight{down("a", promise.FellSilent, true)}, acts: []Act{{Do: Raising, On: []string{"a"}, At: now.Add(-4 * time.Hour)}, {Do: Raising, On: []string{"a"}, At: now.Add(-20 * time.Minute)}},
			do: Raising, mode: Do, on: []string{"a"}},
		"too often": {sights: []promise.Sight{down("a", promise.FellOff, true)}, acts: []Act{{At: now.Add(-5 * time.Hour)}, {At: now.Add(-3 * time.Hour)}, {At: now.Add(-2 * time.Hour)}},
			holds: "3 times within a day already", called: "3 times within a day already"},
		"others than what has disks": {sights: []promise.Sight{down("b", promise.FellGone, true), down("a", promise.FellOff, true)}, alerts: host, do: Raising, mode: Do, on: []string{"a"}},
		"surely before unsurely":     {sights: []promise.Sight{down("a", promise.FellGone, false), down("b", promise.FellOff, true)}, do: Raising, mode: Do, on: []string{"b"}},
		"elsewhere before here":      {sights: []promise.Sight{down("a", promise.FellGone, true), down("b", promise.FellOff, true)}, alerts: host, do: Elsewhere, mode: Do, on: []string{"a"}},
		"long ago":                   {sights: []promise.Sight{down("a", promise.FellOff, true)}, acts: []Act{{At: now.Add(-25 * time.Hour)}, {At: now.Add(-25 * time.Hour)}, {At: now.Add(-25 * time.Hour)}}, do: Raising, mode: Do, on: []string{"a"}},
		"just done":                  {sights: []promise.Sight{down("a", promise.FellOff, true)}, acts: []Act{{At: now}}, holds: "it is left alone until 12:02:00"},
	} {
		t.Run(name, func(t *testing.T) {
			st := &State{Acts: c.acts}
			d := twice(r, st, Situation{Sights: c.sights, Machines: machines, Alerts: c.alerts}, time.Minute)
			assert.Equal(t, c.do, d.Do)
			assert.Equal(t, c.on, d.Machines)
			assert.Contains(t, d.Why, c.why)
			assert.Contains(t, d.Holds, c.holds)
			if c.do != "" {
				assert.Equal(t, c.mode, d.Mode)
				assert.Empty(t, d.Holds)
			}
			if c.do == Elsewhere {
				assert.Equal(t, []string{"vega"}, d.Not)
			}
			assert.Equal(t, c.called != "", !st.Called.IsZero())
			assert.Contains(t, st.CalledFor, c.called)
			if c.holds == "" && c.do == "" {
				assert.Empty(t, d.Holds)
				assert.True(t, st.Since.IsZero())
			}
		})
	}
}

func TestWhatIsGoneIsNotBuiltWhereThatWasNotSaid(t *testing.T) {
	r := &read(t, "version: andamio.reactions/1\nreactions: [{ name: x, raise: { after: 1m }, mode: do }]").Reactions[0]
	st := &State{}
	s := Situation{Sights: []promise.Sight{down("a", promise.FellGone, true)}, Machines: []Machine{{ID: "a"}}}
	assert.Empty(t, twice(r, st, s, 30*time.Second).Do, "for less than was said")
	assert.True(t, st.Called.IsZero())
	d := Decide(r, st, &s, now.Add(time.Minute))
	assert.Empty(t, d.Do)
	assert.Contains(t, st.CalledFor, "not built again by this reaction")
	s.Sights = append(s.Sights, down("b", promise.FellOff, true))
	Decide(r, st, &s, now.Add(2*time.Minute))
	d = Decide(r, st, &s, now.Add(3*time.Minute))
	assert.Equal(t, []string{"b"}, d.Machines, "what fell beside it is raised meanwhile")
	assert.False(t, st.Called.IsZero())
	s.Sights = nil
	Decide(r, st, &s, now.Add(4*time.Minute))
	assert.True(t, st.Called.IsZero(), "once all is well nobody is called any more")
	assert.Empty(t, st.CalledFor)
}

func TestARunIsNotDisturbed(t *testing.T) {
	for i, s := range []Situation{
		{Sights: []promise.Sight{down("a", promise.FellOff, true)}, Machines: []Machine{{ID: "a"}}},
		{Tiers: map[string]*Tier{"map": {Node: "map", Count: 1}}},
		spreadable(),
		{Alerts: []alarm.Alert{slow("vega")}, Machines: []Machine{{ID: "a", Site: "vega"}}},
	} {
		r, st := &read(t, text).Reactions[i], &State{}
		require.NotEmpty(t, twice(r, st, s, time.Hour).Do, r.Name)
		busy := s
		busy.Busy = "run 4 is under way"
		st.Called = now
		d := twice(r, st, busy, time.Hour)
		assert.Empty(t, d.Do, r.Name)
		assert.False(t, st.Called.IsZero(), "what is not known to be well is not")
		if i > 0 {
			assert.Contains(t, d.Holds, "run 4 is under way", r.Name)
		}
		s.LastRun = now.Add(time.Hour - time.Second)
		d = twice(r, &State{}, s, time.Hour)
		assert.Contains(t, d.Holds, "left alone until", r.Name)
	}
}

func tier(count int, used float64) Situation {
	return Situation{Tiers: map[string]*Tier{"map": {Node: "map", Count: count, Lead: 3 * time.Minute, PerMonth: 50, Rest: 100, Load: Load{Now: used, Recent: used, Ahead: used, Each: 2, Of: count, Whole: true}}}}
}

func TestATierFollowsItsLoad(t *testing.T) {
	for name, c := range map[string]struct {
		s     Situation
		with  func(*Tier)
		at    time.Time
		count int
		why   string
		holds string
		mode  Mode
	}{
		"as it should be":               {s: tier(3, 2.9)},
		"grows at once by all":          {s: tier(2, 4.2), count: 5, why: "4.20 cores are used: 5 of map would do with 50% of each, and there are 2"},
		"just enough":                   {s: tier(3, 3.0)},
		"grows by what comes":           {s: tier(3, 2.9), with: func(x *Tier) { x.Load.Ahead, x.Load.Words = 3.9, "by how it grows" }, count: 4, why: "3.90 cores are used soon, by how it grows"},
		"at most":                       {s: tier(2, 9), count: 6, why: "9 of map would do with 50% of each, and there are 2, and may be 6 by this reaction"},
		"at most by its template":       {s: tier(2, 9), with: func(x *Tier) { x.Most = 4 }, count: 4, why: "may be 4 by its template"},
		"at most for its budget":        {s: tier(2, 9), with: func(x *Tier) { x.Rest = 300 }, count: 4, why: "may be 4 for 500 a month"},
		"shrinks by one":                {s: tier(5, 1), count: 4, why: "at most 1.00 cores were used within 10m: 4 of map do"},
		"not below the least":           {s: tier(2, 0)},
		"not below the template":        {s: tier(3, 0), with: func(x *Tier) { x.Least = 3 }},
		"up to the least":               {s: tier(1, 0), count: 2, why: "there are to be at least 2 of map, and there are 1"},
		"not just before it is used":    {s: tier(5, 1), with: func(x *Tier) { x.Load.Ahead = 4.8 }},
		"not just after it was used":    {s: tier(5, 1), with: func(x *Tier) { x.Load.Recent = 4.8 }},
		"not within the margin":         {s: tier(4, 2.5)},
		"beyond the margin":             {s: tier(4, 2.4), count: 3},
		"not what is not known of all":  {s: tier(5, 1), with: func(x *Tier) { x.Load.Of = 4 }},
		"not what was not known before": {s: tier(5, 1), with: func(x *Tier) { x.Load.Whole = false }},
		"grows by those that are known": {s: tier(4, 3), with: func(x *Tier) { x.Load.Of = 2 }, count: 6, why: "6.00 cores are used by 2 of them"},
		"nothing is known":              {s: tier(5, 0), with: func(x *Tier) { x.Load = Load{} }},
		"more than may be":              {s: tier(8, 7), why: "7 of map would do"},
		"more than may be, unneeded":    {s: tier(8, 1), count: 7, why: "7 of map do"},
		"in its hours":                  {s: tier(2, 0), at: time.Date(2027, 3, 2, 6, 30, 0, 0, time.UTC), count: 4, why: "for morning there are to be at least 4 of map"},
		"before its hours":              {s: tier(2, 0), at: time.Date(2027, 3, 2, 5, 58, 0, 0, time.UTC), count: 4, why: "for morning there are to be at least 4 of map"},
		"long before them":              {s: tier(2, 0), at: time.Date(2027, 3, 2, 5, 50, 0, 0, time.UTC)},
		"after them":                    {s: tier(4, 0), at: time.Date(2027, 3, 2, 8, 0, 0, 0, time.UTC), count: 3},
		"in quiet hours":                {s: tier(2, 4.2), at: time.Date(2027, 3, 2, 0, 0, 0, 0, time.UTC), count: 5, mode: Propose, why: "quiet hours"},
	} {
		t.Run(name, func(t *testing.T) {
			r, st := &read(t, text).Reactions[1], &State{}
			if c.with != nil {
				c.with(c.s.Tiers["map"])
			}
			at := now
			if !c.at.IsZero() {
				at = c.at
			}
			d := Decide(r, st, &c.s, at)
			assert.Equal(t, c.count, d.Count, d.Why)
			assert.Contains(t, d.Why, c.why)
			assert.Equal(t, c.count != 0, d.Do == Scaling)
			if c.count != 0 {
				want := Do
				if c.mode != "" {
					want = c.mode
				}
				assert.Equal(t, want, d.Mode)
				assert.Equal(t, c.s.Tiers["map"].Count, d.From)
				assert.Equal(t, d.Why, st.Says)
			}
		})
	}
}

func TestWhoeverNeedsMoreThanMayBeIsSaidSo(t *testing.T) {
	r, st := &read(t, text).Reactions[1], &State{}
	s := tier(6, 9)
	assert.Contains(t, Decide(r, st, &s, now).Holds, "it acts after 10m")
	assert.True(t, st.Called.IsZero())
	Decide(r, st, &s, now.Add(10*time.Minute))
	assert.Equal(t, "9.00 cores are used: 9 of map would do with 50% of each, and there are 6: more than 6 may not be, by this reaction", st.CalledFor)
	called := st.Called
	Decide(r, st, &s, now.Add(20*time.Minute))
	assert.Equal(t, called, st.Called, "once")
	s = tier(6, 5)
	Decide(r, st, &s, now.Add(30*time.Minute))
	assert.True(t, st.Called.IsZero())
}

func TestGrowingIsSoonerThanShrinking(t *testing.T) {
	r := &read(t, text).Reactions[1]
	for _, c := range []struct {
		s     Situation
		after time.Duration
		does  bool
	}{{tier(2, 4), 2*time.Minute - time.Second, false}, {tier(2, 4), 2 * time.Minute, true}, {tier(5, 1), 10*time.Minute - time.Second, false}, {tier(5, 1), 10 * time.Minute, true}} {
		st := &State{Acts: []Act{{At: now, Do: Scaling}}}
		d := Decide(r, st, &c.s, now.Add(c.after))
		assert.Equal(t, c.does, d.Do == Scaling, "%v", c)
	}
}

func TestATierThatFlapsStaysAsItIs(t *testing.T) {
	r := &read(t, text).Reactions[1]
	at := func(ago time.Duration, from, to int) Act {
		return Act{At: now.Add(-ago), Do: Scaling, From: from, Count: to}
	}
	st := &State{Acts: []Act{at(110*time.Minute, 2, 3), at(90*time.Minute, 3, 2), at(60*time.Minute, 2, 3), at(40*time.Minute, 3, 2), at(20*time.Minute, 2, 4)}}
	s := tier(4, 1)
	d := Decide(r, st, &s, now)
	assert.Empty(t, d.Do)
	assert.Contains(t, d.Holds, "it grew and shrank 4 times within 2h, and stays as it is")
	up := tier(4, 6)
	assert.Equal(t, Scaling, Decide(r, st, &up, now).Do, "what is needed is built all the same")
	assert.Equal(t, Scaling, Decide(r, st, &s, now.Add(90*time.Minute)).Do, "in time it is calm")
}

func TestWhatWasProposedIsNotProposedAgain(t *testing.T) {
	f := read(t, text)
	r, st := &f.Reactions[1], &State{}
	r.Mode = Propose
	s := tier(2, 4)
	d := Decide(r, st, &s, now)
	require.Equal(t, Propose, d.Mode)
	st.Note(&d, now)
	d = Decide(r, st, &s, now.Add(3*time.Hour))
	assert.Empty(t, d.Do)
	assert.Contains(t, d.Holds, "it was proposed at 12:00:00")
	s = tier(2, 5)
	assert.Equal(t, Scaling, Decide(r, st, &s, now.Add(3*time.Hour)).Do, "something else is")
}

func spreadable() Situation {
	return Situation{Hosts: []Host{{Site: "forja", Name: "yunque", Cores: 8, Used: 7.2}, {Site: "forja", Name: "fragua", Cores: 8, Used: 2}, {Site: "vega", Name: "far", Cores: 8}},
		Machines: []Machine{{ID: "a-1", Node: "a", Site: "forja", Host: "yunque", Load: 2, Known: true}, {ID: "a-2", Node: "a", Site: "forja", Host: "yunque", Load: 5, Known: true},
			{ID: "b-1", Node: "b", Site: "forja", Host: "yunque", Load: 2.5, Known: true}}}
}

func TestABusyHostIsRelieved(t *testing.T) {
	for name, c := range map[string]struct {
		with func(*Situation)
		on   string
	}{
		"the one that helps most":   {func(*Situation) {}, "a-1"},
		"not one with disks":        {func(s *Situation) { s.Machines[0].Disks = true; s.Machines[1].Disks = true }, ""},
		"not one that is alone":     {func(s *Situation) { s.Machines = s.Machines[2:] }, ""},
		"not one that is not known": {func(s *Situation) { s.Machines[0].Known = false; s.Machines[1].Known = false }, ""},
		"not where none is busy":    {func(s *Situation) { s.Hosts[0].Used = 5.5 }, ""},
		"not where all are":         {func(s *Situation) { s.Hosts[1].Used = 6 }, ""},
		"not for little":            {func(s *Situation) { s.Machines[0].Load = 0.3; s.Machines[1].Load = 6 }, ""},
		"not to another site":       {func(s *Situation) { s.Hosts[1].Site = "vega" }, ""},
		"not without cores":         {func(s *Situation) { s.Hosts[1].Cores = 0 }, ""},
	} {
		t.Run(name, func(t *testing.T) {
			r, s, st := &read(t, text).Reactions[2], spreadable(), &State{}
			c.with(&s)
			assert.Empty(t, Decide(r, st, &s, now).Do, "not at once")
			d := Decide(r, st, &s, now.Add(5*time.Minute))
			if c.on == "" {
				assert.Empty(t, d.Do)
				return
			}
			assert.Equal(t, Decision{Do: Spreading, Mode: Propose, Machines: []string{c.on}, Site: "forja", Host: "fragua", Why: d.Why}, d)
			assert.Equal(t, "host yunque is used to 90% and fragua to 25%: with a-1 there the busier one is at 65%", d.Why)
			s.Spreading = map[string]time.Time{"forja": now.Add(4 * time.Minute)}
			assert.Contains(t, Decide(r, st, &s, now.Add(6*time.Minute)).Holds, "left alone until 12:14:00", "another deployment was evened out there just now")
		})
	}
}

func slow(site string) alarm.Alert {
	return alarm.Alert{Rank: "site", Cause: "site " + site, Name: site, Severity: alarm.Critical, Words: "answers in 9 s", Alarms: []alarm.Alarm{{Thing: "site " + site, Measure: measure.SiteTime}}}
}

func TestASiteInTroubleIsLeftAndASilentOneIsNot(t *testing.T) {
	r := &read(t, text).Reactions[3]
	machines := []Machine{{ID: "a", Site: "vega"}, {ID: "b", Site: "tramonta"}, {ID: "c", Site: "vega"}}
	st, s := &State{}, Situation{Machines: machines, Alerts: []alarm.Alert{slow("vega"), slow("presa")}}
	assert.Empty(t, twice(r, st, s, 15*time.Minute-time.Second).Do)
	d := Decide(r, st, &s, now.Add(15*time.Minute))
	assert.Equal(t, Decision{Do: Leaving, Mode: Propose, Machines: []string{"a", "c"}, Site: "vega", Not: []string{"vega", "presa"}, Why: "site vega: answers in 9 s"}, d)
	st.Note(&d, now)
	assert.Equal(t, []string{"vega"}, st.Left())
	s.Alerts[0].Alarms[0].Measure = measure.SiteAnswers
	assert.Contains(t, twice(r, &State{}, s, time.Hour).Holds, "nothing is known of what runs there")
	s.Alerts[0] = slow("vega")
	s.Alerts[0].Severity = alarm.Warning
	assert.Empty(t, twice(r, &State{}, s, time.Hour))
	s.Alerts[0] = slow("vega")
	s.Alerts[0].Known = &alarm.Said{By: "lia"}
	assert.Contains(t, twice(r, &State{}, s, time.Hour).Holds, "lia sees to it")
	s.Alerts[0].Known, s.Alerts[0].Muted = nil, &alarm.Said{Until: now.Add(2 * time.Hour)}
	assert.Empty(t, twice(r, &State{}, s, time.Hour), "somebody silenced it")
	s.Alerts = []alarm.Alert{slow("presa")}
	assert.Empty(t, twice(r, &State{}, s, time.Hour), "nothing of it is there")
	s.Alerts = []alarm.Alert{slow("tramonta")}
	back := Decide(r, st, &s, now.Add(time.Hour))
	back = Decide(r, st, &s, now.Add(2*time.Hour))
	assert.Equal(t, []string{"tramonta", "vega"}, back.Not, "not back to where it left a while ago")
}

func TestOneReactionActsAtATime(t *testing.T) {
	f := read(t, text)
	all, err := f.For(&condition.Subject{Services: []string{"map"}})
	require.NoError(t, err)
	s := tier(2, 4)
	s.Sights, s.Machines = []promise.Sight{down("a", promise.FellOff, true)}, []Machine{{ID: "a"}}
	states := []*State{{}, {}, {}, {}}
	which, d := Step(all, states, &s, now)
	assert.Equal(t, 1, which, "what fell is not sure yet")
	which, d = Step(all, states, &s, now.Add(time.Minute))
	assert.Equal(t, 0, which)
	assert.Equal(t, Raising, d.Do)
	assert.Contains(t, states[1].Says, "what fell comes first")
	s.Busy = "run 3 is under way"
	which, _ = Step(all, states, &s, now.Add(time.Minute))
	assert.Equal(t, -1, which)
}

func TestABudgetBoundsWhatIsDone(t *testing.T) {
	r := &Reaction{Budget: 100}
	assert.Empty(t, r.Affords(money.Of(0.1), money.Of(0.13)))
	assert.Equal(t, "it would cost 102.27 a month, and may cost 100.00", r.Affords(money.Of(0.1), money.Of(0.14)))
	assert.Empty(t, r.Affords(money.Of(0.14), money.Of(0.14)), "what costs no more is never beyond it")
	assert.Empty(t, (&Reaction{}).Affords(0, money.Of(99)))
}

func TestWhatCannotBeDoneIsSaid(t *testing.T) {
	f := read(t, text)
	r, st := &f.Reactions[1], &State{}
	r.Mode, r.Tries = Propose, 2
	s := tier(2, 4)
	for i := range 2 {
		at := now.Add(time.Duration(i) * 10 * time.Minute)
		d := Decide(r, st, &s, at)
		require.Equal(t, Scaling, d.Do, "what was not proposed in the end is tried again: %s", d.Holds)
		st.Note(&d, at)
		st.Failed(errors.New("no room"))
		assert.Equal(t, "it could not be done: no room", st.Says)
		assert.Contains(t, Decide(r, st, &s, at.Add(time.Second)).Holds, ", which could not be helped: no room")
	}
	Decide(r, st, &s, now.Add(time.Hour))
	assert.Contains(t, st.CalledFor, "2 times within a day already, which could not be helped: no room")
	assert.Empty(t, (&State{Acts: []Act{{Do: Leaving, Site: "vega", Failed: "no room"}}}).Left())
}

func points(from time.Time, step time.Duration, values ...float64) []measure.Point {
	var out []measure.Point
	for i, v := range values {
		p := measure.Point{At: from.Add(time.Duration(i) * step), Mean: v, N: 1}
		if v < 0 {
			p.N = 0
		}
		out = append(out, p)
	}
	return out
}

func TestALoadIsForeseenAsFarAsIsSure(t *testing.T) {
	flat := make([]float64, 60)
	ramp := make([]float64, 60)
	noisy := make([]float64, 60)
	for i := range flat {
		flat[i], ramp[i], noisy[i] = 3, 1+float64(i)*0.05, 3+float64(i%7)-3
	}
	from, step := now.Add(-59*15*time.Second), 15*time.Second
	l := Foresee(points(from, step, flat...), nil, now, 4*time.Minute, 10*time.Minute)
	assert.Equal(t, Load{Now: 3, Recent: 3, Ahead: 3, Whole: true}, l)
	l = Foresee(points(from, step, ramp...), nil, now, 4*time.Minute, 10*time.Minute)
	assert.InDelta(t, 3.85, l.Now, 0.01)
	assert.InDelta(t, l.Now+0.05*16, l.Ahead, 0.05, "16 steps on")
	assert.Equal(t, "by how it grows", l.Words)
	l = Foresee(points(from, step, noisy...), nil, now, 4*time.Minute, 10*time.Minute)
	assert.LessOrEqual(t, l.Ahead, l.Now+0.6, "noise is no trend")
	assert.Equal(t, 6.0, l.Recent)
	l = Foresee(points(from, step, flat...), &alarm.Usual{Middle: 7, Spread: 1}, now, 4*time.Minute, 10*time.Minute)
	assert.Equal(t, 7.0, l.Ahead)
	assert.Equal(t, "as is usual at that hour", l.Words)
	l = Foresee(points(from, step, flat...), &alarm.Usual{Middle: 3.5, Spread: 1}, now, 4*time.Minute, 10*time.Minute)
	assert.Equal(t, 3.0, l.Ahead, "that is as usual as it is now")
	assert.Equal(t, Load{}, Foresee(points(now.Add(-time.Hour), step, 1, 2, 3), nil, now, time.Minute, time.Minute), "what is old says nothing")
	assert.Equal(t, Load{}, Foresee(points(now, step, -1), nil, now, time.Minute, time.Minute))
	assert.Zero(t, Foresee(points(now.Add(time.Minute), step, 5), nil, now, time.Minute, time.Minute), "what is to come is not")
	assert.False(t, Foresee(points(now.Add(-time.Minute), step, 1, 1, 1, 1), nil, now, time.Minute, 10*time.Minute).Whole, "what is known of a minute says nothing of ten")
	gaps := slices.Clone(flat)
	for i := 0; i < 60; i += 3 {
		gaps[i] = -1
	}
	assert.False(t, Foresee(points(from, step, gaps...), nil, now, time.Minute, 10*time.Minute).Whole)
	steep := Foresee(points(from, step, append(make([]float64, 56), 1, 2, 3, 4)...), nil, now, time.Hour, time.Minute)
	assert.LessOrEqual(t, steep.Ahead, 2*steep.Now)
}

func ExampleDecide() {
	f, _ := Read([]byte("version: andamio.reactions/1\nreactions: [{ name: map by load, scale: { tier: map, use: 50%, least: 2, most: 6 }, mode: do }]"))
	s := Situation{Tiers: map[string]*Tier{"map": {Node: "map", Count: 2, Load: Load{Now: 2.6, Recent: 2.6, Ahead: 2.6, Each: 2, Of: 2}}}}
	d := Decide(&f.Reactions[0], &State{}, &s, time.Date(2027, 3, 2, 12, 0, 0, 0, time.UTC))
	fmt.Println(d.Do, d.Tier, "to", d.Count)
	fmt.Println(d.Why)
	// Output:
	// scale map to 3
	// 2.60 cores are used: 3 of map would do with 50% of each, and there are 2
}

// nobody is a deployment of which nothing is known.
var nobody = &condition.Subject{}
