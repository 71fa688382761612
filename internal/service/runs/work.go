package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/service/sites"
	"andamio/internal/store"
)

// Work runs a run to its end in this process, from its beginning or from where another worker left it. The error is
// [engine.ErrUnfinished] if not everything stands, [store.ErrTaken] if another worker has it.
func (svc *Service) Work(ctx context.Context, runID int64) error {
	r, err := svc.store.Run(ctx, runID)
	if err != nil {
		return err
	}
	switch {
	case r.State == run.UnderWay && Alive(r):
		return fault.Conflictf("run %d goes on as %s, andamio watch %d shows it: %w", runID, r.Worker, runID, store.ErrTaken)
	case r.State == run.Standing:
		return fault.Conflictf("run %d has ended, and everything stands: there is nothing to go on with", runID)
	}
	if err := svc.mayGoOn(ctx, r); err != nil {
		return err
	}
	epoch, err := svc.store.Claim(ctx, runID, r.Epoch, ThisWorker(), Alive)
	if err != nil {
		return err
	}
	for {
		err := svc.work(ctx, runID, epoch)
		more, errMore := svc.store.Decisions(context.WithoutCancel(ctx), runID)
		if !errors.Is(err, engine.ErrUnfinished) || errMore != nil || len(more) == 0 || ctx.Err() != nil {
			return errors.Join(err, errMore)
		}
		// What was decided while the run ended is not left lying.
		if epoch, errMore = svc.store.Claim(ctx, runID, epoch, ThisWorker(), Alive); errMore != nil {
			return err
		}
	}
}

// mayGoOn checks that nothing came after a run, and that it still has the addresses that it works with: those that were
// given back may be another's by now.
func (svc *Service) mayGoOn(ctx context.Context, r store.Run) error {
	runs, err := svc.store.RunsOf(ctx, r.Deployment)
	if err != nil {
		return err
	}
	for _, later := range runs {
		if later.ID > r.ID && !later.Void && later.State != run.Planned {
			return fault.Conflictf("run %d is not the last of its deployment: run %d came after it, and what it left is changed from there", r.ID, later.ID)
		}
	}
	stands, err := svc.deployments.Fold(ctx, runs)
	if err != nil {
		return err
	}
	p, err := svc.store.Plan(ctx, r.Plan)
	if err != nil {
		return err
	}
	need := sites.ReservationsOf(p)
	if r.Wanted == 0 { // what was taken away already needs none
		need = sites.ReservationsOf(stands.Plan)
	}
	if err := svc.store.Reserve(ctx, r.ID, need); err != nil {
		return fmt.Errorf("run %d cannot go on: %w", r.ID, err)
	}
	return nil
}

func (svc *Service) work(ctx context.Context, runID, epoch int64) error {
	keep := context.WithoutCancel(ctx)
	e, journal, err := svc.engine(ctx, runID, epoch)
	if err != nil {
		return errors.Join(err, svc.store.Finish(keep, runID, epoch, run.Failed))
	}
	defer journal.Close()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	post := &post{svc: svc, run: runID, sent: map[int64]bool{}, to: make(chan engine.Decision, maxDecisions)}
	e.Decisions = post.to
	post.pass(ctx) // what was decided before it goes on
	go svc.beat(ctx, cancel, runID, epoch, post)
	wakes, stop := svc.hear(ctx, e)
	defer stop()
	e.Wakes = wakes
	if e.State == nil {
		if err := svc.mayBegin(ctx, runID, journal); err != nil {
			return errors.Join(err, svc.giveBack(keep, runID), svc.store.Finish(keep, runID, epoch, run.Failed))
		}
		answer, err := svc.inside().Rehearse(ctx, e.Plan, e.Limits)
		if err != nil {
			return errors.Join(err, svc.store.Finish(keep, runID, epoch, run.Failed))
		}
		e.Rehearsed = run.Rehearsed{P50: answer.P50.Round(time.Millisecond), P90: answer.P90.Round(time.Millisecond)}
	}
	if err = e.Execute(svc.workspace.Reaching(ctx)); err == nil {
		err = svc.dropPacked(e.Plan)
	}
	return errors.Join(err, svc.learn(keep, runID), svc.giveBack(keep, runID), svc.store.Finish(keep, runID, epoch, e.Outcome()))
}

