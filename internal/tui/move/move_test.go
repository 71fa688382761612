package move

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/change"
	"andamio/internal/core/migrate"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/site"
	"andamio/internal/store"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

var now = time.Date(2026, 11, 28, 20, 0, 0, 0, time.UTC)

// standing is the view with the drill standing, and vega paired with alisio-norte.
func standing(t *testing.T) *View {
	t.Helper()
	p := plantest.Plan(t, "drill")
	stand, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	stand.Plan.Known = map[string]map[string]string{"contacts-port-1": {"address": "127.8.17.4", "port.5432": "5432"}}
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	fine := site.Trial{Reachable: true, BytesPerSecond: 50e6, RoundTrip: time.Millisecond}
	v := New(context.Background(), nil)
	v.Update(gathered{deployments: []deployments.Deployment{{Deployment: store.Deployment{ID: 3, Name: "flood-watch"}, Runs: []store.Run{{State: run.Standing}}, Stand: stand}}, estate: e,
		pairs: []sites.Pair{{A: "alisio-norte", B: "vega", Start: sites.Both, AtoB: fine, BtoA: fine}, {A: "presa", B: "vega", Start: sites.Both, AtoB: site.Trial{Why: "refused"}, BtoA: fine}}})
	require.NotEmpty(t, v.rows)
	return v
}

func drawn(v *View, w, h int) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, h)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: h}, now)
	return ansi.Strip(c.String())
}

func press(t *testing.T, v *View, keys ...string) (out []tea.Msg) {
	t.Helper()
	for _, k := range keys {
		cmd, used := view.Press(v.Keys(), k)
		require.True(t, used, k)
		if cmd != nil {
			out = append(out, cmd())
		}
	}
	return out
}

func TestWhatHowAndWhereAreChosen(t *testing.T) {
	v := standing(t)
	text := drawn(v, 160, 43)
	for _, want := range []string{"contacts-host-1 → presa", "flood-watch  deployment 3", "61 cores", "paired with vega: 50 MB/s", "vega does not reach presa: refused", "not paired with vega",
		"wherever placement puts it", "while it moves    warm"} {
		assert.Contains(t, text, want)
	}
	press(t, v, "right", "right", "down", "down")
	assert.Equal(t, "alisio-norte", v.target())
	assert.Contains(t, drawn(v, 160, 43), "contacts-host-1 → alisio-norte")
	press(t, v, "down", "down", "down", "down", "down")
	assert.Empty(t, v.target(), "the last has placement choose")
	assert.NotContains(t, drawn(v, 160, 43), "cheapest, no less", "what placement chooses is not asked")
	v.Wheel(-1)
	assert.Equal(t, "tramonta", v.target())
	press(t, v, "tab", "down", "space", "down", "space")
	assert.True(t, v.marked["forecast-host-1"] || len(v.marked) == 2, "%v", v.marked)
	assert.Contains(t, drawn(v, 160, 43), "2 workloads, in waves → tramonta")
	assert.True(t, v.Find("map-host"))
	assert.Equal(t, "map-host-1", v.rows[v.cursor].id)
	assert.False(t, v.Find("nothing like it"))
}

// setTo goes to a setting and changes it until it has a value.
func setTo(t *testing.T, v *View, name, value string) {
	t.Helper()
	v.focus = onSettings
	for range 12 {
		all := v.settings()
		v.knob = slices.IndexFunc(all, func(s setting) bool { return s.name == name })
		require.GreaterOrEqual(t, v.knob, 0, name)
		if all[v.knob].value == value {
			return
		}
		press(t, v, "space")
	}
	t.Fatalf("%s never was %q", name, value)
}

// answer types an answer to the question that a setting asks.
func answer(t *testing.T, v *View, name, text string) tea.Msg {
	t.Helper()
	v.focus = onSettings
	v.knob = slices.IndexFunc(v.settings(), func(s setting) bool { return s.name == name })
	msgs := press(t, v, "space")
	require.Len(t, msgs, 1, name)
	ask := msgs[0].(view.Prompt).Act
	if ask.Wrong != nil {
		require.Empty(t, ask.Wrong(text))
		assert.NotEmpty(t, ask.Wrong("not a number"))
	}
	if cmd := ask.Answer(text); cmd != nil {
		return cmd()
	}
	return nil
}

