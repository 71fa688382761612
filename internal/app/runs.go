package app

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/store"
)

// beatEvery is how often a worker shows that it lives; silentAfter is when watchers stop believing it.
const (
	beatEvery   = 300 * time.Millisecond
	silentAfter = 5 * time.Second
)

// Order is a plan that is to be run.
type Order struct {
	Plan *plan.Plan
	// Deployment is what the plan changes; 0 makes a new one, of which Template says where its template was opened.
	Deployment int64
	Template   string
	// Wanted is the whole design that the plan leads to; nil is the plan itself, of one that raises.
	Wanted *plan.Plan
	Limits dispatch.Limits
	// Move is the move that it belongs to, 0 if to none.
	Move int64
}

// Begin keeps a plan, makes a run of it and sets a worker to it. The run goes on when the caller ends.
func (a *App) Begin(ctx context.Context, o Order) (int64, error) {
	id, err := a.NewRun(ctx, o)
	if err != nil {
		return 0, err
	}
	return id, a.spawn(id)
}

// NewRun keeps a plan and makes a run of it that nobody works on yet. What is sure to be missing is an error here,
// before anything is built.
func (a *App) NewRun(ctx context.Context, o Order) (int64, error) {
	act := actOf(o)
	if err := a.allow(act, o.Plan.Name); err != nil {
		return 0, err
	}
	if err := a.ready(ctx, o); err != nil {
		return 0, err
	}
	if err := a.keepSource(ctx, cmp.Or(o.Wanted, o.Plan)); err != nil {
		return 0, err
	}
	r := store.Run{Deployment: o.Deployment, Purpose: o.Plan.Purpose, Steps: len(o.Plan.Steps)}
	limits, err := json.Marshal(o.Limits)
	if err != nil {
		return 0, err
	}
	r.Limits = string(limits)
	if r.Plan, err = a.store.SavePlan(ctx, o.Plan); err != nil {
		return 0, err
	}
	if r.Wanted, err = a.saveWanted(ctx, o, r.Plan); err != nil {
		return 0, err
	}
	if r.Deployment == 0 {
		if r.Deployment, err = a.store.CreateDeployment(ctx, o.Plan.Name, cmp.Or(o.Template, o.Plan.Template)); err != nil {
			return 0, err
		}
	}
	id, err := a.store.CreateRun(ctx, r)
	if err != nil {
		return 0, err
	}
	if o.Deployment == 0 {
		if err := a.first(ctx, o.Plan.Name, r.Deployment); err != nil {
			return 0, errors.Join(err, a.store.Forget(ctx, id))
		}
	}
	if err := a.store.Reserve(ctx, id, reservationsOf(o.Plan)); err != nil {
		return 0, errors.Join(err, a.store.Forget(ctx, id))
	}
	if err := a.noteRun(ctx, act, id, r, o); err != nil {
		return 0, errors.Join(err, a.store.Forget(ctx, id))
	}
	return id, nil
}

// actOf is what making a run of an order is.
func actOf(o Order) guard.Act {
	if o.Plan.Purpose == "" {
		return guard.BeginRun
	}
	return guard.ChangeRun
}

// madeFor says what a plan is for, and of which deployment.
func madeFor(p *plan.Plan) string {
	switch {
	case p.Purpose == "":
		return "raise " + p.Name
	case strings.Contains(p.Purpose, p.Name):
		return p.Purpose
	}
	return p.Purpose + " of " + p.Name
}

// noteRun notes who has a run made, and of which plan.
func (a *App) noteRun(ctx context.Context, act guard.Act, id int64, r store.Run, o Order) error {
	digest, err := a.store.PlanDigest(ctx, r.Plan)
	if err != nil {
		return err
	}
	return a.note(ctx, act, theRun(id), aboutRun(id), saying("%s", madeFor(o.Plan)), func(e *Entry) { e.Plan = digest })
}

// first checks that no other deployment was made of the same name meanwhile, by somebody who came before.
func (a *App) first(ctx context.Context, name string, id int64) error {
	all, err := a.store.Deployments(ctx)
	if err != nil {
		return err
	}
	for _, d := range all {
		if d.Name != name || d.ID >= id {
			continue
		}
		x, err := a.deployment(ctx, d)
		if err != nil {
			return err
		}
		if len(x.Runs) > 0 && x.State() != run.Retired {
			return &NameTaken{Name: name, Deployment: d.ID}
		}
	}
	return nil
}

