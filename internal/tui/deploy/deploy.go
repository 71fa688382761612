// Package deploy is the Deploy view: is it going up, and when is it done? A plan that has not begun, or a run: its
// elevation, live, its timeline, and of the selected resource the three readings, the steps and the log.
package deploy

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/elevation"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/store"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// View is the Deploy view.
type View struct {
	ctx context.Context
	app *app.App

	// draft is shown while run is 0.
	draft *app.Draft
	runID int64
	state *run.State
	watch <-chan app.Batch
	stop  context.CancelFunc
	// silent says that the run's worker has fallen silent.
	silent bool
	runs   []store.Run
	// chosen says that the user has opened something, so that new runs are not shown by themselves.
	chosen bool

	elevation part.Elevation
	timeline  bool
	detail    bool
	// follow keeps the selection on what is under way, until the user selects.
	follow bool
	now    time.Time
	// lanes is how many lanes the timeline may have.
	lanes int
	kept  keptTimes
}

// New makes the view.
func New(ctx context.Context, a *app.App) *View {
	v := &View{ctx: ctx, app: a, timeline: true, follow: true}
	v.elevation.Notes = v.plankNotes
	return v
}

// Name, Digit and Badge describe the tab.
func (v *View) Name() string  { return "Deploy" }
func (v *View) Digit() string { return "4" }

// Badge counts the failed steps.
func (v *View) Badge(time.Time) string {
	if v.state != nil && v.runID != 0 && v.state.Failures > 0 {
		return fmt.Sprint(v.state.Failures)
	}
	return ""
}

// heard is a batch of the watched run's events.
type heard struct {
	run   int64
	batch app.Batch
	more  bool
}

// begun says that a run was begun.
type begun struct{ id int64 }

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Runs:
		v.runs = msg.Runs
		if !v.chosen && v.runID == 0 && len(msg.Runs) > 0 && v.draft == nil {
			return v.open(msg.Runs[0].ID)
		}
	case view.OpenDraft:
		v.close()
		v.draft, v.runID, v.chosen = msg.Draft, 0, true
		v.state = run.New(msg.Draft.Plan)
		v.elevation.Selected, v.follow = part.First(v.state), false
		if notes := msg.Draft.Plan.Notes; len(notes) > 0 {
			return view.Cmd(view.Told{Text: "note: " + strings.Join(notes, "; ")})
		}
	case view.OpenRun:
		v.chosen = true
		return v.open(msg.ID)
	case begun:
		return tea.Batch(v.open(msg.id), view.Cmd(view.Told{Text: fmt.Sprintf("run %d has begun; it goes on even if you leave", msg.id)}))
	case opened:
		return v.attach(msg)
	case heard:
		return v.hear(msg)
	}
	return nil
}

// opened is a run read from the store.
type opened struct {
	id    int64
	state *run.State
	err   error
}

// open reads a run and begins to watch it.
func (v *View) open(id int64) tea.Cmd {
	v.close()
	v.runID = id
	return func() tea.Msg {
		s, err := v.app.Replay(v.ctx, id)
		return opened{id, s, err}
	}
}

func (v *View) close() {
	if v.stop != nil {
		v.stop()
	}
	v.stop, v.watch, v.silent = nil, nil, false
}

func (v *View) attach(msg opened) tea.Cmd {
	if msg.id != v.runID {
		return nil
	}
	if msg.err != nil {
		return view.Cmd(view.Told{Text: msg.err.Error(), Bad: true})
	}
	v.state, v.draft, v.follow = msg.state, nil, true
	v.elevation.Selected = part.First(v.state)
	if v.state.Over() {
		return nil
	}
	ctx, stop := context.WithCancel(v.ctx)
	v.stop = stop
	v.watch = v.app.Watch(ctx, v.runID, v.state.LastSeq)
	return v.listen()
}

// listen waits for the next batch.
func (v *View) listen() tea.Cmd {
	id, watch := v.runID, v.watch
	return func() tea.Msg {
		b, ok := <-watch
		return heard{id, b, ok}
	}
}

func (v *View) hear(msg heard) tea.Cmd {
	if msg.run != v.runID || v.watch == nil || !msg.more {
		return nil
	}
	for _, e := range msg.batch.Events {
		v.state.Apply(e)
	}
	if v.follow {
		v.followUp()
	}
	if msg.batch.Err != nil {
		return view.Cmd(view.Told{Text: msg.batch.Err.Error(), Bad: true})
	}
	if msg.batch.Last {
		v.silent = !v.state.Over()
		return nil
	}
	return v.listen()
}

// followUp moves the selection on when what was selected stands.
func (v *View) followUp() {
	r := v.state.Resource(v.elevation.Selected)
	if r == nil || r.Status == run.Standing || r.Status == run.Planned {
		v.elevation.Selected = part.First(v.state)
	}
	if v.state.Over() && v.state.Status == run.Standing {
		for i := range v.state.Resources {
			if x := &v.state.Resources[i]; x.Kind == plan.Endpoint {
				v.elevation.Selected = x.ID // what it was all for
			}
		}
		v.follow = false
	}
}

