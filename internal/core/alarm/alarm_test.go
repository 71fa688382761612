package alarm

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/measure"
)

var noon = time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)

// head begins a file of thresholds.
const head = "version: andamio.thresholds/1\nthresholds:\n"

func TestWhatIsWrongWithThresholdsIsSaidWithItsLine(t *testing.T) {
	for text, says := range map[string]string{
		"{ measure: cores, critical: { above: 1 } }":                                        `line 4, "": a threshold has a name`,
		"{ name: x, critical: { above: 1 } }":                                               "measure: say of what",
		"{ name: x, measure: cores }":                                                       "neither when a warning is given",
		"{ name: x, measure: cores, warning: {} }":                                          "warning: it is one of above, below, full and unlike",
		"{ name: x, measure: cores, critical: { above: 1, below: 2 } }":                     "critical: it is one of",
		"{ name: x, measure: cores, critical: { above: lots } }":                            `above: "lots" is no figure of cores: write it as 1.5`,
		"{ name: x, measure: cores, critical: { above: NaN } }":                             `"NaN" is no figure`,
		"{ name: x, measure: answer_time, critical: { above: 2 } }":                         `"2" has no unit: write it as 250ms`,
		"{ name: x, measure: memory, critical: { above: 2GX } }":                            `"2GX" is no figure of memory: write it as 500MiB`,
		"{ name: x, measure: memory, critical: { above: -2GB } }":                           `"-2GB" is no figure`,
		"{ name: x, measure: cores, critical: { above: 2000% } }":                           `"2000%" is no share`,
		"{ name: x, measure: cores, critical: { above: some% } }":                           `"some%" is no share`,
		"{ name: x, measure: net_sent, critical: { above: 80% } }":                          "net_sent has no limit",
		"{ name: x, measure: net_sent, critical: { full: 3d } }":                            "full: net_sent has no limit",
		"{ name: x, measure: cores, critical: { full: soon } }":                             `full: "soon" is no span`,
		"{ name: x, measure: cores, critical: { full: 3000d } }":                            "between nothing and a year",
		"{ name: x, measure: cores, critical: { above: 1, for: long } }":                    `for: "long" is no span`,
		"{ name: x, measure: cores, critical: { above: 1, for: 0s } }":                      "between nothing and a year",
		"{ name: x, measure: cores, critical: { above: 1, until: 2 } }":                     "until: it is beyond the threshold itself",
		"{ name: x, measure: cores, critical: { below: 1, until: 0.5 } }":                   "until: it is beyond the threshold itself",
		"{ name: x, measure: cores, critical: { above: 1, until: 50% } }":                   "one is a share of the limit",
		"{ name: x, measure: cores, critical: { full: 1d, until: 2 } }":                     "until: it belongs to above or below",
		"{ name: x, measure: cores, critical: { above: 1, until: hot } }":                   `until: "hot" is no figure`,
		"{ name: x, measure: cores, critical: { unlike: -2 } }":                             "unlike: it is a number above 0",
		"{ name: x, measure: cores, critical: { unlike: 200 } }":                            "unlike: it is a number above 0",
		"{ name: x, measure: cores, missing: never }":                                       `missing: "never" is no span`,
		`{ name: x, measure: cores, when: "thing.site ==", missing: 1m }`:                   "when: ERROR",
		`{ name: x, measure: cores, when: "1 + 1", missing: 1m }`:                           "when: it is of type int",
		`{ name: x, measure: cores, when: "who == 1", missing: 1m }`:                        "when: ERROR",
		"{ name: x, measure: cores, missing: 1m }\n- { name: x, measure: on, missing: 1m }": `line 5, "x": another in line 4`,
	} {
		_, err := Read([]byte(head + "# a remark\n- " + text))
		assert.ErrorContains(t, err, says, text)
		if err != nil {
			assert.Contains(t, err.Error(), "line ", text)
		}
	}
	for text, says := range map[string]string{"version: 2": "cannot unmarshal number", `version: "2"`: "is not read", "- a": "these are no thresholds", head + "- { nam: x }": `unknown field "nam"`,
		head + "- { name: x, measure: cores, critical: { above: [1] } }": "these are no thresholds"} {
		_, err := Read([]byte(text))
		assert.ErrorContains(t, err, says)
	}
	_, err := Read([]byte(head + "- { name: x, measure: cores }\n- { measure: cores, missing: 1m }"))
	assert.Len(t, strings.Split(err.Error(), "\n"), 2, "every mistake is said")
}

