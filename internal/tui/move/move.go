// Package move is the Move view: will it fit the window, and can I go back? Two banks, where the workloads are and where
// they go, with the copy between them; what will be otherwise there; what is left to copy, round by round; and the
// run-book with its present line.
package move

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// View is the Move view.
type View struct {
	ctx context.Context
	app *app.App

	moves []*moves.Move
	// at is the move that is shown, -1 when one is being planned.
	at          int
	deployments []deployments.Deployment
	sites       []string
	pairs       []sites.Pair
	estate      *estate.Estate

	// What is being planned: the workloads on the one bank, with those that are marked; the site on the other; how.
	rows   []row
	cursor int
	marked map[string]bool
	// to is the site, the one after the last has placement choose.
	to   int
	wish moves.Request
	// focus is where the arrows are, knob the setting that they are on; only says that what is chosen of the target is
	// meant for the workload under the cursor alone.
	focus   focus
	knob    int
	only    bool
	draft   *moves.Draft
	problem string
	broken  *moves.Breaking
	// takes are the machines of nobody's that what is worked out is of.
	takes    *reconcile.TakeOverRequest
	drafting bool

	// What is moved: the run that is shown, and its state.
	runID int64
	state *run.State
	watch <-chan runs.Batch
	stop  context.CancelFunc
	// silent says that the run's worker has fallen silent, heardOut that it ended while it was watched; epoch is that of who worked on it
	// when it was begun to be watched.
	silent, heardOut bool
	epoch            int64
	pick             int
	calm             bool
	seen             string
	drawn            time.Time
	spots            []spot
}

// focus is a part of the screen on which a move is planned.
type focus int

const (
	onSources focus = iota
	onSettings
	onTargets
)

// row is a workload that can be moved.
type row struct {
	deployment int
	id         string
}

// spot is where something that can be clicked was drawn.
type spot struct {
	r  part.Rect
	do func()
}

// New makes the view.
func New(ctx context.Context, a *app.App) *View {
	return &View{ctx: ctx, app: a, at: -1, marked: map[string]bool{}, wish: moves.Request{Mode: change.Warm, TimeZone: "UTC"}}
}

// Name, Digit and Badge describe the tab.
func (v *View) Name() string  { return "Move" }
func (v *View) Digit() string { return "6" }

