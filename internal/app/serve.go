package app

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"andamio/internal/background"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/durable"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

const (
	// serveLooks is how often schedules and rules are read anew.
	serveLooks = 5 * time.Second
	// serveWatches is how often machines that are raised again by themselves are looked at.
	serveWatches = 10 * time.Second
)

// Serving is a lasting process of a workspace: it hears notices, and sees to its duties until its context ends, or another
// process has taken over. In a folder it is the only one.
type Serving struct {
	*Listener
	a *App
	// held are the duties that it has, by their leases; presence is the epoch of its own, and note what it says of itself.
	held     map[string]*held
	presence int64
	note     string
	shared   time.Time
	// alone gives back what keeps another process of this machine from serving the same folder.
	alone func()
	// told hears what became of each thing that was due.
	told func(Firing)
	work sync.WaitGroup
	// mending says that requests that broke off are taken up at this moment.
	mending atomic.Bool
	// telling says that what hooks are to tell is told at this moment.
	telling atomic.Bool
	// keepingOn says that what happens is being kept on the bus of the workspace; own is the bus of this process, nil if none runs.
	keepingOn atomic.Bool
	own       *ownBus
	// watching says that what is promised without a time of its own is looked at, measuring that everything is measured.
	watching, measuring atomic.Bool
	// reacting says that what is measured is reacted to, takingOver that runs are taken over.
	reacting, takingOver atomic.Bool
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
	if told == nil {
		told = func(Firing) {}
	}
	s := &Serving{a: a, held: map[string]*held{}, told: told, going: map[int64]bool{}, alone: func() {}}
	if a.kept.machines {
		if err := s.onlyHere(); err != nil {
			return nil, err
		}
	}
	now := time.Now()
	for i := range duties {
		err := s.take(ctx, &duties[i], now)
		switch {
		case err == nil, a.kept.machines && errors.Is(err, store.ErrTaken): // what another has is shared out
			continue
		case errors.Is(err, store.ErrTaken):
			err = fault.Conflictf("the workspace is served already: %w", err)
		}
		return nil, errors.Join(err, s.dropAll(ctx))
	}
	l, err := a.listen(ctx, where)
	if err != nil {
		return nil, errors.Join(err, s.dropAll(ctx))
	}
	s.Listener, s.note = l, saysOf(l)
	return s, nil
}

// dropAll gives all duties back.
func (s *Serving) dropAll(ctx context.Context) (err error) {
	ctx = context.WithoutCancel(ctx)
	for _, d := range duties {
		err = errors.Join(err, s.drop(ctx, d.lease, true))
	}
	if s.presence != 0 {
		if left := s.a.store.LeaveLease(ctx, leasePresent+string(runs.ThisWorker()), s.presence); left != nil && !errors.Is(left, store.ErrTaken) {
			err = errors.Join(err, left)
		}
	}
	s.alone()
	return err
}

// leaseLives reports that the holder of a lease is not known to be gone.
func leaseLives(l store.Lease) bool { return !runs.WorkerGone(l.Holder) }

// Run goes on until the context ends, another process has taken over, or the workspace is not there any more, and then ends what goes on.
func (s *Serving) Run(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	var looked, alone time.Time
	err := func() error {
		defer s.work.Wait()
		defer s.stopAll()
		defer stop()
		for {
			now := time.Now()
			if err := s.show(ctx, now); err != nil && ctx.Err() == nil {
				return err
			}
			s.shareOut(ctx, now)
			if !s.a.workspace.There() {
				return fault.NotFoundf("the workspace %s is not there any more", s.a.workspace.Dir)
			}
			if now.Sub(looked) >= serveLooks {
				looked = now
				if s.a.forsaken(&alone, now) {
					return nil
				}
			}
			for _, d := range duties {
				if h := s.held[d.lease]; h != nil {
					d.beat(s, h, h.ctx, now)
				}
			}
			s.keepOwn(ctx, now)
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(serveBeat):
			}
		}
	}()
	return errors.Join(err, s.close(ctx))
}

// stopAll stops what goes on for all duties; they are held until that has ended.
func (s *Serving) stopAll() {
	for _, h := range s.held {
		h.stop()
	}
}

// beside does something beside everything else, unless it goes on still: others are waited for there.
func (s *Serving) beside(ctx context.Context, h *held, going *atomic.Bool, failed string, do func() error) {
	if !going.CompareAndSwap(false, true) {
		return
	}
	h.work.Go(func() {
		defer going.Store(false)
		if err := do(); err != nil && ctx.Err() == nil {
			s.a.Log.Warn(failed, "err", err)
		}
	})
}

// mend takes up requests that broke off.
func (s *Serving) mend(ctx context.Context, h *held, now time.Time) {
	s.beside(ctx, h, &s.mending, "requests that broke off are not taken up", func() error { return h.a.Mend(ctx, now) })
}