func TestAThresholdOfOnesOwnTakesThePlaceOfTheShippedOneForWhatItFits(t *testing.T) {
	own, err := Read([]byte(head + `- { name: disk, measure: disk, when: 'thing.tags["env"] == "trial"', off: true }
- { name: cores, measure: cores, when: 'thing.tier == "map"', critical: { above: 0.5 } }
- { name: heat, measure: heat, warning: { above: 70 } }
`))
	require.NoError(t, err)
	all := own.Over(Default())
	names := func(thing measure.Thing) (out []string) {
		of, err := all.For(&thing)
		require.NoError(t, err)
		for _, x := range of {
			text := x.Name
			if x.Shipped {
				text += " shipped"
			}
			out = append(out, text)
		}
		return out
	}
	trial := measure.Thing{Kind: measure.OfInstance, Tier: "map", Tags: map[string]string{"env": "trial"}}
	assert.Equal(t, []string{"cores", "heat", "switched off shipped", "memory shipped", "disk ahead shipped", "file system shipped", "service failed shipped"}, names(trial))
	other := measure.Thing{Kind: measure.OfSite, Tags: map[string]string{"env": "live"}}
	assert.Equal(t, []string{"heat", "site silent shipped", "site slow shipped"}, names(other))
	thing := measure.Thing{Kind: measure.OfInstance} // without the tag that the expression asks for
	of, err := all.For(&thing)
	assert.ErrorContains(t, err, `threshold "disk" (line 3)`)
	assert.Len(t, of, 8, "the shipped one counts where it cannot be said")
}

func TestEveryShippedThresholdIsOfAMeasureThatThereIs(t *testing.T) {
	assert.NotEmpty(t, DefaultText())
	for _, x := range Default().Thresholds {
		assert.True(t, measure.Known(x.Measure), x.Name)
		assert.Positive(t, x.Line)
	}
}

// steps are readings, a quarter of a minute apart, with the state that each leads to.
type steps []struct {
	value float64
	want  Severity
}

// none is a reading that was not taken.
const none = -1e9

func TestAWatchIsOverForAsLongAsItSays(t *testing.T) {
	for name, c := range map[string]struct {
		threshold string
		limit     float64
		steps     steps
	}{
		"at once":                {"critical: { above: 10 }", 0, steps{{10, Well}, {10.1, Critical}, {10, Well}}},
		"below":                  {"critical: { below: 10 }", 0, steps{{10, Well}, {9.9, Critical}, {10, Well}}},
		"only for long":          {"critical: { above: 10, for: 30s }", 0, steps{{11, Well}, {11, Well}, {11, Critical}, {9, Well}, {11, Well}, {9, Well}, {11, Well}, {11, Well}, {11, Critical}}},
		"until well below":       {"critical: { above: 10, until: 5 }", 0, steps{{11, Critical}, {6, Critical}, {5, Well}, {6, Well}}},
		"until well above":       {"critical: { below: 10, until: 15 }", 0, steps{{9, Critical}, {14, Critical}, {15, Well}, {14, Well}}},
		"a share":                {"critical: { above: 50% }", 8, steps{{4, Well}, {4.1, Critical}}},
		"a share of nothing":     {"critical: { above: 50% }", 0, steps{{4, Well}, {400, Well}}},
		"a warning, then worse":  {"warning: { above: 5, until: 4 }, critical: { above: 10, until: 8 }", 0, steps{{6, Warning}, {11, Critical}, {9, Critical}, {7, Warning}, {4.5, Warning}, {4, Well}}},
		"unknown after a while":  {"critical: { above: 10 }, missing: 30s", 0, steps{{5, Well}, {none, Well}, {none, Unknown}, {none, Unknown}, {5, Well}}},
		"never known":            {"critical: { above: 10 }, missing: 30s", 0, steps{{none, Well}, {none, Well}, {none, Well}, {none, Well}}},
		"critical, then nothing": {"critical: { above: 10 }, missing: 30s", 0, steps{{11, Critical}, {none, Critical}, {none, Critical}, {none, Critical}, {1, Well}}},
		"not missed":             {"critical: { above: 10 }", 0, steps{{5, Well}, {none, Well}, {none, Well}, {none, Well}, {none, Well}}},
		"from unknown to worse":  {"critical: { above: 10, until: 2 }, missing: 15s", 0, steps{{5, Well}, {none, Unknown}, {5, Well}, {none, Unknown}, {11, Critical}}},
	} {
		f, err := Read([]byte(head + "- { name: x, measure: cores, " + c.threshold + " }"))
		require.NoError(t, err, name)
		w, now := Watch{}, noon
		for i, s := range c.steps {
			before := w.State
			turned := w.Step(&f.Thresholds[0], &Reading{Has: s.value != none, Value: s.value, Limit: c.limit}, now)
			require.Equal(t, s.want, w.State, "%s, step %d", name, i)
			assert.Equal(t, before != s.want, turned, "%s, step %d", name, i)
			if turned {
				assert.Equal(t, now, w.Since, "%s, step %d", name, i)
			}
			now = now.Add(15 * time.Second)
		}
	}
}