func TestEverythingOfAMoveIsChosenOnScreen(t *testing.T) {
	v := standing(t)
	v.to = slices.Index(v.sites, "alisio-norte")
	setTo(t, v, "while it moves", "live")
	setTo(t, v, "cut over", "as soon as it can be")
	setTo(t, v, "compressed", "off")
	setTo(t, v, "rounds", "kept apart until the commit")
	setTo(t, v, "zone", "2")
	setTo(t, v, "size", "c4-16")
	setTo(t, v, "network", "front-net")
	setTo(t, v, "hardware address", "kept")
	answer(t, v, "may stand still", "0.2")
	answer(t, v, "at most", "12")
	answer(t, v, "address", " keep ")
	answer(t, v, "host name", "register")
	assert.Nil(t, answer(t, v, "window", "6 FREQ=WEEKLY;BYDAY=SA"))
	assert.Equal(t, view.Notice{Text: "say for how many hours, and then when", Bad: true}, answer(t, v, "window", "6"))
	w := v.wish
	assert.Equal(t, change.Live, w.Mode)
	assert.True(t, w.AtOnce && w.KeepLayers)
	assert.Equal(t, 0.2, w.Pause)
	assert.EqualValues(t, 12e6, w.Limit)
	assert.Equal(t, 6.0, w.Hours)
	assert.Equal(t, migrate.Choice{Zone: "2", Size: "c4-16", Network: "front-net", KeepMAC: true, Address: "keep", Hostname: "register"}, w.Like)
	text := drawn(v, 160, 43)
	for _, want := range []string{"12 MB/s", "6 h, FREQ=WEEKLY", "c4-16", "register"} {
		assert.Contains(t, text, want)
	}
	answer(t, v, "window", "0")
	assert.Empty(t, v.wish.Window)

	press(t, v, "o")
	assert.Contains(t, drawn(v, 160, 43), "there, for contacts-host-1 alone")
	setTo(t, v, "zone", "3")
	assert.Equal(t, "2", v.wish.Like.Zone, "the others keep theirs")
	assert.Equal(t, "3", v.wish.Each["contacts-host-1"].Zone)
	press(t, v, "m")
	assert.Equal(t, change.Cold, v.wish.Mode)
	assert.Equal(t, -1, slices.IndexFunc(v.settings(), func(s setting) bool { return s.name == "rounds" }), "a cold one has no rounds")
}

func TestARuleThatForbidsItIsLiftedWhenSaid(t *testing.T) {
	v := standing(t)
	broken := &moves.Breaking{Breaches: []placement.Breach{{Rule: "sensitive-data-stays-home", Because: "its data is sensitive", Workloads: []string{"contacts-host-1"}, How: "presa"}}}
	v.Update(drafted{err: fmt.Errorf("wave 1: %w", broken)})
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "the rules forbid it: contacts-host-1: its")
	assert.Contains(t, text, "lifts the rule for this move")
	assert.NotContains(t, text, "--lift", "flags are for the command line")
	msgs := press(t, v, "l")
	ask := msgs[0].(view.Confirm).Act
	assert.Contains(t, ask.Effect, "its data is sensitive (presa)")
	v.sites = nil // nothing is worked out here
	ask.Do()
	assert.Equal(t, []string{"sensitive-data-stays-home"}, v.wish.Lift)
	v.Update(drafted{err: fmt.Errorf("vega and tramonta are not paired")})
	assert.Contains(t, drawn(v, 160, 43), "are not paired")
}

func TestWhatTheMapAsksForIsMarked(t *testing.T) {
	v := standing(t)
	v.Update(view.PlanMove{Instances: []string{"map-host-1", "map-host-2"}})
	assert.Equal(t, map[string]bool{"map-host-1": true, "map-host-2": true}, v.marked)
	assert.Contains(t, drawn(v, 160, 43), "▣")
}

// draftOf is a move of one workload, worked out as far as no site has to be asked.
func draftOf(t *testing.T, v *View, mode change.Mode) *moves.Draft {
	t.Helper()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	stand := v.deployments[0].Stand
	to, err := migrate.Relocate(stand.Plan, e, []migrate.Choice{{Instance: "contacts-host-1", Site: "alisio-norte"}}, nil)
	require.NoError(t, err)
	p, _, err := change.Move(stand, to, change.Moving{Instances: []string{"contacts-host-1"}, Mode: mode, Copying: plan.Copying{Await: true}}, "move")
	require.NoError(t, err)
	load := migrate.Load{Used: 168e6, Size: 20 << 30, Rate: 1e6, Bandwidth: 50e6, Mode: mode}
	window := plan.Window{From: now.Add(2 * time.Hour), To: now.Add(8 * time.Hour)}
	m := &moves.Move{Name: "contacts-host-1 to alisio-norte", Request: moves.Request{Mode: mode}, Loads: map[string]migrate.Load{"contacts-host-1": load},
		Waves: []migrate.Wave{{Instances: []string{"contacts-host-1"}, Seconds: 7200}, {Instances: []string{"map-host-1"}, Seconds: 5 * 3600}}, States: []moves.WaveState{moves.WavePlanned, moves.WavePlanned},
		Choices: []migrate.Choice{{Instance: "contacts-host-1", Site: "alisio-norte"}}, From: map[string]string{"contacts-host-1": "vega"}}
	d := &moves.Draft{Move: m, Order: deployments.Order{Plan: p}, Stand: stand, To: to, Loads: m.Loads, Forecasts: map[string]migrate.Forecast{"contacts-host-1": migrate.Predict(load)},
		Windows: []plan.Window{window, {From: window.From.AddDate(0, 0, 7), To: window.To.AddDate(0, 0, 7)}}, Seconds: 35, Down: 14, Rehearsed: rehearse.Answer{P90: 44 * time.Second},
		Secrets: []string{"register_key"}}
	d.Differences = migrate.Differences(stand, to, e, []string{"contacts-host-1"}, mode)
	m.Differences = d.Differences
	return d
}