// saveWanted keeps the whole design that a run leads to, and returns its number; 0 where nothing is wanted.
func (a *App) saveWanted(ctx context.Context, o Order, planID int64) (int64, error) {
	switch {
	case o.Wanted == nil && o.Plan.Purpose == "":
		return planID, nil
	case o.Wanted == nil || len(o.Wanted.Resources) == 0:
		return 0, nil
	}
	return a.store.SavePlan(ctx, o.Wanted)
}

// ready checks that a plan can be run: its secrets and sites are there, and nobody else changes its deployment.
func (a *App) ready(ctx context.Context, o Order) error {
	if _, err := a.workspace.Secrets(o.Plan.Secrets); err != nil {
		return err
	}
	sites, err := a.Sites()
	if err != nil {
		return err
	}
	for _, s := range o.Plan.Sites {
		if sites[s.Name] == nil {
			return fault.Refusedf("the plan needs the site %s, which this workspace is not connected to", s.Name)
		}
	}
	if err := a.namesFree(ctx, o); err != nil {
		return err
	}
	if o.Deployment == 0 {
		if err := CheckFresh(o.Plan); err != nil {
			return err
		}
		return a.nameFree(ctx, o.Plan.Name)
	}
	return a.settledBut(ctx, o.Deployment, o.Move)
}

// CheckFresh checks that a plan raises a design from nothing. One that changes what stood when it was made fits nothing else,
// and is no design that something could be led to.
func CheckFresh(p *plan.Plan) error {
	if p.Purpose == "" {
		return nil
	}
	return fault.Conflictf("this plan is to %s, and changes what stood when it was made: make it anew of what stands now, as with andamio diff", p.Purpose)
}

// settled checks that a deployment may be changed: no run of it goes on, and no move is open.
func (a *App) settled(ctx context.Context, deployment int64) error {
	return a.settledBut(ctx, deployment, 0)
}

// quiet checks that no run of a deployment goes on.
func (a *App) quiet(ctx context.Context, deployment int64) error {
	runs, err := a.store.RunsOf(ctx, deployment)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.State == run.UnderWay && Alive(r) {
			return fault.Conflictf("run %d of this deployment is under way; andamio watch %d shows it", r.ID, r.ID)
		}
	}
	return nil
}

// spawnProcess begins the worker as a process in a session of its own, so that closing the terminal does not end it.
func (a *App) spawnProcess(runID int64) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, "work", strconv.FormatInt(runID, 10), "--workspace", a.workspace.Dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return fault.Unavailablef("the run's worker cannot be started: %w", err)
	}
	go func() { _ = cmd.Wait() }()
	return nil
}

// Work runs a run to its end in this process, from its beginning or from where another worker left it. The error is
// [engine.ErrUnfinished] if not everything stands, [store.ErrTaken] if another worker has it.
func (a *App) Work(ctx context.Context, runID int64) error {
	r, err := a.store.Run(ctx, runID)
	if err != nil {
		return err
	}
	switch {
	case r.State == run.UnderWay && Alive(r):
		return fault.Conflictf("run %d goes on as %s, andamio watch %d shows it: %w", runID, r.Worker, runID, store.ErrTaken)
	case r.State == run.Standing:
		return fault.Conflictf("run %d has ended, and everything stands: there is nothing to go on with", runID)
	}
	if err := a.mayGoOn(ctx, r); err != nil {
		return err
	}
	epoch, err := a.store.Claim(ctx, runID, r.Epoch, thisWorker(), Alive)
	if err != nil {
		return err
	}
	for {
		err := a.work(ctx, runID, epoch)
		more, errMore := a.store.Decisions(context.WithoutCancel(ctx), runID)
		if !errors.Is(err, engine.ErrUnfinished) || errMore != nil || len(more) == 0 || ctx.Err() != nil {
			return errors.Join(err, errMore)
		}
		// What was decided while the run ended is not left lying.
		if epoch, errMore = a.store.Claim(ctx, runID, epoch, thisWorker(), Alive); errMore != nil {
			return err
		}
	}
}

// mayGoOn checks that nothing came after a run, and that it still has the addresses that it works with: those that were
// given back may be another's by now.
func (a *App) mayGoOn(ctx context.Context, r store.Run) error {
	runs, err := a.store.RunsOf(ctx, r.Deployment)
	if err != nil {
		return err
	}
	for _, later := range runs {
		if later.ID > r.ID && !later.Void && later.State != run.Planned {
			return fault.Conflictf("run %d is not the last of its deployment: run %d came after it, and what it left is changed from there", r.ID, later.ID)
		}
	}
	stands, err := a.fold(ctx, runs)
	if err != nil {
		return err
	}
	p, err := a.store.Plan(ctx, r.Plan)
	if err != nil {
		return err
	}
	need := reservationsOf(p)
	if r.Wanted == 0 { // what was taken away already needs none
		need = reservationsOf(stands.Plan)
	}
	if err := a.store.Reserve(ctx, r.ID, need); err != nil {
		return fmt.Errorf("run %d cannot go on: %w", r.ID, err)
	}
	return nil
}