func TestWhatFlapsIsOverUntilItIsCalm(t *testing.T) {
	f, err := Read([]byte(head + "- { name: x, measure: cores, critical: { above: 10, for: 30s } }\n- { name: y, measure: cores, critical: { above: 10, for: 10m } }"))
	require.NoError(t, err)
	brief, long, now := Watch{}, Watch{}, noon
	step := func(v float64) {
		now = now.Add(15 * time.Second)
		brief.Step(&f.Thresholds[0], &Reading{Has: true, Value: v}, now)
		long.Step(&f.Thresholds[1], &Reading{Has: true, Value: v}, now)
	}
	for range 3 {
		step(11)
		step(1)
	}
	assert.Equal(t, Well, brief.State, "three times is chance")
	step(11)
	assert.True(t, brief.Flaps)
	assert.Equal(t, Critical, brief.State)
	last := now
	for now.Sub(last) < flapCalm-15*time.Second {
		step(1)
		require.Equal(t, Critical, brief.State)
	}
	step(1)
	assert.Equal(t, Well, brief.State)
	assert.Equal(t, Well, long.State, "what has to last does not flap")
	brief.State = Critical
	assert.True(t, brief.Rest(now))
	assert.False(t, brief.Rest(now))
	assert.Equal(t, Well, brief.State)
}

// line are points of a line with noise, ten minutes apart, until noon.
func line(n int, from, perHour float64, noise func(int) float64) []measure.Point {
	out := make([]measure.Point, n)
	for i := range out {
		at := noon.Add(-time.Duration(n-i) * 10 * time.Minute)
		v := from + perHour*at.Sub(noon).Hours() + noise(i)
		out[i] = measure.Point{At: at, Min: v, Mean: v, Max: v, N: 1}
	}
	return out
}

func TestATrendSaysWhenSomethingIsFullAndHowSureThatIs(t *testing.T) {
	still := func(int) float64 { return 0 }
	grows := TrendOf(line(100, 60, 1, still))
	require.NotNil(t, grows)
	assert.InDelta(t, 1.0/3600, grows.PerSecond, 1e-9)
	assert.InDelta(t, 0, grows.Off, 1e-9)
	assert.True(t, grows.Reaches(60, 100, 41*time.Hour))
	assert.False(t, grows.Reaches(60, 100, 39*time.Hour))
	assert.False(t, grows.Reaches(100, 100, 41*time.Hour), "it is full already")
	assert.Equal(t, "full in 40 h", grows.Words(60, 100))
	shrinks := TrendOf(line(100, 60, -1, still))
	assert.False(t, shrinks.Reaches(60, 100, mostSpan))
	sways := func(i int) float64 { return float64((i*7919)%13 - 6) }
	unsure := TrendOf(line(60, 60, 0.05, sways))
	assert.False(t, unsure.Reaches(60, 100, mostSpan), "what sways more than it grows is not believed")
	assert.Contains(t, unsure.Words(60, 100), "at the earliest")
	likely := TrendOf(line(300, 60, 1, sways))
	assert.True(t, likely.Reaches(60, 100, 45*time.Hour))
	assert.Regexp(t, `^full in \d+ h to \d+ h$`, likely.Words(60, 100))
	assert.Nil(t, TrendOf(line(leastPoints-1, 1, 1, still)))
	assert.Nil(t, TrendOf(make([]measure.Point, 50)), "nothing is known")
	same := line(20, 1, 1, still)
	for i := range same {
		same[i].At = noon
	}
	assert.Nil(t, TrendOf(same))
}