func TestAMoveIsSeenBeforeItBegins(t *testing.T) {
	v := standing(t)
	v.Update(drafted{draft: draftOf(t, v, change.Warm)})
	text := drawn(v, 160, 43)
	for _, want := range []string{"▱ not begun", "about 35 s (9 in 10 within 44 s), not serving 14 s", "window Sat 22:00–04:00", "fits", "── address ──▸", "127.8.17.4", "one of the site's", "── distance to alert-dispatch 1",
		"12 ms", "run-book   contacts-host-1", "first copy", "when you say", "secrets do not travel: register_key", "kept at vega, to go back to", "wave 1", "Sat 28 Nov", "Sat 28 Nov 22:00, about 2.0 h", "wave 2", "map-host-1"} {
		assert.Contains(t, text, want)
	}
	assert.Contains(t, text, "Sat 5 Dec 22:00", "the second wave has no room in the first window")
	for _, size := range [][2]int{{80, 20}, {100, 30}, {200, 60}} {
		small := drawn(v, size[0], size[1])
		assert.Contains(t, small, "not begun", "%v", size)
		assert.Contains(t, small, "first copy", "%v", size)
		for _, l := range strings.Split(small, "\n") {
			assert.LessOrEqual(t, ansi.StringWidth(l), size[0])
		}
	}
	why := v.Why()
	assert.Contains(t, fmt.Sprint(why.Lines), "168.0 MB are on its disks")
	msgs := press(t, v, "r")
	ask := msgs[0].(view.Prompt).Act
	assert.True(t, ask.Hide, "a secret is not shown while it is typed")
	assert.Equal(t, "nothing is given yet", ask.Wrong(""))
	press(t, v, "esc")
	assert.Contains(t, drawn(v, 160, 43), "a new move")

	far := draftOf(t, v, change.Warm)
	far.Move.Waves = far.Move.Waves[:1]
	far.Forecasts["contacts-host-1"] = migrate.Forecast{}
	v.Update(drafted{draft: far})
	assert.Contains(t, drawn(v, 160, 43), "contacts-host-1 does not converge: 1 MB a second change, 50 MB get through")
}

// going is the view with a move that goes on, and what says something of it.
func going(t *testing.T) (*View, func(kind run.EventKind, step string, attributes ...string)) {
	t.Helper()
	v := standing(t)
	d := draftOf(t, v, change.Warm)
	d.Move.Waves, d.Move.States = d.Move.Waves[:1], []moves.WaveState{moves.WaveMoving}
	d.Move.ID, d.Move.Runs = 1, []store.MoveRun{{Wave: 0, Kind: store.MoveThere, Run: 9}}
	v.moves, v.at, v.runID, v.state = []*moves.Move{d.Move}, 0, 9, run.New(d.Order.Plan)
	seq := int64(0)
	return v, func(kind run.EventKind, step string, attributes ...string) {
		seq++
		e := run.Event{Seq: seq, At: now.Add(time.Duration(seq-60) * time.Second), Kind: kind, Step: step, Attributes: map[string]string{}}
		if s := v.state.Step(step); s != nil {
			e.Resource = s.Resource
		}
		for i := 0; i < len(attributes); i += 2 {
			e.Attributes[attributes[i]] = attributes[i+1]
		}
		v.state.Apply(e)
	}
}

