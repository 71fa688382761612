package app

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"andamio/internal/background"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/service/watch"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// leaseServe is the lease that the one lasting process of a workspace has.
const leaseServe = "serve"

// How often the lasting process shows that it lives and looks at what is due, and for how long it may be silent before another takes
// over.
const (
	serveBeat   = time.Second
	serveSilent = 10 * time.Second
	// serveLooks is how often schedules and rules are read anew.
	serveLooks = 5 * time.Second
	// serveWatches is how often machines that are raised again by themselves are looked at.
	serveWatches = 10 * time.Second
)

// Serving is the one lasting process of a workspace: it hears notices and sees to what is due, until its context ends, or another
// process has taken over.
type Serving struct {
	*Listener
	a     *App
	epoch int64
	// told hears what became of each thing that was due.
	told func(Firing)
	work sync.WaitGroup
	// mending says that requests that broke off are taken up at this moment.
	mending atomic.Bool
	// telling says that what hooks are to tell is told at this moment.
	telling atomic.Bool
	// watching says that what is promised without a time of its own is looked at, measuring that everything is measured.
	watching, measuring atomic.Bool
	// reacting says that what is measured is reacted to.
	reacting atomic.Bool
	// fronts is the answering for them that goes on; nil before it was begun first.
	fronts *answering

	// windows is when the file of blackouts and windows was written that was looked at last.
	windows time.Time

	mu    sync.Mutex
	going map[int64]bool
}

// Firing is one time at which something was due, and what became of it.
type Firing = store.Firing

// The states of a firing.
const (
	FiringGoing  = store.FiringGoing
	FiringDone   = store.FiringDone
	FiringFailed = store.FiringFailed
	FiringMissed = store.FiringMissed
	FiringHeld   = store.FiringHeld
)

// Serve makes this process the one that serves the workspace; the error is a conflict if another does. Told hears what became of what
// was due; it may be nil.
func (a *App) Serve(ctx context.Context, where Listening, told func(Firing)) (out *Serving, err error) {
	err = a.desk.Do(ctx, guard.Serve, guard.Named(a.workspace.Dir), func() (err error) {
		out, err = a.inside().serve(ctx, where, told) // what is due is seen to whoever may look at it
		return err
	})
	return out, err
}

func (a *App) serve(ctx context.Context, where Listening, told func(Firing)) (*Serving, error) {
	now := time.Now()
	epoch, err := a.store.TakeLease(ctx, leaseServe, runs.ThisWorker(), "", now, now.Add(-serveSilent), leaseLives)
	if err != nil {
		return nil, fault.Conflictf("the workspace is served already: %w", err)
	}
	l, err := a.listen(ctx, where)
	if err != nil {
		return nil, errors.Join(err, a.store.LeaveLease(context.WithoutCancel(ctx), leaseServe, epoch))
	}
	if told == nil {
		told = func(Firing) {}
	}
	s := &Serving{Listener: l, a: a, epoch: epoch, told: told, going: map[int64]bool{}}
	if err := s.brokeOff(ctx); err != nil {
		return nil, errors.Join(err, s.close(ctx))
	}
	return s, nil
}

// leaseLives reports that the holder of a lease is not known to be gone.
func leaseLives(l store.Lease) bool { return !runs.WorkerGone(l.Holder) }

// Run goes on until the context ends, another process has taken over, or the workspace is not there any more, and then ends what goes on.
func (s *Serving) Run(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	var looked, watched, measured, alone time.Time
	err := func() error {
		defer s.work.Wait()
		defer stop()
		for {
			now := time.Now()
			if err := s.a.store.HoldLease(ctx, leaseServe, s.epoch, now); err != nil && ctx.Err() == nil {
				return err
			}
			if !s.a.workspace.There() {
				return fault.NotFoundf("the workspace %s is not there any more", s.a.workspace.Dir)
			}
			if now.Sub(looked) >= serveLooks {
				looked = now
				s.a.register(ctx, now)
				s.mend(ctx, now)
				s.answer(ctx)
				if s.a.forsaken(&alone, now) {
					return nil
				}
			}
			if now.Sub(watched) >= serveWatches {
				watched = now
				s.watch(ctx, now)
			}
			if now.Sub(measured) >= watch.Every {
				measured = now.Truncate(watch.Every) // on the grid of what is measured
				s.measure(ctx, now)
				s.react(ctx, now)
			}
			s.due(ctx, now)
			s.tellHooks(ctx, now)
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(serveBeat):
			}
		}
	}()
	return errors.Join(err, s.close(ctx))
}

// beside does something beside everything else, unless it goes on still: others are waited for there.
func (s *Serving) beside(ctx context.Context, going *atomic.Bool, failed string, do func() error) {
	if !going.CompareAndSwap(false, true) {
		return
	}
	s.work.Go(func() {
		defer going.Store(false)
		if err := do(); err != nil && ctx.Err() == nil {
			s.a.Log.Warn(failed, "err", err)
		}
	})
}

// mend takes up requests that broke off.
func (s *Serving) mend(ctx context.Context, now time.Time) {
	s.beside(ctx, &s.mending, "requests that broke off are not taken up", func() error { return s.a.Mend(ctx, now) })
}

// watch looks at what is promised without a time of its own.
func (s *Serving) watch(ctx context.Context, now time.Time) {
	s.beside(ctx, &s.watching, "what is promised could not be looked at", func() error { return s.a.WatchPromises(ctx, now) })
}