// Badge counts the moves that wait for somebody: to be cut over or committed.
func (v *View) Badge(time.Time) string {
	n := 0
	for _, m := range v.moves {
		if m.Open() {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// gathered is what the view shows, worked out beside the screen.
type gathered struct {
	moves       []*moves.Move
	deployments []deployments.Deployment
	estate      *estate.Estate
	pairs       []sites.Pair
	nobodys     *plan.Plan
	err         error
}

// heard is a batch of a run's events.
type heard struct {
	run   int64
	batch runs.Batch
	more  bool
}

// drafted is a move that was worked out.
type drafted struct {
	draft *moves.Draft
	err   error
}

// done is what came of an act.
type done struct {
	text string
	err  error
	show bool
}

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Runs:
		return tea.Batch(v.gather(msg), v.revive(msg.Runs))
	case view.SitesChanged, view.Compared: // what can be chosen may be otherwise
		v.seen = ""
	case view.PlanMove:
		v.mark(msg.Instances)
	case view.FailOver:
		v.at, v.drafting, v.draft, v.problem, v.broken = -1, false, msg.Draft, "", nil
	case gathered:
		return v.take(msg)
	case heard:
		return v.hear(msg)
	case startWave:
		v.drafting = false
		if msg.err != nil {
			return view.Cmd(view.Failed(msg.err))
		}
		v.draft = msg.draft
		return v.start(map[string]string{})
	case drafted:
		v.drafting, v.draft, v.problem, v.broken = false, msg.draft, "", nil
		if msg.err != nil {
			v.problem = msg.err.Error()
			if errors.As(msg.err, &v.broken) {
				v.problem = "the rules forbid it: " + v.broken.Because()
			}
		}
	case done:
		v.seen = ""
		if msg.err != nil {
			return view.Cmd(view.Failed(msg.err))
		}
		if msg.show {
			v.draft, v.at = nil, 0
		}
		return view.Cmd(view.Notice{Text: msg.text})
	}
	return nil
}

// gather works out moves and what stands, when runs have begun or ended since.
func (v *View) gather(msg view.Runs) tea.Cmd {
	seen := "runs " // also where there are none
	for _, r := range msg.Runs {
		seen += fmt.Sprintf("%d %s;", r.ID, r.State)
	}
	if seen == v.seen {
		return nil
	}
	v.seen = seen
	return func() tea.Msg {
		var out gathered
		if out.moves, out.err = v.app.Moves(v.ctx); out.err != nil {
			return out
		}
		if out.deployments, out.err = v.app.Deployments(v.ctx); out.err != nil {
			return out
		}
		out.estate, _ = v.app.Estate(v.ctx)
		if out.pairs, out.err = v.app.Pairs(v.ctx); out.err != nil {
			return out
		}
		out.nobodys, _ = v.app.Nobodys(v.ctx) // where that cannot be told there are none to choose from
		return out
	}
}

func (v *View) take(msg gathered) tea.Cmd {
	if msg.err != nil {
		return view.Cmd(view.Failed(msg.err))
	}
	first := v.moves == nil && len(msg.moves) > 0 && msg.moves[0].Open()
	v.moves, v.deployments, v.estate, v.pairs = msg.moves, msg.deployments, msg.estate, msg.pairs
	if d, there := nobodys(msg.nobodys); there {
		v.deployments = append(slices.Clone(v.deployments), d)
	}
	if first && v.draft == nil {
		v.at = 0
	}
	v.at = min(v.at, len(v.moves)-1)
	v.list()
	return v.follow()
}

// list makes the rows: instances that are on, of deployments that stand.
func (v *View) list() {
	v.rows, v.sites = nil, nil
	for i := range v.deployments {
		d := &v.deployments[i]
		if d.ID != 0 && d.State() == run.Retired {
			continue
		}
		for k := range d.Stand.Plan.Resources {
			if r := &d.Stand.Plan.Resources[k]; r.Kind == kinds.Instance && !r.Off {
				v.rows = append(v.rows, row{i, r.ID})
			}
		}
	}
	if v.estate != nil {
		for _, s := range v.estate.Sites {
			v.sites = append(v.sites, s.Name)
		}
	}
	v.cursor = min(v.cursor, max(len(v.rows)-1, 0))
	v.to = min(v.to, len(v.sites))
}

// mark begins a new move of some instances.
func (v *View) mark(names []string) {
	v.at, v.draft, v.problem, v.broken, v.focus = -1, nil, "", nil, onTargets
	v.marked = map[string]bool{}
	for i, r := range v.rows {
		if slices.Contains(names, r.id) {
			v.marked[r.id], v.cursor = true, i
		}
	}
}

// shown is the move that is shown, nil while one is planned.
func (v *View) shown() *moves.Move {
	if v.at < 0 || v.at >= len(v.moves) {
		return nil
	}
	return v.moves[v.at]
}

// follow watches the run that moves what is shown.
func (v *View) follow() tea.Cmd {
	m := v.shown()
	if m == nil {
		return nil
	}
	id := m.There(m.Current())
	if id == v.runID && v.state != nil && v.watch != nil {
		return nil
	}
	if v.stop != nil {
		v.stop()
	}
	v.runID, v.state, v.watch, v.silent, v.pick = id, nil, nil, false, 0
	if id == 0 {
		return nil
	}
	r, err := v.app.Run(v.ctx, id)
	if err != nil {
		return nil
	}
	p, err := v.app.PlanOf(v.ctx, r)
	if err != nil {
		return nil
	}
	v.state, v.epoch = run.New(p), r.Epoch
	return v.listenFrom(0)
}

// listenFrom watches the run from what follows an event on.
func (v *View) listenFrom(seq int64) tea.Cmd {
	ctx, stop := context.WithCancel(v.ctx)
	v.stop, v.silent, v.heardOut = stop, false, false
	v.watch = v.app.Watch(ctx, v.runID, seq)
	return v.listen()
}

// revive goes on watching when somebody has gone on with the run, which had ended: the epoch tells.
func (v *View) revive(all []app.Run) tea.Cmd {
	i := slices.IndexFunc(all, func(r app.Run) bool { return r.ID == v.runID })
	if !v.heardOut || v.state == nil || i < 0 || all[i].Epoch == v.epoch {
		return nil
	}
	v.epoch = all[i].Epoch
	return v.listenFrom(v.state.LastSeq)
}

func (v *View) listen() tea.Cmd {
	id, watch := v.runID, v.watch
	return func() tea.Msg {
		b, ok := <-watch
		return heard{id, b, ok}
	}
}

func (v *View) hear(msg heard) tea.Cmd {
	if msg.run != v.runID || v.state == nil || !msg.more {
		return nil
	}
	for _, e := range msg.batch.Events {
		v.state.Apply(e)
	}
	if v.silent = msg.batch.Silent; msg.batch.Last || msg.batch.Err != nil {
		v.heardOut = true
		return nil
	}
	return v.listen()
}

// workloads are those of what is shown, in order.
func (v *View) workloads() []string {
	switch m := v.shown(); {
	case m != nil && len(m.Waves) > 0:
		return m.Waves[m.Current()].Instances
	case v.draft != nil:
		return v.draft.Move.Waves[v.draft.Wave].Instances
	}
	return nil
}

// selected is the workload that the arrows are on.
func (v *View) selected() string {
	all := v.workloads()
	if len(all) == 0 {
		return ""
	}
	return all[min(v.pick, len(all)-1)]
}

// other shows the move before or after; before the first one is planned.
func (v *View) other(key string) tea.Cmd {
	d := map[string]int{"[": -1, "]": 1}[key]
	v.at = min(max(v.at+d, -1), len(v.moves)-1)
	return v.follow()
}

// Click and Wheel act on the mouse.
func (v *View) Click(x, y int) tea.Cmd {
	for _, s := range v.spots {
		if s.r.Inside(x, y) {
			s.do()
		}
	}
	return nil
}

// Wheel moves through the workloads.
func (v *View) Wheel(dy int) {
	if v.shown() != nil || v.draft != nil {
		v.pick = min(max(v.pick+dy, 0), max(len(v.workloads())-1, 0))
		return
	}
	v.step(dy)
}

// forecastOf is what a workload is expected to take, of the draft or by what was judged last.
func (v *View) loadOf(id string) migrate.Load {
	if v.draft != nil && v.shown() == nil {
		return v.draft.Loads[id]
	}
	load := migrate.Load{Mode: change.Warm, Size: 1 << 40}
	if m := v.shown(); m != nil {
		if known, ok := m.Loads[id]; ok {
			load = known
		}
		load.Mode, load.Pause = m.Request.Mode, m.Request.Pause
	}
	if v.state != nil {
		if j := v.state.Judged[id]; len(j) > 0 {
			load.Rate, load.Bandwidth = j[len(j)-1].Changing, j[len(j)-1].Bandwidth
		}
		if d := v.state.Disks[id]; d != nil && load.Bandwidth == 0 {
			load.Bandwidth = d.Rate()
			load.Used = d.Total - d.Done
		}
	}
	return load
}
