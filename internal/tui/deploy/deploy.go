// Package deploy is the Deploy view: is it going up, and when is it done? A plan that has not begun, or a run: its
// elevation, live, its timeline, and of the selected resource the three readings, the steps and the log.
package deploy

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/runs"
	"andamio/internal/service/templates"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// View is the Deploy view.
type View struct {
	ctx context.Context
	app *app.App

	// order is shown while run is 0.
	order *deployments.Order
	// proposal is the one that the order on screen was kept in, nil for none.
	proposal *runs.Proposal
	runID    int64
	// epoch is that of the shown run's worker when it was looked up last, -1 before.
	epoch int64
	// held is which of the failed steps is chosen, in the queue of what waits for a person.
	held int
	// answer is what was rehearsed last, at what time of the run.
	answer     rehearse.Answer
	answerAt   time.Time
	answerTook time.Duration
	log        logPane
	state      *run.State
	watch      <-chan runs.Batch
	stop       context.CancelFunc
	// silent says that the run's worker has fallen silent.
	silent bool
	runs   []app.Run
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
	// arranging says that a timeline is made beside the screen.
	arranging bool
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
	batch runs.Batch
	more  bool
}

// begun says that a run was begun.
type begun struct{ id int64 }

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Runs:
		v.runs = msg.Runs
		if !v.chosen && v.runID == 0 && len(msg.Runs) > 0 && v.order == nil {
			return v.open(msg.Runs[0].ID)
		}
		return v.revive()
	case view.OpenDraft:
		return v.ordered(msg.Draft)
	case view.OpenOrder:
		return v.consider(msg)
	case arranged:
		if v.arranging = false; msg.state == v.state {
			v.kept = msg.keptTimes
		}
	case rehearsed:
		if msg.state == v.state {
			v.answer, v.answerTook = msg.answer, msg.took
		}
	case view.Show:
		if id, err := strconv.ParseInt(msg.Thing.ID, 10, 64); msg.Thing.Kind == reconcile.ARun && err == nil {
			v.chosen = true
			return v.open(id)
		}
	case view.OpenRun:
		v.chosen = true
		return v.open(msg.ID)
	case begun:
		return tea.Batch(v.open(msg.id), view.Cmd(view.Notice{Text: fmt.Sprintf("run %d has begun; it goes on even if you leave", msg.id)}))
	case opened:
		return v.attach(msg)
	case heard:
		return v.hear(msg)
	}
	return nil
}

// ordered shows what carries a draft out: of what stands already the difference.
func (v *View) ordered(d *templates.Draft) tea.Cmd {
	return func() tea.Msg {
		o, err := v.app.OrderOf(v.ctx, d)
		switch {
		case err != nil:
			return view.Failed(err)
		case len(o.Plan.Steps) == 0:
			return view.Notice{Text: d.Plan.Name + " stands as it is wanted: nothing is to be done"}
		}
		return view.OpenOrder{Order: o}
	}
}

// consider shows what an order would do.
func (v *View) consider(msg view.OpenOrder) tea.Cmd {
	o := msg.Order
	v.close()
	v.order, v.proposal, v.runID, v.chosen = &o, msg.Proposal, 0, true
	v.show(run.New(o.Plan))
	v.follow = false
	cmd := v.rehearse()
	if notes := slices.Concat(o.Plan.Notes, o.Plan.Promised.Lines(o.Plan.Currency)); len(notes) > 0 {
		return tea.Batch(cmd, view.Cmd(view.Notice{Text: "note: " + strings.Join(notes, "; ")}))
	}
	return cmd
}

// show takes a state on screen.
func (v *View) show(s *run.State) {
	v.state, v.held, v.answer, v.answerAt, v.answerTook = s, 0, rehearse.Answer{}, time.Time{}, 0
	v.log = logPane{}
	v.elevation.Selected = part.First(s)
	v.elevation.Marks = nil
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		if r.Change == "" || r.Change == plan.Keep || v.order == nil {
			continue
		}
		if v.elevation.Marks == nil {
			v.elevation.Marks = map[string]string{}
			v.elevation.Selected = s.Plan.Plank(r.ID)
		}
		v.elevation.Marks[s.Plan.Plank(r.ID)] = string(r.Change)
	}
}

// revive opens the shown run anew when another worker has gone on with it: however short that was, its epoch tells.
func (v *View) revive() tea.Cmd {
	r, known := v.stored()
	if v.runID == 0 || v.state == nil || !known || r.Epoch == v.epoch {
		return nil
	}
	first := v.epoch < 0
	v.epoch = r.Epoch
	if first || v.stop != nil && !v.state.Over() {
		return nil // it is followed as it goes
	}
	return v.open(v.runID)
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
	if v.runID != id {
		v.runID, v.epoch = id, -1
	}
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
		return view.Cmd(view.Failed(msg.err))
	}
	v.order, v.follow = nil, true
	v.show(msg.state)
	if v.state.Over() && !v.goesOn() {
		return nil
	}
	ctx, stop := context.WithCancel(v.ctx)
	v.stop = stop
	v.watch = v.app.Watch(ctx, v.runID, v.state.LastSeq)
	return v.listen()
}

// goesOn reports that somebody works on the shown run, whatever its journal says so far.
func (v *View) goesOn() bool {
	return slices.ContainsFunc(v.runs, func(r app.Run) bool { return r.ID == v.runID && r.State == run.UnderWay })
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
		return view.Cmd(view.Failed(msg.batch.Err))
	}
	if v.silent = msg.batch.Silent; msg.batch.Last {
		return nil
	}
	return tea.Batch(v.listen(), v.rehearse(), v.arrange())
}

