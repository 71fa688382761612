package app

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/service/hooks"
	"andamio/internal/service/reactions"
	"andamio/internal/service/runs"
	"andamio/internal/service/watch"
	"andamio/internal/store"
)

// What a workspace is served with is shared in duties. Each is one process's at a time, which has a lease of it and shows again and again that it lives; where that is silent another takes it over.
// Where one process serves a workspace, as in a folder, it has all of them; where several machines have it, those that serve it share them out.

// leaseServe is the lease of the clock, whose holder is the one that serves the workspace, for whoever asks.
const leaseServe = "serve"

// The leases of the other duties: of whoever measures, watches and reacts, and of whoever tells hooks.
const (
	leaseWatch = "serve watch"
	leaseTell  = "serve tell"
	// leasePresent is that of one process which serves, by its name: that it is there is how many there are to share.
	leasePresent = "serves "
)

// duty is a share of serving.
type duty struct {
	lease string
	// stays says that it is not given back while its holder lives: what is due goes on for long.
	stays bool
	// beat does what is to be done by now.
	beat func(s *Serving, h *held, ctx context.Context, now time.Time)
}

// duties are all of them, in the order in which one process takes them.
var duties = []duty{
	{lease: leaseServe, stays: true, beat: (*Serving).keepClock},
	{lease: leaseWatch, beat: (*Serving).keepWatch},
	{lease: leaseTell, beat: (*Serving).keepTold},
}

// held is a duty that this process has, with what it remembers of it: whoever took it over begins with nothing in mind.
type held struct {
	epoch int64
	a     *App
	// bus is what is kept of what happens on the bus of the workspace.
	bus   keeping
	shown time.Time
	stop  context.CancelFunc
	ctx   context.Context
	// work is what goes on for it.
	work sync.WaitGroup
	// looked, watched and measured are when that was done last.
	looked, watched, measured time.Time
}

// How often who serves shows that it lives, and for how long it may be silent before another takes over. Whoever cannot show it stops in time before that.
const (
	serveBeat   = time.Second
	serveSilent = 10 * time.Second
	serveStops  = serveSilent - 3*time.Second
	// showPatience is how long showing it may take.
	showPatience = 3 * time.Second
)

// anew is the workspace for a duty that was just taken.
func (a *App) anew() *App {
	b := *a
	b.told, b.watched, b.reacted = &hooks.Memory{}, &watch.Memory{}, &reactions.Memory{}
	b.wire(a.desk.Inside())
	return &b
}

// take takes a duty that nobody has; ErrTaken says that somebody has it.
func (s *Serving) take(ctx context.Context, d *duty, now time.Time) error {
	epoch, err := s.a.store.TakeLease(ctx, d.lease, runs.ThisWorker(), "", now, now.Add(-serveSilent), leaseLives)
	if err != nil {
		return err
	}
	h := &held{epoch: epoch, a: s.a.anew(), shown: now}
	h.ctx, h.stop = context.WithCancel(context.WithoutCancel(ctx)) // ended by drop
	s.held[d.lease] = h
	if d.lease == leaseServe {
		return s.brokeOff(ctx)
	}
	return nil
}

// drop stops what goes on for a duty, and gives it back if that is wanted.
func (s *Serving) drop(ctx context.Context, lease string, back bool) error {
	h := s.held[lease]
	if h == nil {
		return nil
	}
	delete(s.held, lease)
	h.stop()
	if !back {
		s.work.Go(func() { h.end() }) // whoever has it now does not wait for what is stopped here
		return nil
	}
	err := h.end()
	left := s.a.store.LeaveLease(ctx, lease, h.epoch)
	if left != nil && !errors.Is(left, store.ErrTaken) && s.a.workspace.There() {
		err = errors.Join(err, left)
	}
	return err
}

// end waits for what went on for a duty that is stopped.
func (h *held) end() error {
	h.work.Wait()
	h.a.told.Close()
	h.bus.leave()
	return h.a.watched.Close()
}

// show shows that this process has its duties still, and lets go of those that it has not: another has taken them, or could have since it was silent.
func (s *Serving) show(ctx context.Context, now time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, showPatience)
	defer cancel()
	for _, d := range duties {
		h := s.held[d.lease]
		if h == nil {
			continue
		}
		err := s.a.store.HoldLease(ctx, d.lease, h.epoch, now)
		switch {
		case err == nil:
			h.shown = now
			continue
		case !s.a.kept.machines:
			return err
		case errors.Is(err, store.ErrTaken) || time.Since(h.shown) > serveStops:
			s.a.Log.Warn("a duty is another's now", "duty", d.lease, "err", err)
			_ = s.drop(ctx, d.lease, false)
		}
	}
	return nil
}

// shareOut takes duties that nobody has, and gives back what is more than this process's share, for those that came.
func (s *Serving) shareOut(ctx context.Context, now time.Time) {
	if !s.a.kept.machines || now.Sub(s.shared) < serveShares {
		return
	}
	s.shared = now
	ctx, cancel := context.WithTimeout(ctx, showPatience)
	defer cancel()
	present, err := s.present(ctx, now)
	if err != nil {
		return
	}
	share := (len(duties) + present - 1) / present
	for i := range duties {
		d := &duties[i]
		if s.held[d.lease] == nil && len(s.held) < share {
			_ = s.take(ctx, d, now) // somebody else has it
		}
	}
	for i := len(duties) - 1; i >= 0 && len(s.held) > share; i-- {
		if d := &duties[i]; !d.stays && s.held[d.lease] != nil {
			if err := s.drop(ctx, d.lease, true); err != nil {
				s.a.Log.Warn("a duty could not be given back", "duty", d.lease, "err", err)
			}
		}
	}
}