func (a *App) work(ctx context.Context, runID, epoch int64) error {
	keep := context.WithoutCancel(ctx)
	e, journal, err := a.engine(ctx, runID, epoch)
	if err != nil {
		return errors.Join(err, a.store.Finish(keep, runID, epoch, run.Failed))
	}
	defer journal.Close()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	post := &post{app: a, run: runID, sent: map[int64]bool{}, to: make(chan engine.Decision, maxDecisions)}
	e.Decisions = post.to
	post.pass(ctx) // what was decided before it goes on
	go a.beat(ctx, cancel, runID, epoch, post)
	wakes, stop := a.hear(ctx, e)
	defer stop()
	e.Wakes = wakes
	if e.State == nil {
		answer, err := a.Rehearse(ctx, e.Plan, e.Limits)
		if err != nil {
			return errors.Join(err, a.store.Finish(keep, runID, epoch, run.Failed))
		}
		e.Rehearsed = run.Rehearsed{P50: answer.P50.Round(time.Millisecond), P90: answer.P90.Round(time.Millisecond)}
	}
	if err = e.Execute(ctx); err == nil {
		err = a.dropPacked(e.Plan)
	}
	return errors.Join(err, a.learn(keep, runID), a.giveBack(keep, runID), a.store.Finish(keep, runID, epoch, e.Outcome()))
}

func (a *App) engine(ctx context.Context, runID, epoch int64) (*engine.Engine, store.Journal, error) {
	r, err := a.store.Run(ctx, runID)
	if err != nil {
		return nil, nil, err
	}
	d, err := a.store.Deployment(ctx, r.Deployment)
	if err != nil {
		return nil, nil, err
	}
	e := &engine.Engine{Run: fmt.Sprintf("r%d-%d", runID, r.Created.Unix()), Mark: d.Mark, Patience: a.Patience, Archive: a.archiveOf(runID)}
	if err := json.Unmarshal([]byte(r.Limits), &e.Limits); err != nil {
		return nil, nil, fmt.Errorf("the limits of run %d cannot be read: %w", runID, err)
	}
	state, err := a.Replay(ctx, runID)
	if err != nil {
		return nil, nil, err
	}
	e.Plan = state.Plan
	if !state.Started.IsZero() {
		e.State = state
	}
	if e.Sites, err = a.Sites(); err != nil {
		return nil, nil, err
	}
	if e.Secrets, err = a.workspace.Secrets(e.Plan.Secrets); err != nil {
		return nil, nil, err
	}
	if e.Key, err = a.workspace.Key(); err != nil {
		return nil, nil, err
	}
	if e.Zone, err = a.workspace.Zone(); err != nil {
		return nil, nil, err
	}
	journal, err := a.store.Journal(ctx, runID, epoch)
	e.Journal = journal
	return e, journal, err
}

// beat shows that the worker lives, cancels the run when that is asked for or another worker has it, and passes on what
// was decided.
func (a *App) beat(ctx context.Context, cancel func(), runID, epoch int64, p *post) {
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		asked, err := a.store.Beat(ctx, runID, epoch)
		if asked || errors.Is(err, store.ErrTaken) {
			cancel()
		}
		p.pass(ctx)
	}
}

// maxDecisions bounds how many decisions wait for an engine.
const maxDecisions = 1024

// post passes decisions on a run to its engine, each once.
type post struct {
	app  *App
	run  int64
	sent map[int64]bool
	to   chan engine.Decision
}

func (p *post) pass(ctx context.Context) {
	all, err := p.app.store.Decisions(ctx, p.run)
	if err != nil {
		return
	}
	for _, d := range all {
		if p.sent[d.ID] || len(p.to) == cap(p.to) {
			continue
		}
		p.sent[d.ID] = true
		p.to <- engine.Decision{Step: d.Step, Verb: d.Verb, Taken: func() {
			if err := p.app.store.Taken(context.WithoutCancel(ctx), d.ID); err != nil {
				p.app.Log.Error("a decision could not be noted", "run", p.run, "err", err)
			}
		}}
	}
}

// EndOf is how a run ended: one that took everything of a deployment away left nothing standing.
func EndOf(r store.Run) run.Status {
	if r.State == run.Standing && r.Wanted == 0 && r.Purpose != "" && r.Name != ByHand {
		return run.Retired
	}
	return r.State
}