func TestAMoveIsFollowedToItsEnd(t *testing.T) {
	v, say := going(t)
	say(run.RunStarted, "")
	assert.Contains(t, drawn(v, 160, 43), "◩ waiting")
	for _, s := range v.state.Plan.Steps {
		if s.Op == op.Create || s.Op == op.Attach {
			say(run.StepStarted, s.ID)
			say(run.StepDone, s.ID)
		}
	}
	say(run.StepStarted, "contacts-host-1/replicate")
	say(run.Sized, "contacts-host-1/replicate", "disk", "contacts-host-1", "total", "160000000")
	say(run.Sized, "contacts-host-1/replicate", "disk", "contacts-vol-1", "total", "8000000")
	say(run.RoundBegun, "contacts-host-1/replicate", "disk", "contacts-host-1", "round", "1", "total", "160000000")
	say(run.Copied, "contacts-host-1/replicate", "disk", "contacts-host-1", "bytes", "40000000", "done", "40000000", "took", "1")
	text := drawn(v, 160, 43)
	for _, want := range []string{"◩ first copy", "25%", "120 MB left", "8 MB left", "ready in", "to cut over", "if cut over now", "built, asleep"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "round 0")
	assert.Contains(t, drawn(v, 80, 20), "first copy")
	say(run.RoundDone, "contacts-host-1/replicate", "disk", "contacts-host-1")
	say(run.StepDone, "contacts-host-1/replicate")
	say(run.StepStarted, "contacts-host-1/follow")
	say(run.Judged, "contacts-host-1/follow", "round", "2", "bytes", "1000", "changing", "500", "bandwidth", "50000000", "pause", "0.01")
	text = drawn(v, 160, 43)
	assert.Contains(t, text, "ready to cut over")
	assert.Contains(t, text, "cutting over takes")
	assert.Equal(t, "1", v.Badge(now))
	keys := fmt.Sprint(v.Keys())
	assert.Contains(t, keys, "cut over")
	assert.Contains(t, keys, "pause")
	msgs := press(t, v, "c")
	assert.Contains(t, msgs[0].(view.Confirm).Act.Effect, "what is left is copied in about 0.0 s")
	assert.Contains(t, fmt.Sprint(v.Why().Lines), "50.0 MB a second get through")

	say(run.StepFailed, "contacts-host-1/follow")
	assert.Contains(t, fmt.Sprint(v.Keys()), "try again")
	v.moves[0].States[0] = moves.WaveMoved
	text = drawn(v, 160, 43)
	assert.Contains(t, text, "‖ moved, not committed")
	assert.Contains(t, fmt.Sprint(v.Keys()), "commit")
	require.Len(t, v.Actions(), 2)
	assert.Contains(t, fmt.Sprint(v.Why().Lines), "jurisdiction", "why lists all that is otherwise")
	v.moves[0].States[0] = moves.WaveDone
	assert.Contains(t, drawn(v, 160, 43), "committed")
	assert.Empty(t, v.Badge(now))
	press(t, v, "n")
	assert.Contains(t, drawn(v, 160, 43), "a new move")
}

// TestAMoveThatGoesOnIsFollowedAgain: its worker fell silent, which is said until it is heard of again; it ended, and another goes on.
func TestAMoveThatGoesOnIsFollowedAgain(t *testing.T) {
	v, say := going(t)
	a, err := app.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = a.Close() })
	v.app, v.epoch = a, 1
	say(run.RunStarted, "")
	const silent = "its worker is silent"
	assert.NotNil(t, v.Update(heard{9, runs.Batch{Silent: true}, true}), "it is listened to all the same")
	assert.Contains(t, drawn(v, 160, 43), silent)
	assert.Contains(t, drawn(v, 80, 20), silent)
	assert.NotNil(t, v.Update(heard{9, runs.Batch{}, true}))
	assert.NotContains(t, drawn(v, 160, 43), silent, "it was heard of again")

	assert.Nil(t, v.Update(heard{9, runs.Batch{Last: true}, true}))
	v.Update(view.Runs{Runs: []app.Run{{ID: 9, Epoch: 1}}})
	assert.True(t, v.heardOut, "nobody has gone on with it")
	v.Update(view.Runs{Runs: []app.Run{{ID: 8, Epoch: 2}}})
	assert.True(t, v.heardOut, "that is another")
	v.Update(view.Runs{Runs: []app.Run{{ID: 9, Epoch: 2}}})
	assert.False(t, v.heardOut)
	assert.NotNil(t, v.watch)
	assert.NotNil(t, v.state, "what is known of it stays")
	v.stop()

	say(run.RunEnded, "")
	v.Update(heard{9, runs.Batch{Last: true}, true})
	assert.False(t, v.silent, "it is over")
}

func TestNothingToMoveIsSaid(t *testing.T) {
	v := New(context.Background(), nil)
	v.Update(gathered{})
	assert.Contains(t, drawn(v, 160, 43), "nothing stands that could be moved")
	for _, key := range []string{"enter", "p", "space", "down", "o", "m", "]"} {
		cmd, used := view.Press(v.Keys(), key)
		assert.True(t, used, key)
		_ = cmd
	}
	assert.NotPanics(t, func() { drawn(v, 40, 10) })
}