// serveShares is how often duties are shared out.
const serveShares = 2 * time.Second

// present shows that this process serves, and is how many do.
func (s *Serving) present(ctx context.Context, now time.Time) (int, error) {
	mine := leasePresent + string(runs.ThisWorker())
	if s.presence == 0 || s.a.store.HoldLease(ctx, mine, s.presence, now) != nil {
		epoch, err := s.a.store.TakeLease(ctx, mine, runs.ThisWorker(), s.note, now, now, func(store.Lease) bool { return false })
		if err != nil {
			return 0, err
		}
		s.presence = epoch
	}
	all, err := s.a.serving(ctx, now)
	return max(1, len(all)), err
}

// serving are those that serve the workspace, where several may.
func (a *App) serving(ctx context.Context, now time.Time) ([]store.Lease, error) {
	all, err := a.store.Leases(ctx, leasePresent)
	if err != nil {
		return nil, err
	}
	var out []store.Lease
	for _, l := range all {
		if now.Sub(l.Beat) < serveSilent && leaseLives(l) {
			out = append(out, l)
		}
	}
	return out, nil
}

// keepClock sees to what is due, and to what broke off.
func (s *Serving) keepClock(h *held, ctx context.Context, now time.Time) {
	if now.Sub(h.looked) >= serveLooks {
		h.looked = now
		h.a.register(ctx, now)
		s.mend(ctx, h, now)
		s.answer(ctx, h)
		s.takeOver(ctx, h, now)
	}
	s.due(ctx, h, now)
}

// keepWatch looks at how everything is, and does what is to be done by itself about it.
func (s *Serving) keepWatch(h *held, ctx context.Context, now time.Time) {
	if now.Sub(h.watched) >= serveWatches {
		h.watched = now
		s.watch(ctx, h, now)
	}
	if now.Sub(h.measured) >= watch.Every {
		h.measured = now.Truncate(watch.Every) // on the grid of what is measured
		s.measure(ctx, h, now)
		s.react(ctx, h, now)
	}
}

// keepTold has others be told what happens: whom hooks call, and whoever listens on a bus.
func (s *Serving) keepTold(h *held, ctx context.Context, now time.Time) {
	s.tellHooks(ctx, h, now)
	s.keepOnBus(ctx, h, now)
}

// takeOverAfter is for how long a run's worker may be silent before another is set to it by who serves, where several machines have the workspace: its machine is taken to be gone. On one machine
// a person looks first.
const takeOverAfter = 15 * time.Second

// takeOver sets a worker of this machine to runs whose worker is gone with its machine, and to those that never had one since it was gone before it could begin.
func (s *Serving) takeOver(ctx context.Context, h *held, now time.Time) {
	if !s.a.kept.machines {
		return
	}
	s.beside(ctx, h, &s.takingOver, "runs that broke off are not taken over", func() error {
		all, err := h.a.store.Runs(ctx)
		if err != nil {
			return err
		}
		for _, r := range all {
			if r.State != run.UnderWay && r.State != run.Planned || now.Sub(r.Beat) < takeOverAfter {
				continue
			}
			taken := h.a.Resume(ctx, r.ID)
			h.a.Log.Info("a run whose worker was silent is taken over", "run", r.ID, "worker", r.Worker, "err", taken)
			err = errors.Join(err, taken)
		}
		return err
	})
}

// ServingProcess is a process that serves a workspace.
type ServingProcess struct {
	Name  string    `json:"name"`
	Since time.Time `json:"since"`
	// Note is where it is reached.
	Note string `json:"note,omitempty"`
	// Duties are those that it has: clock, watch and tell.
	Duties []string `json:"duties"`
}

// dutyWords are the duties as they are told.
var dutyWords = map[string]string{leaseServe: "clock", leaseWatch: "watch", leaseTell: "tell"}

// ServingProcesses are all that serve the workspace, with what each does.
func (a *App) ServingProcesses(ctx context.Context) ([]ServingProcess, error) {
	if err := a.desk.Read("who serves the workspace"); err != nil {
		return nil, err
	}
	present, err := a.serving(ctx, time.Now())
	if err != nil {
		return nil, err
	}
	holders := map[store.Worker][]string{}
	since := map[store.Worker]time.Time{}
	for _, d := range duties {
		l, err := a.store.Lease(ctx, d.lease)
		if errors.Is(err, store.ErrNotFound) || err == nil && (time.Since(l.Beat) > serveSilent || !leaseLives(l)) {
			continue
		}
		if err != nil {
			return nil, err
		}
		holders[l.Holder] = append(holders[l.Holder], dutyWords[d.lease])
		since[l.Holder] = l.Since
	}
	var out []ServingProcess
	for _, l := range present {
		out = append(out, ServingProcess{string(l.Holder), l.Since, l.Note, holders[l.Holder]})
		delete(holders, l.Holder)
	}
	for w, of := range holders { // one that is alone shows its duties and nothing else
		out = append(out, ServingProcess{Name: string(w), Since: since[w], Duties: of})
	}
	return out, nil
}

// saysOf is what a process that serves says of itself.
func saysOf(l *Listener) string { return fmt.Sprintf("notices at %s", l.URL()) }