func TestTheUsualIsThatOfTheHour(t *testing.T) {
	var past []measure.Point
	for at := noon.AddDate(0, 0, -28); at.Before(noon); at = at.Add(10 * time.Minute) {
		v := 10.0
		if at.Hour() == 12 {
			v = 50
		}
		if at.Weekday() == time.Sunday {
			v *= 10
		}
		past = append(past, measure.Point{At: at, Mean: v + float64(at.Minute()/10%3), N: 1})
	}
	u := UsualOf(past, 0.01, noon)
	require.NotNil(t, u)
	assert.InDelta(t, 51, u.Middle, 0.01)
	assert.InDelta(t, 1.02, u.Spread, 0.01)
	assert.Less(t, u.Far(52), 3.0)
	assert.Greater(t, u.Far(11), 30.0)
	sunday := UsualOf(past, 0.01, noon.AddDate(0, 0, -1))
	assert.InDelta(t, 501, sunday.Middle, 1)
	few := UsualOf(past[len(past)-6*24*3:], 0.01, noon)
	require.NotNil(t, few, "where the day of the week is not known three days do")
	assert.Nil(t, UsualOf(past[len(past)-6*20:], 0.01, noon), "the hour itself does not tell what is usual")
	assert.Zero(t, (&Usual{Middle: 1}).Far(9))
	f, err := Read([]byte(head + "- { name: x, measure: cores, warning: { unlike: 4 } }"))
	require.NoError(t, err)
	w := Watch{}
	for i, s := range (steps{{51, Well}, {47, Well}, {46, Warning}, {47.5, Warning}, {48.5, Well}}) {
		w.Step(&f.Thresholds[0], &Reading{Has: true, Value: s.value, Usual: u}, noon.Add(time.Duration(i)*time.Minute))
		assert.Equal(t, s.want, w.State, "step %d", i)
	}
	assert.False(t, w.Step(&f.Thresholds[0], &Reading{Has: true, Value: 1e6}, noon.Add(time.Hour)), "before anything is usual nothing is unlike it")
}

func TestFiguresAreSaidInTheirUnits(t *testing.T) {
	for want, c := range map[string]struct {
		name     string
		v, limit float64
	}{"1.5 of 2 (75 %)": {measure.CoresUsed, 1.5, 2}, "3 GiB of 4 GiB (75 %)": {measure.MemoryUsed, 3 << 30, 4 << 30}, "512 KiB/s": {measure.NetSent, 512 << 10, 0}, "12 B": {measure.MemoryUsed, 12, 0},
		"45 ms": {measure.AnswerTime, 0.045, 0}, "2.5 s": {measure.AnswerTime, 2.5, 0}, "3 min": {measure.AnswerTime, 180, 0}, "20 days": {measure.Certificate, 20 * 86400, 0}, "5 h": {measure.Certificate, 18000, 0},
		"yes": {measure.Answers, 1, 0}, "no": {measure.Answers, 0, 0}, "7": {"heat", 7, 0}} {
		m := measure.Of(c.name)
		assert.Equal(t, want, Figure(&m, c.v, c.limit))
	}
}

func TestWordsSayWhatIsOver(t *testing.T) {
	f, err := Read([]byte(head + `- { name: no answer, measure: answers, critical: { below: 1 } }
- { name: disk, measure: disk, warning: { above: 80% }, critical: { above: 95% } }
- { name: ahead, measure: disk, warning: { full: 3d } }
- { name: odd, measure: cores, warning: { unlike: 3 } }
- { name: gone, measure: cores, missing: 1m }`))
	require.NoError(t, err)
	of := f.Thresholds
	assert.Equal(t, "503", Words(&of[0], &Reading{Said: "503"}, Critical))
	assert.Equal(t, "no answer", Words(&of[0], &Reading{}, Critical))
	full := &Reading{Value: 9 << 30, Limit: 10 << 30, Trend: &Trend{PerSecond: float64(1<<30) / 86400}, Usual: &Usual{Middle: 2}}
	assert.Equal(t, "disk in use 9 GiB of 10 GiB (90 %)", Words(&of[1], full, Warning))
	assert.Equal(t, "disk in use 9 GiB of 10 GiB (90 %), full in 24 h", Words(&of[2], full, Warning))
	assert.Equal(t, "cores in use 1.5, at this hour usually 2", Words(&of[3], &Reading{Value: 1.5, Limit: 4, Usual: full.Usual}, Warning))
	assert.Equal(t, "cores in use: nothing is known of it any more", Words(&of[4], &Reading{}, Unknown))
	assert.Equal(t, "gone", Words(&of[4], &Reading{}, Critical))
}