// measure measures everything, and says what is wrong.
func (s *Serving) measure(ctx context.Context, now time.Time) {
	s.beside(ctx, &s.measuring, "not everything could be measured", func() error { return s.a.MeasureAll(ctx, now) })
}

// react does what is to be done by itself about how things are.
func (s *Serving) react(ctx context.Context, now time.Time) {
	s.beside(ctx, &s.reacting, "not everything could be reacted to", func() error { return s.a.React(ctx, now) })
}

// tellHooks gathers what has happened and tells it.
func (s *Serving) tellHooks(ctx context.Context, now time.Time) {
	s.beside(ctx, &s.telling, "hooks are not set off", func() error {
		err := s.a.Gather(ctx, now)
		if err == nil {
			_, err = s.a.Deliver(ctx, now)
		}
		return err
	})
}

// forsakenFor is for how long a workspace of stand-ins may be without them before nobody serves it any more.
const forsakenFor = time.Minute

// forsaken reports that a workspace of stand-ins has been without them for a while: they are started with it again.
func (a *App) forsaken(since *time.Time, now time.Time) bool {
	if a.within || a.workspace.OfStandIns() != nil || sites.StandInsRun(a.workspace.Dir) {
		*since = time.Time{}
		return false
	}
	if since.IsZero() {
		*since = now
	}
	return now.Sub(*since) > forsakenFor
}

// close stops hearing, and gives the lease back.
func (s *Serving) close(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	err := s.Listener.Close(ctx)
	if left := s.a.store.LeaveLease(ctx, leaseServe, s.epoch); left != nil && !errors.Is(left, store.ErrTaken) && s.a.workspace.There() {
		err = errors.Join(err, left)
	}
	return err
}

// Served says who serves a workspace; the name is "" if nobody does.
type Served struct {
	Name  string    `json:"name"`
	Since time.Time `json:"since,omitzero"`
}

// ServedBy says who serves the workspace.
func (a *App) ServedBy(ctx context.Context) (Served, error) {
	l, err := a.store.Lease(ctx, leaseServe)
	if errors.Is(err, store.ErrNotFound) {
		return Served{}, nil
	}
	if err != nil || time.Since(l.Beat) > serveSilent || !leaseLives(l) {
		return Served{}, err
	}
	return Served{Name: string(l.Holder), Since: l.Since}, nil
}

// variableServe is the environment variable that keeps lasting processes from being started by themselves, if it is "off".
const variableServe = "ANDAMIO_SERVE"

// KeepServed has the workspace be served until the context ends: by the process that serves it, by one that is started and goes on by
// itself, or, where none is to be started, by this one. Nothing is started where nothing is due.
func (a *App) KeepServed(ctx context.Context, told func(Firing)) error {
	if a.desk.Allow(ctx, guard.Serve, guard.Named(a.workspace.Dir)) != nil {
		return nil // somebody else sees to it
	}
	a.register(ctx, time.Now())
	dues, err := a.store.Dues(ctx)
	if err != nil || len(dues) == 0 && !a.wanted() {
		return err
	}
	by, err := a.ServedBy(ctx)
	if err != nil || by.Name != "" {
		return err
	}
	if !a.within && os.Getenv(variableServe) != "off" {
		return a.spawnServing()
	}
	s, err := a.Serve(ctx, Listening{}, told)
	if err != nil {
		if fault.CodeOf(err) == fault.Conflict { // somebody was faster
			return nil
		}
		return err
	}
	return s.Run(ctx)
}

// wanted reports that there are hooks, reactions or fronts, which somebody has to see to.
func (a *App) wanted() bool {
	for _, file := range []string{workspace.FileHooks, workspace.FileReactions, workspace.FileFronts} {
		if !a.workspace.Changed(file).IsZero() {
			return true
		}
	}
	return false
}

// spawnServing starts the lasting process, in a session of its own.
func (a *App) spawnServing() error {
	cmd, err := background.Command("serve", "--workspace", a.workspace.Dir)
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fault.Unavailablef("what is due is seen to by nobody: %w", err)
	}
	go func() { _ = cmd.Wait() }()
	return nil
}

// StopServing ends the lasting process of the workspace, if it is on this machine, and waits until it serves no more.
func (a *App) StopServing(ctx context.Context) error {
	l, err := a.store.Lease(ctx, leaseServe)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	by, err := a.ServedBy(ctx)
	if err != nil || by.Name == "" {
		return err
	}
	process, here := l.Holder.On(runs.ThisHost())
	if !here {
		return fault.Refusedf("the workspace is served by %s, on another machine: end it there", l.Holder)
	}
	if process == os.Getpid() {
		return fault.Refusedf("the workspace is served by this process")
	}
	if err := syscall.Kill(process, syscall.SIGTERM); err != nil {
		return fault.Unavailablef("process %d, which serves the workspace, cannot be told to end: %w", process, err)
	}
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	for by, err := a.ServedBy(ctx); err == nil && by.Name == string(l.Holder); by, err = a.ServedBy(ctx) {
		select {
		case <-ctx.Done():
			return fault.Unavailablef("process %d was told to end, and has not yet", process)
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// StopServingAt ends the lasting process of the workspace in a folder, if there is one.
func StopServingAt(ctx context.Context, dir string) error {
	if _, err := os.Stat(filepath.Join(dir, workspace.FileDatabase)); err != nil {
		return nil
	}
	a, err := Open(ctx, dir, Idle())
	if err != nil {
		return err
	}
	return errors.Join(a.StopServing(ctx), a.Close())
}
