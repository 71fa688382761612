package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"syscall"
	"time"

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

// Begin keeps a plan, makes a run of it and sets a worker to it. The run goes on when the caller ends.
func (a *App) Begin(ctx context.Context, p *plan.Plan) (int64, error) {
	id, err := a.NewRun(ctx, p)
	if err != nil {
		return 0, err
	}
	return id, a.spawn(id)
}

// NewRun keeps a plan and makes a run of it that nobody works on yet. What is sure to be missing is an error here,
// before anything is built.
func (a *App) NewRun(ctx context.Context, p *plan.Plan) (int64, error) {
	if _, err := a.Workspace.Secrets(p.Secrets); err != nil {
		return 0, err
	}
	sites, err := a.Sites()
	if err != nil {
		return 0, err
	}
	for _, s := range p.Sites {
		if sites[s.Name] == nil {
			return 0, fmt.Errorf("the plan needs the site %s, which this workspace is not connected to", s.Name)
		}
	}
	planID, err := a.Store.SavePlan(ctx, p)
	if err != nil {
		return 0, err
	}
	id, err := a.Store.CreateRun(ctx, planID, len(p.Steps))
	if err != nil {
		return 0, err
	}
	if err := a.Store.Reserve(ctx, id, reservationsOf(p)); err != nil {
		return 0, errors.Join(err, a.Store.Forget(ctx, id))
	}
	return id, nil
}

// spawnProcess begins the worker as a process in a session of its own, so that closing the terminal does not end it.
func (a *App) spawnProcess(runID int64) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, "work", strconv.FormatInt(runID, 10), "--workspace", a.Workspace.Dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("the run's worker cannot be started: %w", err)
	}
	go func() { _ = cmd.Wait() }()
	return nil
}

// Work runs a run to its end in this process. The error is [engine.ErrUnfinished] if not everything stands.
func (a *App) Work(ctx context.Context, runID int64) error {
	mine, err := a.Store.Claim(ctx, runID, os.Getpid())
	if err != nil {
		return err
	}
	if !mine {
		return fmt.Errorf("run %d was begun before; andamio watch %d shows it", runID, runID)
	}
	e, journal, err := a.engine(ctx, runID)
	if err != nil {
		return errors.Join(err, a.Store.Finish(context.WithoutCancel(ctx), runID, run.Failed))
	}
	defer journal.Close()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go a.beat(ctx, cancel, runID)
	err = e.Execute(ctx)
	return errors.Join(err, a.Store.Finish(context.WithoutCancel(ctx), runID, e.Outcome()))
}

func (a *App) engine(ctx context.Context, runID int64) (*engine.Engine, *store.Journal, error) {
	r, err := a.Store.Run(ctx, runID)
	if err != nil {
		return nil, nil, err
	}
	e := &engine.Engine{Run: fmt.Sprintf("%s-%d-%d", r.Name, runID, r.Created.Unix())}
	if e.Plan, err = a.Store.Plan(ctx, r.Plan); err != nil {
		return nil, nil, err
	}
	if e.Sites, err = a.Sites(); err != nil {
		return nil, nil, err
	}
	if e.Secrets, err = a.Workspace.Secrets(e.Plan.Secrets); err != nil {
		return nil, nil, err
	}
	if e.Key, err = a.Workspace.Key(); err != nil {
		return nil, nil, err
	}
	journal, err := a.Store.Journal(ctx, runID)
	e.Journal = journal
	return e, journal, err
}

// beat shows that the worker lives, and cancels the run when that is asked for.
func (a *App) beat(ctx context.Context, cancel func(), runID int64) {
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if asked, err := a.Store.Beat(ctx, runID); err == nil && asked {
				cancel()
			}
		}
	}
}

// Cancel asks a run to stop; its worker does so within a second, and leaves what stands as it is.
func (a *App) Cancel(ctx context.Context, runID int64) error { return a.Store.Cancel(ctx, runID) }

// Abandoned reports a run that goes on by its record while its worker has fallen silent.
func Abandoned(r store.Run, now time.Time) bool {
	open := r.State == run.UnderWay || r.State == run.Planned
	return open && now.Sub(r.Beat) > silentAfter
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
		for {
			b := a.batch(ctx, runID, &after)
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

func (a *App) batch(ctx context.Context, runID int64, after *int64) Batch {
	r, err := a.Store.Run(ctx, runID) // before the events: what ended before is then sure to be among them
	if err != nil {
		return Batch{Err: err}
	}
	events, err := a.Store.Events(ctx, runID, *after, maxBatch)
	if err != nil {
		return Batch{Err: err}
	}
	if len(events) > 0 {
		*after = events[len(events)-1].Seq
	}
	over := !r.Ended.IsZero() || Abandoned(r, time.Now())
	return Batch{Events: events, Last: over && len(events) < maxBatch}
}

// Replay is a run's state from its whole journal.
func (a *App) Replay(ctx context.Context, runID int64) (*run.State, error) {
	r, err := a.Store.Run(ctx, runID)
	if err != nil {
		return nil, err
	}
	p, err := a.Store.Plan(ctx, r.Plan)
	if err != nil {
		return nil, err
	}
	state := run.New(p)
	for {
		events, err := a.Store.Events(ctx, runID, state.LastSeq, maxBatch)
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
