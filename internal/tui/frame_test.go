package tui

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/guard"
	"andamio/internal/core/money"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
	"andamio/internal/golden"
	"andamio/internal/service/runs"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
	"andamio/internal/store/sqlite"
	"andamio/internal/tui/tuitest"
	"andamio/internal/tui/view"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// framed is the application without a terminal, on a workspace of its own.
func framed(t *testing.T, w, h int) (*frame, *app.App) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	a, err := app.Open(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { cancel(); a.Close() })
	f := newFrame(ctx, a, Options{W: w, H: h})
	f.now = noon
	return f, a
}

// send gives the frame messages and, in turn, those that its commands give at once.
func send(f *frame, msgs ...tea.Msg) {
	for _, m := range msgs {
		_, cmd := f.Update(m)
		settle(f, cmd, 6)
	}
}

func settle(f *frame, cmd tea.Cmd, depth int) {
	if cmd == nil || depth == 0 {
		return
	}
	got := make(chan tea.Msg, 1)
	go func() { got <- cmd() }()
	select {
	case m := <-got:
		if batch, ok := m.(tea.BatchMsg); ok {
			for _, c := range batch {
				settle(f, c, depth-1)
			}
			return
		}
		_, next := f.Update(m)
		settle(f, next, depth-1)
	case <-time.After(120 * time.Millisecond): // a timer, a watcher that waits, or what takes long
		late.Lock()
		late.of[f] = append(late.of[f], got)
		late.Unlock()
	}
}

// late is what commands have not answered yet, by frame.
var late = struct {
	sync.Mutex
	of map[*frame][]chan tea.Msg
}{of: map[*frame][]chan tea.Msg{}}

// arrived waits until the screen shows what is worked out beside it.
func arrived(t *testing.T, f *frame, what string) {
	t.Helper()
	require.Eventually(t, func() bool {
		late.Lock()
		waiting := late.of[f]
		delete(late.of, f)
		late.Unlock()
		for _, got := range waiting {
			settle(f, func() tea.Msg { return <-got }, 6)
		}
		return strings.Contains(text(f), what)
	}, 2*time.Minute, time.Millisecond, what)
}

func keys(names ...string) []tea.Msg {
	var out []tea.Msg
	for _, n := range names {
		out = append(out, tuitest.Key(n))
	}
	return out
}

// lines are the rows of the screen.
func lines(f *frame) []string { return strings.Split(strings.TrimSuffix(text(f), "\n"), "\n") }