// mayBegin asks whoever is to be asked before a run begins. If they do not let it, the journal says so.
func (svc *Service) mayBegin(ctx context.Context, runID int64, j store.Journal) error {
	r, err := svc.store.Run(ctx, runID)
	if err != nil {
		return err
	}
	if err = svc.hooks.MayBegin(ctx, r); err == nil {
		return nil
	}
	return errors.Join(err, j.Append(run.Event{At: time.Now(), Kind: run.RunEnded, Text: err.Error()}))
}

func (svc *Service) engine(ctx context.Context, runID, epoch int64) (*engine.Engine, store.Journal, error) {
	r, err := svc.store.Run(ctx, runID)
	if err != nil {
		return nil, nil, err
	}
	d, err := svc.store.Deployment(ctx, r.Deployment)
	if err != nil {
		return nil, nil, err
	}
	e := &engine.Engine{Run: fmt.Sprintf("r%d-%d", runID, r.Created.Unix()), Mark: d.Mark, Patience: svc.Patience, Archive: svc.archiveOf(runID), Ways: svc.workspace}
	if err := json.Unmarshal([]byte(r.Limits), &e.Limits); err != nil {
		return nil, nil, fmt.Errorf("the limits of run %d cannot be read: %w", runID, err)
	}
	state, err := svc.deployments.Replay(ctx, runID)
	if err != nil {
		return nil, nil, err
	}
	e.Plan = state.Plan
	if !state.Started.IsZero() {
		e.State = state
	}
	if e.Sites, err = svc.sites.Sites(); err != nil {
		return nil, nil, err
	}
	if e.Secrets, err = svc.workspace.Secrets(e.Plan.Secrets); err != nil {
		return nil, nil, err
	}
	if e.Key, err = svc.workspace.Key(); err != nil {
		return nil, nil, err
	}
	if e.Zone, err = svc.workspace.Zone(); err != nil {
		return nil, nil, err
	}
	journal, err := svc.store.Journal(ctx, runID, epoch)
	e.Journal = journal
	return e, journal, err
}

// beat shows that the worker lives, cancels the run when that is asked for or another worker has it, and passes on what
// was decided.
func (svc *Service) beat(ctx context.Context, cancel func(), runID, epoch int64, p *post) {
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		asked, err := svc.store.Beat(ctx, runID, epoch)
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
	svc  *Service
	run  int64
	sent map[int64]bool
	to   chan engine.Decision
}

func (p *post) pass(ctx context.Context) {
	all, err := p.svc.store.Decisions(ctx, p.run)
	if err != nil {
		return
	}
	for _, d := range all {
		if p.sent[d.ID] || len(p.to) == cap(p.to) {
			continue
		}
		p.sent[d.ID] = true
		p.to <- engine.Decision{Step: d.Step, Verb: d.Verb, Taken: func() {
			if err := p.svc.store.Taken(context.WithoutCancel(ctx), d.ID); err != nil {
				p.svc.log.Error("a decision could not be noted", "run", p.run, "err", err)
			}
		}}
	}
}

// giveBack gives back the addresses and VLANs of what does not stand any more.
func (svc *Service) giveBack(ctx context.Context, runID int64) error {
	r, err := svc.store.Run(ctx, runID)
	if err != nil {
		return err
	}
	stands, err := svc.deployments.Standing(ctx, r.Deployment)
	if err != nil || r.Purpose == "" && len(stands.Unsure) > 0 {
		return err // what a first run could not build may be built yet
	}
	if err := svc.quotas.After(ctx, r.Deployment, stands, time.Now()); err != nil {
		return err
	}
	keep := sites.ReservationsOf(stands.Plan)
	state, err := svc.deployments.Replay(ctx, runID)
	if err != nil {
		return err
	}
	if state.Status != run.Standing { // what is still to be built keeps its place, and what was to be taken away and may be there
		keep = append(keep, sites.ReservationsOf(state.Plan)...)
	}
	return svc.store.Keep(ctx, r.Deployment, keep)
}