// Cancel asks a run to stop; its worker does so within a second, and leaves what stands as it is.
func (a *App) Cancel(ctx context.Context, runID int64) error {
	return a.do(ctx, guard.CancelRun, theRun(runID), func() error { return a.store.Cancel(ctx, runID) }, aboutRun(runID))
}

// Abandoned reports a run that goes on by its record while its worker has fallen silent.
func Abandoned(r store.Run, now time.Time) bool {
	switch r.State {
	case run.UnderWay:
		return !aliveAt(r, now)
	case run.Planned:
		return now.Sub(r.Beat) > silentAfter
	}
	return false
}

// giveBack gives back the addresses and VLANs of what does not stand any more.
func (a *App) giveBack(ctx context.Context, runID int64) error {
	r, err := a.store.Run(ctx, runID)
	if err != nil {
		return err
	}
	stands, err := a.Standing(ctx, r.Deployment)
	if err != nil || r.Purpose == "" && len(stands.Unsure) > 0 {
		return err // what a first run could not build may be built yet
	}
	keep := reservationsOf(stands.Plan)
	state, err := a.Replay(ctx, runID)
	if err != nil {
		return err
	}
	if state.Status != run.Standing { // what is still to be built keeps its place, and what was to be taken away and may be there
		keep = append(keep, reservationsOf(state.Plan)...)
	}
	return a.store.Keep(ctx, r.Deployment, keep)
}

// pollEvery is how often a watcher looks for new events; maxBatch bounds how many it takes at once.
const (
	pollEvery = 50 * time.Millisecond
	maxBatch  = 4000
)

// Batch is what a watcher hears: events, or why there will be no more.
type Batch struct {
	Events []run.Event
	Err    error
	// Last says that the run is over, or its worker silent, and nothing follows.
	Last bool
}

// Watch sends a run's events after a number, those of the past first, then as they happen, in this process or
// another. The channel is closed after the last batch or when the context ends.
func (a *App) Watch(ctx context.Context, runID, after int64) <-chan Batch {
	out := make(chan Batch)
	go func() {
		defer close(out)
		var s silentWorker
		for {
			b := a.batch(ctx, runID, &after, &s)
			if len(b.Events) > 0 || b.Last || b.Err != nil {
				select {
				case out <- b:
				case <-ctx.Done():
					return
				}
			}
			if b.Last || b.Err != nil {
				return
			}
			if len(b.Events) == maxBatch {
				continue
			}
			select {
			case <-time.After(pollEvery):
			case <-ctx.Done():
				return
			}
		}
	}()
	return out
}

func (a *App) batch(ctx context.Context, runID int64, after *int64, s *silentWorker) Batch {
	r, err := a.store.Run(ctx, runID) // before the events: what ended before is then sure to be among them
	if err != nil {
		return Batch{Err: err}
	}
	events, err := a.store.Events(ctx, runID, *after, maxBatch)
	if err != nil {
		return Batch{Err: err}
	}
	if len(events) > 0 {
		*after = events[len(events)-1].Seq
	}
	over := !r.Ended.IsZero() || s.lost(ctx, a.store, r, time.Now())
	return Batch{Events: events, Last: over && len(events) < maxBatch}
}

// silentWorker is for how long a run's worker has shown no sign of life though it could have.
type silentWorker struct{ since time.Time }

// showsWithin is how soon a worker shows that it lives once it can again.
const showsWithin = 2 * time.Second

// lost reports that a run has lost its worker. As long as somebody holds the database, nobody can show that they live, so that
// one is lost for sure only if it stays silent when nobody does, or if its process is gone.
func (s *silentWorker) lost(ctx context.Context, at store.Store, r store.Run, now time.Time) bool {
	switch {
	case !Abandoned(r, now):
		s.since = time.Time{}
		return false
	case workerGone(r.Worker):
		return true
	case at.Busy(ctx):
		s.since = time.Time{}
		return false
	case s.since.IsZero():
		s.since = now
	}
	return now.Sub(s.since) > showsWithin
}

// Replay is a run's state from its whole journal.
func (a *App) Replay(ctx context.Context, runID int64) (*run.State, error) {
	r, err := a.store.Run(ctx, runID)
	if err != nil {
		return nil, err
	}
	p, err := a.store.Plan(ctx, r.Plan)
	if err != nil {
		return nil, err
	}
	state := run.New(p)
	for {
		events, err := a.store.Events(ctx, runID, state.LastSeq, maxBatch)
		if err != nil {
			return nil, err
		}
		for _, e := range events {
			state.Apply(e)
		}
		if len(events) < maxBatch {
			return state, nil
		}
	}
}