func text(f *frame) string {
	f.now = noon
	lines := strings.Split(ansi.Strip(f.draw()), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n") + "\n"
}

// recorded compares a screen with its golden file.
func recorded(t *testing.T, name, screen string) {
	t.Helper()
	golden.Is(t, filepath.Join("testdata", name+".txt"), screen)
}

// draftOf is a draft whose plan is the recorded one.
func draftOf(t *testing.T, preset string) *templates.Draft {
	t.Helper()
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	d := templates.NewDraft(tmpl, templates.DraftRequest{Preset: preset}, e)
	require.NoError(t, d.Err)
	return d
}

func TestScreensAreAsRecorded(t *testing.T) {
	for _, size := range []struct {
		name string
		w, h int
	}{{"wide", 160, 47}, {"small", 80, 24}} {
		f, _ := framed(t, size.w, size.h)
		send(f, view.OpenDraft{Draft: draftOf(t, "drill")}, view.Goto{Digit: "4"})
		arrived(t, f, "about 1m12s") // rehearsed, not only added up
		send(f, keys("/", "r", "e", "a", "d", "i", "n", "g", "s", "-", "h", "enter")...)
		recorded(t, "plan-"+size.name, text(f))
		send(f, keys("w")...)
		recorded(t, "why-"+size.name, text(f))
		send(f, keys("esc", "?")...)
		recorded(t, "keys-"+size.name, text(f))
		send(f, keys("esc", "z", "z", "z", "z")...)
		recorded(t, "density-"+size.name, text(f))
	}
}

func TestTheQueueIsRanked(t *testing.T) {
	f, _ := framed(t, 130, 40)
	at := func(minutes int) time.Time { return noon.Add(-time.Duration(minutes) * time.Minute) }
	send(f, view.Goto{Digit: "0"}, view.Drafted{Draft: draftOf(t, "drill")}, view.Runs{Runs: []store.Run{
		{ID: 5, Deployment: 1, Name: "lab", Preset: "drill", State: run.Failed, Created: at(9), Ended: at(5), Beat: at(5), Steps: 10},
		{ID: 4, Deployment: 2, Name: "gone", State: run.UnderWay, Created: at(9), Beat: at(8), Steps: 10},
		{ID: 3, Deployment: 1, Name: "lab", State: run.Failed, Created: at(99), Ended: at(98), Beat: at(98), Steps: 10},
		{ID: 2, Deployment: 3, Name: "old", State: run.Stopped, Created: at(200), Ended: at(199), Beat: at(199), Steps: 10},
		{ID: 1, Deployment: 4, Name: "good", Preset: "drill", State: run.Standing, Created: at(300), Ended: at(299), Beat: at(299), Steps: 10, CostPerHour: money.Of(2.5), Currency: "cr"},
	}})
	recorded(t, "today", text(f))
	queue := text(f)
	order := []string{"gone run 4 has lost its worker", "lab run 5 failed", "old run 2 was cancelled", "flood-watch is ready to build"}
	last := -1
	for _, want := range order {
		at := strings.Index(queue, want)
		assert.Greater(t, at, last, want)
		last = at
	}
	assert.NotContains(t, strings.Split(queue, "standing\n")[0], "lab run 3", "a later run of the same template takes its place")
	send(f, keys("down", "w")...)
	assert.Contains(t, text(f), "A step of it failed for good")
	send(f, keys("esc", "a")...)
	assert.Contains(t, text(f), "retry, skip, change or roll back")
	send(f, keys("esc", "/", "g", "o", "o", "d", "enter")...)
	assert.Regexp(t, `▐ ■ good run 1`, text(f))
}

func TestMistakesReachToday(t *testing.T) {
	f, _ := framed(t, 130, 40)
	d := draftOf(t, "drill")
	d.Diagnostics = append(d.Diagnostics, d.Template.Diagnostics...)
	bad := *d
	bad.Plan = nil
	bad.Err = os.ErrInvalid
	send(f, view.Drafted{Draft: &bad})
	assert.Contains(t, text(f), "flood-watch cannot be placed")
}

func TestAPlanIsShownBeforeItRuns(t *testing.T) {
	f, a := framed(t, 160, 47)
	send(f, view.OpenDraft{Draft: draftOf(t, "drill")}, view.Goto{Digit: "4"})
	send(f, keys("r")...)
	assert.Contains(t, text(f), "the plan needs the secret register_key", "what is missing is asked for")
	send(f, tea.PasteMsg{Content: "k-0123"})
	assert.NotContains(t, text(f), "k-0123", "and not shown")
	send(f, keys("enter")...)
	kept, err := workspace.New(a.Opened().Dir).Secrets([]string{"register_key"})
	require.NoError(t, err)
	assert.Equal(t, "k-0123", kept["register_key"])
	assert.Contains(t, text(f), "builds 47 resources at 5 sites in 82 steps")
	send(f, keys("enter")...)
	assert.Contains(t, text(f), "the plan needs the site presa", "what is missing is said, and nothing begins")
	runs, err := a.Runs(context.Background())
	require.NoError(t, err)
	assert.Empty(t, runs)
	send(f, keys("a")...)
	assert.Contains(t, text(f), "back to the design")
	send(f, keys("2")...)
	assert.Contains(t, text(f), "━━━━━━━━", "the second act goes to the Design view")
}

// stored is what a workspace keeps, beside it: a worker that a test plays has it from there.
func stored(t *testing.T, a *app.App) store.Store {
	t.Helper()
	s, err := sqlite.Open(t.Context(), filepath.Join(a.Opened().Dir, "andamio.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

func TestARunIsFollowedAsItIsJournalled(t *testing.T) {
	f, a := framed(t, 160, 47)
	ctx := context.Background()
	p := plantest.Plan(t, "drill")
	planID, err := stored(t, a).SavePlan(ctx, p)
	require.NoError(t, err)
	deployment, err := stored(t, a).CreateDeployment(ctx, p.Name, "", guard.Owner{})
	require.NoError(t, err)
	id, err := stored(t, a).CreateRun(ctx, store.Run{Plan: planID, Deployment: deployment, Wanted: planID, Steps: len(p.Steps), Limits: "{}"})
	require.NoError(t, err)
	epoch, err := stored(t, a).Claim(ctx, id, 0, "elsewhere/1", runs.Alive)
	require.NoError(t, err)
	j, err := stored(t, a).Journal(ctx, id, epoch)
	require.NoError(t, err)
	defer j.Close()
	begun := noon.Add(-30 * time.Second)
	require.NoError(t, j.Append(run.Event{Kind: run.RunStarted, At: begun},
		run.Event{Kind: run.StepStarted, At: begun, Step: "contacts-vol-1/create", Resource: "contacts-vol-1"},
		run.Event{Kind: run.SiteSays, At: begun.Add(time.Second), Resource: "contacts-vol-1", Text: "building"}))
	send(f, view.OpenRun{ID: id}, view.Goto{Digit: "4"})
	screen := text(f)
	assert.Contains(t, screen, "0 of 82 steps")
	assert.Regexp(t, `▐◩ contacts-vol\s+(create )?30s▌`, screen, "what is under way is selected")
	assert.Regexp(t, `we\s+waiting for active\s+30s`, screen)
	assert.Regexp(t, `site\s+building\s+29s ago`, screen)
	assert.Regexp(t, `endpoint\s+has none`, screen)
	require.NoError(t, j.Append(run.Event{Kind: run.SiteSays, At: noon, Resource: "contacts-vol-1", Text: "online", Good: true},
		run.Event{Kind: run.StepDone, At: noon, Step: "contacts-vol-1/create", Resource: "contacts-vol-1"}))
	require.Eventually(t, func() bool {
		for b := range a.Watch(ctx, id, 0) {
			return len(b.Events) == 5
		}
		return false
	}, 2*time.Minute, 20*time.Millisecond)
	send(f, view.OpenRun{ID: id})
	assert.Contains(t, text(f), "1 of 82 steps")
	recorded(t, "run-wide", text(f))
	assert.NotContains(t, text(f), "ask now")
	require.NoError(t, j.Append(run.Event{Kind: run.StepStarted, At: noon, Step: "readings-vol-1/create", Resource: "readings-vol-1"},
		run.Event{Kind: run.StepRetry, At: noon, Step: "readings-vol-1/create", Resource: "readings-vol-1", Text: "vega: create: rate-limited · it is asked again in 5m0s; retrying the step asks now"}))
	send(f, view.OpenRun{ID: id})
	assert.Contains(t, text(f), "ask now", "what waits for its site need not")
	send(f, keys("r")...)
	decided, err := stored(t, a).Decisions(ctx, id)
	require.NoError(t, err)
	require.Len(t, decided, 1)
	assert.Equal(t, "readings-vol-1/create", decided[0].Step)
}

func TestDesignShowsSourceAndWhyThereIsNoPlan(t *testing.T) {
	ctx := context.Background()
	a, err := app.Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer a.Close()
	f := newFrame(ctx, a, Options{W: 150, H: 44, Open: templates.DemoTemplate})
	send(f, view.Goto{Digit: "2"}, view.Runs{})
	recorded(t, "design-unconnected", text(f))
	send(f, keys("r")...)
	assert.Contains(t, text(f), "there is no plan: this workspace is connected to no site")
	send(f, keys("w")...)
	assert.Contains(t, text(f), "why there is no plan")
	send(f, keys("esc", "n")...)
	assert.Contains(t, text(f), "types.yaml · drill")
	send(f, keys("p")...)
	assert.Contains(t, text(f), "storm-season")
	send(f, keys("tab", "down", "enter", "backspace", "7", "7", "enter")...)
	assert.Contains(t, text(f), "1 changed")
	assert.Contains(t, text(f), "1 mistake")
	send(f, keys("a", "3")...)
	assert.NotContains(t, text(f), "1 changed")
	send(f, keys("/", "r", "i", "b", "e", "r", "a", ".", "n", "enter")...)
	assert.Contains(t, text(f), "ribera.nodes")
}

func TestSmallTerminalsAreTold(t *testing.T) {
	f, _ := framed(t, 40, 10)
	assert.Contains(t, f.draw(), "needs at least 60 × 16 cells; this terminal has 40 × 10")
	send(f, tea.WindowSizeMsg{Width: 100, Height: 30})
	assert.Contains(t, text(f), "needs you")
	for w := 60; w <= 200; w += 7 {
		send(f, tea.WindowSizeMsg{Width: w, Height: 16 + w/6})
		for _, d := range []string{"0", "2", "4"} {
			send(f, view.Goto{Digit: d})
			for _, line := range strings.Split(text(f), "\n") {
				assert.LessOrEqual(t, ansi.StringWidth(line), w)
			}
		}
	}
}

func TestTheTerminalDecidesTheColours(t *testing.T) {
	f, _ := framed(t, 100, 30)
	assert.Contains(t, f.draw(), ";2;")
	send(f, tea.ColorProfileMsg{Profile: colorprofile.ANSI256})
	assert.NotContains(t, f.draw(), ";2;")
	send(f, tea.ColorProfileMsg{Profile: colorprofile.TrueColor})
	before := f.draw()
	send(f, tea.BackgroundColorMsg{Color: ansi.BrightWhite})
	assert.NotEqual(t, before, f.draw(), "a light background is heard of")
}

func TestTabsAreClicked(t *testing.T) {
	f, _ := framed(t, 100, 30)
	_ = f.draw()
	send(f, tea.MouseClickMsg{X: f.tabs[5].X + 1, Y: 0})
	assert.Contains(t, text(f), "nothing stands yet")
	send(f, tea.MouseWheelMsg{Button: tea.MouseWheelUp}, tea.MouseClickMsg{X: 5, Y: 10})
	send(f, tea.MouseClickMsg{X: f.tabs[0].X + 1, Y: 0})
	send(f, keys("e")...)
	assert.Contains(t, text(f), "there is no picture to export here")
	send(f, tea.MouseClickMsg{X: f.tabs[4].X + 1, Y: 0})
	send(f, keys("w")...)
	assert.Contains(t, text(f), "nothing is selected")
	send(f, keys("esc", "a")...)
	assert.Contains(t, text(f), "nothing can be done here now")
}

// What is said of an answer that was waited for in vain goes once there is one; what else went wrong stays to be read.
func TestWhatIsSaidOfNoAnswerGoesWithTheNext(t *testing.T) {
	f, _ := framed(t, 160, 47)
	send(f, view.Failed(context.DeadlineExceeded))
	assert.Contains(t, text(f), "no answer in time")
	send(f, view.Runs{})
	assert.NotContains(t, text(f), "no answer in time")
	send(f, view.Notice{Text: "site vega is away", Bad: true}, view.Runs{}, view.Health{})
	assert.Contains(t, text(f), "site vega is away")
}