// rehearsed is what came of imagining how a state goes on.
type rehearsed struct {
	state  *run.State
	answer rehearse.Answer
	took   time.Duration
}

// rehearseEvery is how often a run under way is imagined anew; a large one less often, so that it takes a small share of
// the machine's time.
const (
	rehearseEvery = 2 * time.Second
	rehearseShare = 20
)

// rehearse imagines beside the screen how what is shown goes on, now and again.
func (v *View) rehearse() tea.Cmd {
	if v.state == nil || v.state.Over() || time.Since(v.answerAt) < max(rehearseEvery, rehearseShare*v.answerTook) {
		return nil
	}
	v.answerAt, v.answerTook = time.Now(), time.Hour // until it is answered
	state, snap, now, order := v.state, v.state.Snapshot(), time.Now(), v.order
	return func() tea.Msg {
		var a rehearse.Answer
		var err error
		if order != nil {
			a, err = v.app.Rehearse(v.ctx, order.Plan, order.Limits)
		} else {
			a, err = v.app.RehearseRest(v.ctx, snap, now)
		}
		if err != nil {
			return view.Failed(err)
		}
		return rehearsed{state, a, time.Since(now)}
	}
}

// followUp moves the selection on when what was selected stands.
func (v *View) followUp() {
	r := v.state.Resource(v.elevation.Selected)
	if r == nil || r.Status == run.Standing || r.Status == run.Planned {
		v.elevation.Selected = part.First(v.state)
	}
	if v.state.Over() && v.state.Status == run.Standing && !v.state.Retiring() {
		for i := range v.state.Resources {
			if x := &v.state.Resources[i]; x.Kind == kinds.Endpoint {
				v.elevation.Selected = x.ID // what it was all for
			}
		}
		v.follow = false
	}
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
	return view.Cmd(view.Notice{Text: "there is no other run in that direction"})
}

// begin asks whether to run the plan on screen.
func (v *View) begin() tea.Cmd {
	missing, err := v.missing()
	if err != nil {
		return view.Cmd(view.Failed(err))
	}
	if len(missing) > 0 {
		return v.askSecret(missing[0])
	}
	o, p := *v.order, v.proposal
	return view.Cmd(view.Confirm{Act: view.Action{
		Name: "run this plan", Effect: v.effect(), Type: v.mustType(),
		Do: func() tea.Cmd {
			return func() tea.Msg {
				id, err := v.carryOut(o, p)
				if err != nil {
					return view.Failed(err)
				}
				return begun{id}
			}
		}}})
}

// carryOut begins an order, or confirms the proposal that it was kept in.
func (v *View) carryOut(o deployments.Order, p *runs.Proposal) (int64, error) {
	if p != nil {
		out, err := v.app.Confirm(v.ctx, p.ID)
		return out.Run, err
	}
	return v.app.Begin(v.ctx, o)
}

// propose keeps the plan on screen for somebody to confirm.
func (v *View) propose() tea.Cmd {
	o := *v.order
	return func() tea.Msg {
		p, err := v.app.Propose(v.ctx, o, runs.ProposalHolds)
		if err != nil {
			return view.Failed(err)
		}
		return view.Notice{Text: fmt.Sprintf("proposal %d holds until %s; it waits in Today for somebody to confirm it", p.ID, p.Until.Local().Format("Monday 15:04"))}
	}
}

// withdraw takes the proposal on screen back.
func (v *View) withdraw() tea.Cmd {
	id := v.proposal.ID
	return tea.Batch(v.doing(fmt.Sprintf("proposal %d is withdrawn", id), func() error { return v.app.Withdraw(v.ctx, id) }), view.Cmd(view.Goto{Digit: "0"}))
}

// missing are the secrets of the plan that nobody has given yet.
func (v *View) missing() ([]string, error) {
	if v.app == nil {
		return nil, nil
	}
	return v.app.MissingSecrets(v.order.Plan.Secrets)
}

// askSecret asks for a secret, keeps it with the credentials, and goes on to begin the run.
func (v *View) askSecret(name string) tea.Cmd {
	return view.Cmd(view.Prompt{Act: view.Action{Name: "the plan needs the secret " + name, Ask: "its value", Hide: true,
		Effect: "It is kept encrypted with the credentials, and given to the scripts that ask for it; it is in no plan and no log.",
		Answer: func(text string) tea.Cmd {
			if err := v.app.SetSecrets(v.ctx, map[string]string{name: text}); err != nil {
				return view.Cmd(view.Failed(err))
			}
			return v.begin()
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
	if v.log.open {
		v.log.find(text)
		return true
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

func (v *View) cancel() tea.Cmd {
	id := v.runID
	return func() tea.Msg {
		if err := v.app.Cancel(v.ctx, id); err != nil {
			return view.Failed(err)
		}
		return view.Notice{Text: fmt.Sprintf("run %d is asked to stop", id)}
	}
}

// Export writes the elevation and the timeline.
func (v *View) Export() tea.Cmd {
	if v.state == nil {
		return nil
	}
	s, by := v.state.Snapshot(), v.elevation.By
	return func() tea.Msg {
		files, err := deployments.ExportPictures(s, by, time.Now(), ".")
		if err != nil {
			return view.Failed(err)
		}
		return view.Notice{Text: "written: " + strings.Join(files, ", ")}
	}
}