// watch looks at what is promised without a time of its own.
func (s *Serving) watch(ctx context.Context, h *held, now time.Time) {
	s.beside(ctx, h, &s.watching, "what is promised could not be looked at", func() error { return h.a.WatchPromises(ctx, now) })
}

// measure measures everything, and says what is wrong.
func (s *Serving) measure(ctx context.Context, h *held, now time.Time) {
	s.beside(ctx, h, &s.measuring, "not everything could be measured", func() error { return h.a.MeasureAll(ctx, now) })
}

// react does what is to be done by itself about how things are.
func (s *Serving) react(ctx context.Context, h *held, now time.Time) {
	s.beside(ctx, h, &s.reacting, "not everything could be reacted to", func() error { return h.a.React(ctx, now) })
}

// tellHooks gathers what has happened and tells it.
func (s *Serving) tellHooks(ctx context.Context, h *held, now time.Time) {
	s.beside(ctx, h, &s.telling, "hooks are not set off", func() error {
		err := h.a.Gather(ctx, now)
		if err == nil {
			_, err = h.a.Deliver(ctx, now)
		}
		return err
	})
}

// forsakenFor is for how long a workspace of stand-ins may be without them before nobody serves it any more.
const forsakenFor = time.Minute

// forsaken reports that a workspace of stand-ins has been without them for a while: they are started with it again.
func (a *App) forsaken(since *time.Time, now time.Time) bool {
	if a.within || a.kept.machines || a.workspace.OfStandIns() != nil || sites.StandInsRun(a.workspace.Dir) {
		*since = time.Time{}
		return false
	}
	if since.IsZero() {
		*since = now
	}
	return now.Sub(*since) > forsakenFor
}

// close stops hearing, and gives the duties back.
func (s *Serving) close(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	return errors.Join(s.endBus(), s.Listener.Close(ctx), s.dropAll(ctx))
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

// wanted reports that there are hooks, reactions, fronts or a bus, which somebody has to see to.
func (a *App) wanted() bool {
	for _, file := range []string{workspace.FileHooks, workspace.FileReactions, workspace.FileFronts, workspace.FileBus} {
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
	if a.kept.machines {
		return a.stopServingHere(ctx)
	}
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
	ctx, cancel := context.WithTimeout(ctx, endPatience)
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

// Where several machines have a workspace, a folder says which process of its machine serves it.
const (
	fileServing = "serving.json"
	lockServing = "serving.lock"
)

// servesHere is what the file of a process that serves says.
type servesHere struct {
	Process int `json:"process"`
}

// onlyHere has this be the only process of this machine that serves the folder.
func (s *Serving) onlyHere() error {
	unlock, err := durable.TryLock(s.a.workspace.Path(lockServing))
	if err != nil {
		return fault.Conflictf("this machine serves the workspace already, from %s: %w", s.a.workspace.Dir, err)
	}
	s.alone = unlock
	return durable.WriteJSON(s.a.workspace.Path(fileServing), servesHere{os.Getpid()})
}

// stopServingHere ends the process of this machine that serves the folder, if there is one, and waits until it has ended.
func (a *App) stopServingHere(ctx context.Context) error {
	unlock, err := durable.TryLock(a.workspace.Path(lockServing))
	if err == nil {
		unlock()
		return nil // nobody does
	}
	if !errors.Is(err, durable.ErrHeld) {
		return err
	}
	data, err := durable.In(a.workspace.Dir).Read(fileServing)
	var at servesHere
	if err == nil {
		err = json.Unmarshal(data, &at)
	}
	if err != nil || at.Process <= 1 {
		return fault.Unavailablef("a process of this machine serves the workspace, and %s does not say which: %w", a.workspace.Path(fileServing), err)
	}
	if at.Process == os.Getpid() {
		return fault.Refusedf("the workspace is served by this process")
	}
	if err := syscall.Kill(at.Process, syscall.SIGTERM); err != nil && !errors.Is(err, syscall.ESRCH) {
		return fault.Unavailablef("process %d, which serves the workspace, cannot be told to end: %w", at.Process, err)
	}
	unlock, err = durable.Lock(ctx, a.workspace.Path(lockServing), endPatience)
	if err != nil {
		return fault.Unavailablef("process %d was told to end, and has not yet: %w", at.Process, err)
	}
	unlock()
	return nil
}

// endPatience is how long a process that serves may take to end.
const endPatience = 15 * time.Second

// StopServingAt ends the lasting process of the workspace in a folder, if there is one.
func StopServingAt(ctx context.Context, dir string) error {
	if !workspace.IsIn(dir) {
		return nil
	}
	a, err := Open(ctx, dir, Idle())
	if err != nil {
		return err
	}
	return errors.Join(a.StopServing(ctx), a.Close())
}

// ThisProcess is this process as those of a workspace know each other.
func ThisProcess() store.Worker { return runs.ThisWorker() }