func TestSeveritiesAreWords(t *testing.T) {
	for s := Well; s <= Critical; s++ {
		text, err := s.MarshalText()
		require.NoError(t, err)
		var back Severity
		require.NoError(t, back.UnmarshalText(text))
		assert.Equal(t, s, back)
	}
	var s Severity
	assert.ErrorContains(t, s.UnmarshalText([]byte("awful")), `"awful" is no severity`)
	assert.Equal(t, "severity 9", Severity(9).String())
	assert.Equal(t, "severity -1", Severity(-1).String())
}

// TestABookNeverLosesAnAlarm draws what is over of a small estate, moment after moment, and holds that each alarm is in one open alert, that numbers are given once, and that an alert
// that goes on keeps its number.
func TestABookNeverLosesAnAlarm(t *testing.T) {
	w := newWorld(t, 3)
	rapid.Check(t, func(t *rapid.T) {
		b, now := Book{}, noon
		given := map[int64]bool{}
		for range rapid.IntRange(1, 12).Draw(t, "moments") {
			now = now.Add(probe)
			var alarms []Alarm
			for _, i := range rapid.SliceOfNDistinct(rapid.IntRange(0, len(w.things)-1), 0, 14, rapid.ID).Draw(t, "over") {
				x := &w.things[i]
				of := w.wants[x.Key][rapid.IntRange(0, 1).Draw(t, "threshold")]
				alarms = append(alarms, Alarm{Thing: x.Key, Kind: x.Kind, Name: x.Name, Threshold: of.Name, Measure: of.Measure, Severity: Critical, Since: now, Words: "x", Reached: rapid.Bool().Draw(t, "reached")})
			}
			before := map[int64]bool{}
			for _, a := range b.Open {
				before[a.ID] = true
			}
			c := b.Step(w.graph, Find(w.graph, alarms), now)
			n := 0
			for _, a := range b.Open {
				n += len(a.Alarms)
				require.NotEmpty(t, a.Words)
				require.True(t, a.Ended.IsZero())
			}
			require.Equal(t, len(alarms), n)
			for _, a := range c.Opened {
				require.False(t, given[a.ID], "number %d is given once", a.ID)
				given[a.ID] = true
				require.False(t, before[a.ID])
			}
			for _, a := range c.Ended {
				require.True(t, before[a.ID])
				require.Equal(t, now, a.Ended)
				delete(before, a.ID)
			}
			require.Len(t, b.Open, len(before)+len(c.Opened))
		}
	})
}

func TestTwoAlertsThatAreOneAreTheOlder(t *testing.T) {
	g := NewGraph([]Node{{ID: "site s", Rank: Site, Name: "s", Site: "s"}, {ID: "zone s/a", Rank: Zone, Name: "a", Site: "s", On: []string{"site s"}}, {ID: "host s/h", Rank: Host, Name: "h", Site: "s", On: []string{"zone s/a"}},
		{ID: "instance s/1", Rank: Instance, Name: "one", Site: "s", On: []string{"host s/h"}}, {ID: "instance s/2", Rank: Instance, Name: "two", Site: "s", On: []string{"host s/h"}},
		{ID: "instance s/3", Rank: Instance, Name: "three", Site: "s", On: []string{"host s/h"}}, {ID: "p3", Rank: Part, Group: "g3", Service: "map", On: []string{"instance s/3"}}, {ID: "e3", Rank: Endpoint, Name: "e3", Deployment: 7, On: []string{"p3"}}})
	over := func(things ...string) []Cause {
		var out []Alarm
		for _, x := range things {
			kind, name := measure.OfInstance, measure.On
			if x[0] == 'e' {
				kind, name = measure.OfEndpoint, measure.Answers
			}
			out = append(out, Alarm{Thing: x, Kind: kind, Name: x, Threshold: "off", Measure: name, Severity: Critical, Since: noon, Words: "stopped"})
		}
		return Find(g, out)
	}
	b := Book{}
	c := b.Step(g, over("instance s/1"), noon)
	require.Len(t, c.Opened, 1)
	assert.Equal(t, "instance one at s", c.Opened[0].Title())
	c = b.Step(g, over("instance s/1", "instance s/2"), noon.Add(probe))
	require.Len(t, c.Opened, 1, "the third machine stands: they are two")
	c.Opened[0].Known = &Said{By: "ana"}
	c = b.Step(g, over("instance s/1", "instance s/2", "e3"), noon.Add(2*probe))
	require.Empty(t, c.Opened)
	require.Len(t, c.Changed, 1)
	a := c.Changed[0]
	assert.Equal(t, "host s/h", a.Cause)
	assert.True(t, a.Inferred)
	assert.EqualValues(t, 1, a.ID)
	assert.Equal(t, []string{"map"}, a.Down)
	assert.Equal(t, 3, a.Below)
	assert.Equal(t, []int64{7}, a.Deployments)
	assert.Equal(t, "takes down map · 3 alarms silent below it", a.Hits())
	require.Len(t, c.Ended, 1)
	assert.EqualValues(t, 2, c.Ended[0].ID)
	assert.EqualValues(t, 1, c.Ended[0].Into)
	c = b.Step(g, over("instance s/1", "instance s/2", "e3"), noon.Add(3*probe))
	assert.Empty(t, c.Opened)
	assert.Empty(t, c.Changed, "nothing is other")
	c = b.Step(g, over("instance s/2"), noon.Add(4*probe))
	require.Len(t, c.Changed, 1, "it recovers")
	assert.Equal(t, "host s/h", b.Open[0].Cause)
	c = b.Step(g, nil, noon.Add(5*probe))
	require.Len(t, c.Ended, 1)
	assert.Zero(t, c.Ended[0].Into)
	assert.Empty(t, b.Open)
	assert.EqualValues(t, 2, b.Last)
}