// Key acts on a key.
func (v *View) Key(key string) (tea.Cmd, bool) {
	switch key {
	case "up", "k":
		v.move(0, -1)
	case "down", "j":
		v.move(0, 1)
	case "left", "h":
		v.move(-1, 0)
	case "right", "l":
		v.move(1, 0)
	case "enter":
		v.detail = !v.detail
	case "esc":
		if !v.detail {
			return nil, false
		}
		v.detail = false
	case "z":
		v.elevation.Zoom = v.elevation.Zoom.Next()
		return view.Cmd(view.Told{Text: "zoom: " + v.elevation.Zoom.String()}), true
	case "b":
		v.elevation.By = elevation.ByService - v.elevation.By
	case "t":
		v.timeline = !v.timeline
	case "f":
		v.follow = true
		if v.state != nil {
			v.followUp()
		}
	case "[", "]":
		return v.otherRun(key), true
	case "r":
		return v.begin(), true
	default:
		return nil, false
	}
	return nil, true
}

func (v *View) move(dx, dy int) {
	if v.state != nil {
		v.follow = false
		v.elevation.Move(v.state, dx, dy)
	}
}

// otherRun opens the run before or after the shown one.
func (v *View) otherRun(key string) tea.Cmd {
	for i, r := range v.runs {
		if r.ID != v.runID {
			continue
		}
		if key == "[" && i+1 < len(v.runs) {
			return v.open(v.runs[i+1].ID)
		}
		if key == "]" && i > 0 {
			return v.open(v.runs[i-1].ID)
		}
	}
	return view.Cmd(view.Told{Text: "there is no other run in that direction"})
}

// begin asks whether to run the plan on screen.
func (v *View) begin() tea.Cmd {
	if v.draft == nil || v.state == nil {
		return view.Cmd(view.Told{Text: "this is a run already; 2 Design makes a new plan"})
	}
	p := v.draft.Plan
	return view.Cmd(view.Confirm{Act: view.Act{
		Name: "run this plan",
		Effect: fmt.Sprintf("builds %d resources at %d sites in %d steps, expected to take %s; costs %.3f %s/h from then on",
			len(p.Resources), len(p.Sites), len(p.Steps), part.Clock(time.Duration(p.Seconds*float64(time.Second))), p.CostPerHour, p.Currency),
		Do: func() tea.Cmd {
			return func() tea.Msg {
				id, err := v.app.Begin(v.ctx, app.Order{Plan: p, Template: v.draft.Template.Origin()})
				if err != nil {
					return view.Told{Text: err.Error(), Bad: true}
				}
				return begun{id}
			}
		}}})
}

// Click selects the plank under the mouse; Wheel moves the selection.
func (v *View) Click(x, y int) tea.Cmd {
	if id := v.elevation.At(x, y); id != "" {
		v.elevation.Selected, v.follow = id, false
	}
	return nil
}

// Wheel moves the selection up or down.
func (v *View) Wheel(dy int) { v.move(0, dy) }

// Find selects the first resource whose name contains the text, beginning after the selected one.
func (v *View) Find(text string) bool {
	if v.state == nil {
		return false
	}
	text = strings.ToLower(text)
	for i := range v.state.Resources {
		r := &v.state.Resources[i]
		if strings.Contains(strings.ToLower(r.Title+" "+r.ID), text) {
			v.elevation.Selected, v.follow = v.state.Plan.Plank(r.ID), false
			return true
		}
	}
	return false
}

// Keys are the view's keys.
func (v *View) Keys() []view.Key {
	keys := []view.Key{{Key: "↑↓←→", Does: "plank"}}
	if v.draft != nil {
		keys = append(keys, view.Key{Key: "r", Does: "run it"})
	}
	return append(keys, view.Key{Key: "enter", Does: "detail"}, view.Key{Key: "w", Does: "why"}, view.Key{Key: "a", Does: "acts"},
		view.Key{Key: "z", Does: "zoom"}, view.Key{Key: "b", Does: "by service"}, view.Key{Key: "t", Does: "timeline"},
		view.Key{Key: "f", Does: "follow"}, view.Key{Key: "[ ]", Does: "other runs"}, view.Key{Key: "/", Does: "find"}, view.Key{Key: "e", Does: "export"})
}

// Acts are what can be done to the plan or run.
func (v *View) Acts() []view.Act {
	switch {
	case v.state == nil:
		return nil
	case v.draft != nil:
		return []view.Act{{Name: "run this plan", Effect: "asks once more, with what it costs", Do: v.begin},
			{Name: "back to the design", Effect: "nothing is built", Do: func() tea.Cmd { return view.Cmd(view.Goto{Digit: "2"}) }}}
	case !v.state.Over() && !v.silent:
		return []view.Act{{Name: fmt.Sprintf("cancel run %d", v.runID), Type: v.state.Plan.Name,
			Effect: "begins no further step and interrupts those under way; what stands stays, and the journal says how far each got",
			Do:     v.cancel}}
	}
	return []view.Act{{Name: "plan again", Effect: "goes to the design; nothing is built before you say so",
		Do: func() tea.Cmd { return view.Cmd(view.Goto{Digit: "2"}) }}}
}

func (v *View) cancel() tea.Cmd {
	id := v.runID
	return func() tea.Msg {
		if err := v.app.Cancel(v.ctx, id); err != nil {
			return view.Told{Text: err.Error(), Bad: true}
		}
		return view.Told{Text: fmt.Sprintf("run %d is asked to stop", id)}
	}
}

// Export writes the elevation and the timeline.
func (v *View) Export() tea.Cmd {
	if v.state == nil {
		return nil
	}
	s, by := v.state.Snapshot(), v.elevation.By
	return func() tea.Msg {
		files, err := app.ExportPictures(s, by, time.Now(), ".")
		if err != nil {
			return view.Told{Text: err.Error(), Bad: true}
		}
		return view.Told{Text: "written: " + strings.Join(files, ", ")}
	}
}