func TestAPanelIsResumedFromItsAlerts(t *testing.T) {
	w := newWorld(t, 4)
	w.fault = fault{"host", "host vega/a-0", nil}
	now := noon
	for range 4 {
		w.round(now)
		now = now.Add(probe)
	}
	require.Len(t, w.book.Open, 1)
	since := w.book.Open[0].Alarms[0].Since
	w.panel = Panel{}
	w.panel.Restore(w.book.Open)
	c := w.round(now)
	assert.Empty(t, c.Opened)
	assert.Empty(t, c.Ended)
	require.Len(t, w.book.Open, 1)
	assert.Equal(t, since, w.book.Open[0].Alarms[0].Since, "it is over since then")
	w.panel.Keep(func(thing string) bool { return !strings.HasPrefix(thing, "endpoint") })
	for key := range w.panel.watches {
		assert.NotContains(t, key, "endpoint")
	}
	w.fault = fault{}
	w.round(now.Add(probe))
	assert.Empty(t, w.book.Open)
}

func TestWhatRestsIsOverInNothing(t *testing.T) {
	w := newWorld(t, 5)
	thing := &w.things[len(w.things)-1]
	down := func(name string) Reading { return Reading{Has: name == measure.Answers} }
	p := Panel{}
	var got []Alarm
	for i := range 3 {
		got = p.Step(thing, w.wants[thing.Key], down, false, noon.Add(time.Duration(i)*probe))
	}
	require.NotEmpty(t, got)
	assert.Empty(t, p.Step(thing, w.wants[thing.Key], down, true, noon.Add(time.Minute)))
	assert.Empty(t, p.Step(thing, w.wants[thing.Key], down, false, noon.Add(2*time.Minute)), "it begins anew")
	assert.Empty(t, p.Step(thing, nil, down, false, noon.Add(3*time.Minute)))
	assert.Empty(t, p.watches, "what no threshold is for is forgotten")
}

func TestAThingThatNoGraphKnowsIsItsOwnCause(t *testing.T) {
	g := NewGraph(nil)
	var alarms []Alarm
	for _, k := range []measure.Kind{measure.OfInstance, measure.OfSite, measure.OfRun, measure.OfEndpoint, measure.OfWhole} {
		alarms = append(alarms, Alarm{Thing: string(k), Kind: k, Name: string(k), Threshold: "x", Measure: measure.On, Severity: Warning, Since: noon, Words: "w"})
	}
	b := Book{}
	c := b.Step(g, Find(g, alarms), noon)
	require.Len(t, c.Opened, 5)
	var titles []string
	for _, a := range c.Opened {
		titles = append(titles, a.Title())
	}
	assert.ElementsMatch(t, []string{"instance instance", "site site", "Andamio itself", "endpoint endpoint", "whole"}, titles)
	a := c.Opened[0]
	assert.False(t, a.Quiet(noon))
	a.Muted = &Said{Until: noon.Add(time.Minute)}
	assert.True(t, a.Quiet(noon) && !a.Quiet(noon.Add(time.Minute)))
	for r := Endpoint; r <= Self; r++ {
		assert.NotEmpty(t, r.Word(), fmt.Sprint(r))
	}
}
