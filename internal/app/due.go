package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/clock"
	"andamio/internal/core/guard"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/core/window"
	"andamio/internal/service/acting"
	"andamio/internal/service/moves"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/runs"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Due is something that is to be done at a time, or again and again.
type Due = clock.Due

// dueKind says of a kind of what is due what is done, and what becomes of what was due while nobody looked. What it changes in the world
// it proposes, as a person would.
type dueKind struct {
	// words say what is done, before the subject.
	words string
	// deployment says that the subject is a deployment, by its number, and a part after it where several are due for one.
	deployment bool
	late       clock.Late
	// again has what failed be tried again before it is due the next time, ever more seldom.
	again bool
	// do does it, as whoever set it up, by schedule, and says in a few words what came of it.
	do func(ctx context.Context, a *App, subject string) (string, error)
}

// dueKinds are the kinds, by name. A new one is a row here and a call of register where it is set up.
var dueKinds = map[string]dueKind{
	dueSurvey:      {words: "survey of", late: clock.CatchUp, again: true, do: surveyAsDue},
	duePrices:      {words: "prices of", late: clock.CatchUp, again: true, do: pricesAsDue},
	runs.DueLapse:  {words: "end of proposal", late: clock.CatchUp, do: lapse},
	moves.DueFence: {words: "what is left on of move", late: clock.CatchUp, do: fence},

	promise.DueAddressNotice: {words: "notice of the end of the lease of", late: clock.CatchUp, do: addressed(promise.DueAddressNotice)},
	promise.DueAddressEnd:    {words: "end of the lease of", late: clock.CatchUp, again: true, do: addressed(promise.DueAddressEnd)},

	promise.DueSave:      {words: "snapshot of", deployment: true, late: clock.CatchUp, again: true, do: promised(promise.DueSave)},
	promise.DueCopy:      {words: "copies of", deployment: true, late: clock.CatchUp, again: true, do: promised(promise.DueCopy)},
	promise.DueDrill:     {words: "restore drill of", deployment: true, late: clock.CatchUp, again: true, do: promised(promise.DueDrill)},
	promise.DueOff:       {words: "off hours of", deployment: true, late: clock.CatchUp, again: true, do: promised(promise.DueOff)},
	promise.DueOn:        {words: "end of off hours of", deployment: true, late: clock.CatchUp, again: true, do: promised(promise.DueOn)},
	promise.DueDrop:      {words: "end of the snapshot of", deployment: true, late: clock.CatchUp, again: true, do: promised(promise.DueDrop)},
	promise.DueRecover:   {words: "what fell of", deployment: true, late: clock.CatchUp, do: promised(promise.DueRecover)},
	promise.DueLimit:     {words: "bounds of the volumes of", deployment: true, late: clock.CatchUp, do: promised(promise.DueLimit)},
	promise.DueAnnounced: {words: "announced maintenance of", deployment: true, late: clock.CatchUp, do: promised(promise.DueAnnounced)},
	promise.DueNotice:    {words: "notice of the end of", deployment: true, late: clock.CatchUp, do: promised(promise.DueNotice)},
	promise.DueEnd:       {words: "end of the lease of", deployment: true, late: clock.CatchUp, again: true, do: promised(promise.DueEnd)},
	promise.DueGone:      {words: "end of the grace of", deployment: true, late: clock.CatchUp, again: true, do: promised(promise.DueGone)},
}

// addressed does what is due for an address that is leased.
func addressed(kind string) func(ctx context.Context, a *App, subject string) (string, error) {
	return func(ctx context.Context, a *App, subject string) (string, error) {
		return a.AddressDue(ctx, kind, subject, time.Now())
	}
}

// promised does what is due for a promise.
func promised(kind string) func(ctx context.Context, a *App, subject string) (string, error) {
	return func(ctx context.Context, a *App, subject string) (string, error) {
		id, err := promise.DeploymentOf(subject)
		if err != nil {
			return "", err
		}
		return a.Due(ctx, kind, id, time.Now())
	}
}

// dueSurvey is a survey of a site, by the rule of its connection.
const dueSurvey = "survey"

// duePrices is asking all sites what they ask, every night.
const (
	duePrices   = "prices"
	everySite   = "all sites"
	everyNight  = "FREQ=DAILY"
	pricesAtUTC = 3 * time.Hour
)

// pricesAsDue keeps what all sites ask.
func pricesAsDue(ctx context.Context, a *App, _ string) (string, error) {
	n, err := a.RefreshPrices(ctx)
	if err != nil {
		return "", err
	}
	return printable.Count(n, "site"), nil
}

// nightly has the prices be asked every night while there are sites.
func (a *App) nightly(ctx context.Context, sites int, now time.Time, known bool) error {
	if sites == 0 {
		if !known {
			return nil
		}
		return a.store.Unregister(ctx, duePrices, everySite)
	}
	if known {
		return nil
	}
	today := now.UTC().Truncate(24 * time.Hour)
	_, err := a.store.Register(ctx, Due{Kind: duePrices, Subject: everySite, Rule: everyNight, Zone: "UTC", Start: today.Add(pricesAtUTC), Seen: now, By: a.desk.Actor.By(guard.Schedule)})
	return err
}

// SettleByRules settles what standing rules settle, in their name, and returns how many findings each rule settled.
func (a *App) SettleByRules(ctx context.Context) (map[string]int, error) {
	return a.By(ByRule).inventoryService.SettleByRules(ctx)
}

// DueWords say what is done when something is due. Names are those of deployments, which are numbered where none is known.
func DueWords(kind, subject string, names map[int64]string) string {
	k, known := dueKinds[kind]
	if !known {
		return kind + " of " + subject
	}
	return k.words + " " + k.named(subject, names)
}

// named is a subject as people call it.
func (k *dueKind) named(subject string, names map[int64]string) string {
	id, err := promise.DeploymentOf(subject)
	if !k.deployment || err != nil {
		return subject
	}
	name := cmp.Or(names[id], fmt.Sprintf("deployment %d", id))
	if _, part, has := strings.Cut(subject, " "); has {
		name += ", " + part
	}
	return name
}

// surveyAsDue surveys a site, and settles what standing rules settle.
func surveyAsDue(ctx context.Context, a *App, site string) (string, error) {
	s, err := a.Survey(ctx, reconcile.SurveyRequest{Site: site})
	if err != nil {
		return "", err
	}
	note := fmt.Sprintf("%d things", s.Found())
	done, err := a.SettleByRules(ctx)
	if err != nil {
		a.Log.Warn("the standing rules were not applied", "err", err)
	}
	if len(done) > 0 {
		note += fmt.Sprintf(", %d settled by rules", len(done))
	}
	return note, nil
}

// fence switches off what was failed over where it was.
func fence(ctx context.Context, a *App, subject string) (string, error) {
	id, err := strconv.ParseInt(subject, 10, 64)
	if err != nil {
		return "", err
	}
	return a.Fence(ctx, id)
}

// lapse closes a proposal whose time is over.
func lapse(ctx context.Context, a *App, subject string) (string, error) {
	id, err := strconv.ParseInt(subject, 10, 64)
	if err != nil {
		return "", err
	}
	mine, err := a.store.SettleProposal(ctx, id, store.ProposalOpen, store.ProposalLapsed, store.Outcome{})
	if err != nil {
		return "", err
	}
	if !mine {
		return "it was confirmed or withdrawn before", a.store.Unregister(ctx, runs.DueLapse, subject)
	}
	return "nobody confirmed it", a.store.Unregister(ctx, runs.DueLapse, subject)
}

// register has be due what the connections of sites say now. A site that was never surveyed is due at once.
func (a *App) register(ctx context.Context, now time.Time) {
	connections, err := a.workspace.Connections()
	if err != nil {
		a.Log.Warn("schedules cannot be read", "err", err)
		return
	}
	dues, err := a.store.Dues(ctx)
	if err != nil {
		a.Log.Warn("what is due cannot be read", "err", err)
		return
	}
	known, nightly := map[string]Due{}, false
	for _, d := range dues {
		if d.Kind == dueSurvey {
			known[d.Subject] = d
		}
		nightly = nightly || d.Kind == duePrices
	}
	err = a.nightly(ctx, len(connections), now, nightly)
	for i := range connections {
		c := &connections[i]
		had, is := known[c.Site]
		delete(known, c.Site)
		if c.Schedule == "" {
			if is {
				err = errors.Join(err, a.store.Unregister(ctx, dueSurvey, c.Site))
			}
			continue
		}
		d, wrong := a.surveyDue(ctx, c, now)
		if wrong != nil || is && had.Rule == d.Rule && had.Zone == d.Zone && had.Start.Equal(d.Start) {
			err = errors.Join(err, wrong)
			continue
		}
		_, wrong = a.store.Register(ctx, d)
		err = errors.Join(err, wrong)
	}
	for site := range known {
		err = errors.Join(err, a.store.Unregister(ctx, dueSurvey, site))
	}
	if err != nil {
		a.Log.Warn("what is due could not be registered", "err", err)
	}
}

// surveyDue is what a site's schedule has be due: since it was surveyed last, or at once.
func (a *App) surveyDue(ctx context.Context, c *workspace.Connection, now time.Time) (Due, error) {
	zone, err := c.Zone()
	if err != nil {
		return Due{}, err
	}
	d := Due{Kind: dueSurvey, Subject: c.Site, Rule: c.Schedule, Zone: c.TimeZone, Start: c.Scheduled(zone), By: a.desk.Actor.By(guard.Schedule)}
	last, err := a.store.LastSurvey(ctx, c.Site)
	if !errors.Is(err, store.ErrNotFound) {
		d.Seen = last.Started
		return d, err
	}
	r, err := calendar.Parse(d.Rule, zone, d.Start)
	if err != nil {
		return d, err
	}
	if began := r.Last(now); !began.IsZero() {
		d.Seen = began.Add(-1) // the last time counts, and none before it was missed
	}
	return d, nil
}

// due begins what is due now.
func (s *Serving) due(ctx context.Context, h *held, now time.Time) {
	dues, err := s.a.store.Dues(ctx)
	if err != nil {
		if ctx.Err() == nil {
			s.a.Log.Warn("what is due cannot be read", "err", err)
		}
		return
	}
	for i := range dues {
		d := &dues[i]
		kind, known := dueKinds[d.Kind]
		if !known {
			continue // a newer program's: it sees to it
		}
		v, err := clock.Judge(d, kind.late, now)
		switch {
		case err != nil:
			s.a.Log.Warn("what is due cannot be judged", "kind", d.Kind, "subject", d.Subject, "err", err)
		case !v.Do.IsZero():
			s.begin(ctx, h, d, Firing{At: v.Do, State: FiringGoing, Missed: v.Missed, Began: now})
		case v.Missed > 0:
			s.begin(ctx, h, d, Firing{At: v.Seen, State: FiringMissed, Missed: v.Missed - 1, Began: now})
		}
	}
	s.retry(ctx, h, dues, now)
}

// lastFirings is how many firings are looked at for what is to be tried again.
const lastFirings = 200

// retry begins again what failed and is to be tried again by now.
func (s *Serving) retry(ctx context.Context, h *held, dues []Due, now time.Time) {
	all, err := s.a.store.Firings(ctx, lastFirings)
	if err != nil {
		return
	}
	changed := s.a.workspace.Changed(workspace.FileWindows)
	lifted := !changed.Equal(s.windows)
	s.windows = changed
	for _, f := range all {
		held := f.State == FiringHeld
		if f.State != FiringFailed && !held || f.Again.IsZero() || f.Again.After(now) && !(held && lifted) {
			continue
		}
		i := slices.IndexFunc(dues, func(d Due) bool { return d.ID == f.Due })
		if i < 0 || dues[i].Seen.After(f.At) { // it is due no more, or was since
			f.Again = time.Time{}
			_ = s.a.store.EndFiring(ctx, f)
			continue
		}
		s.begin(ctx, h, &dues[i], Firing{At: f.At, State: FiringGoing, Tries: f.Tries, Began: now})
	}
}

// begin does what is due, beside everything else that is, unless it goes on still. It is noted before it is done.
func (s *Serving) begin(ctx context.Context, h *held, d *Due, f Firing) {
	s.mu.Lock()
	busy := s.going[d.ID]
	if !busy {
		s.going[d.ID] = true
	}
	s.mu.Unlock()
	if busy {
		return
	}
	f.Due, f.Kind, f.Subject = d.ID, d.Kind, d.Subject
	ended := func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.going, d.ID)
	}
	mine, err := s.a.store.Fire(ctx, leaseServe, h.epoch, f)
	if err != nil || !mine || f.State == FiringMissed {
		if err != nil && ctx.Err() == nil {
			s.a.Log.Warn("what is due could not be noted, and is not done", "kind", d.Kind, "subject", d.Subject, "err", err)
		}
		if mine {
			s.told(f)
		}
		ended()
		return
	}
	f.Tries++
	by := h.a.As(d.By.By(guard.Schedule))
	s.work.Go(func() {
		defer ended()
		s.end(ctx, f, func() (string, error) { return dueKinds[d.Kind].do(ctx, by, d.Subject) })
	})
}

// How long what failed is left alone: the first time, and at most.
const (
	firstAgain = time.Minute
	mostAgain  = 15 * time.Minute
)

// end does it and notes what came of it.
func (s *Serving) end(ctx context.Context, f Firing, do func() (string, error)) {
	note, err := do()
	f.Ended, f.Note, f.State = time.Now(), note, FiringDone
	var held *window.Held
	switch {
	case errors.As(err, &held):
		f.State, f.Note, f.Again = FiringHeld, oneLine(err), sooner(held.Until, f.Ended.Add(mostAgain))
	case err != nil:
		f.State, f.Note = FiringFailed, oneLine(err)
		if dueKinds[f.Kind].again {
			f.Again = f.Ended.Add(min(firstAgain<<min(f.Tries-1, 8), mostAgain))
		}
		if ctx.Err() != nil && !f.Again.IsZero() { // it failed because this process ends: the next one does it at once
			f.Again = f.Ended
		}
	}
	if wrong := s.a.store.EndFiring(context.WithoutCancel(ctx), f); wrong != nil {
		s.a.Log.Warn("what came of what was due could not be noted", "kind", f.Kind, "subject", f.Subject, "err", wrong)
	}
	s.told(f)
}

// sooner is the earlier of two times: what is held is tried again now and then, so that it stays among the last that are looked at.
func sooner(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// oneLine is an error in one line.
func oneLine(err error) string { return strings.Join(strings.Fields(err.Error()), " ") }

// brokeOff notes of what the process before this one was doing when it ended that it broke off; what may be is tried again.
func (s *Serving) brokeOff(ctx context.Context) error {
	all, err := s.a.store.Firings(ctx, lastFirings)
	for _, f := range all {
		if f.State != FiringGoing {
			continue
		}
		f.State, f.Ended, f.Note = FiringFailed, time.Now(), "the process that did it ended"
		if dueKinds[f.Kind].again {
			f.Again = f.Ended
		}
		err = errors.Join(err, s.a.store.EndFiring(ctx, f))
	}
	return err
}

// Clock is what is due next, and what became of what was.
type Clock struct {
	By Served `json:"served_by"`
	// Processes are all that serve the workspace, where several machines have it.
	Processes []ServingProcess `json:"processes,omitempty"`
	// Blackouts are those that go on.
	Blackouts []window.Held `json:"blackouts,omitempty"`
	Next      []Upcoming    `json:"next"`
	Last      []Firing      `json:"last"`
	// Names are those of the deployments for which something is due, by their numbers.
	Names map[int64]string `json:"names,omitempty"`
}

// Words say what is done when something is due, or what was.
func (c *Clock) Words(kind, subject string) string { return DueWords(kind, subject, c.Names) }

// Named is what it is done to, as people call it.
func (c *Clock) Named(kind, subject string) string {
	k := dueKinds[kind]
	return k.named(subject, c.Names)
}

// Upcoming is something that is due, and when next; zero if it is not again.
type Upcoming struct {
	Due
	At time.Time `json:"at,omitzero"`
	// Overdue says that it was due and nobody has seen to it.
	Overdue bool `json:"overdue,omitempty"`
}

// Clock says who sees to what is due, what that is, the soonest first, and what became of the last.
func (a *App) Clock(ctx context.Context, now time.Time, last int) (Clock, error) {
	if err := a.desk.Read("what is due"); err != nil {
		return Clock{}, err
	}
	var out Clock
	var err error
	if a.kept.machines {
		if out.Processes, err = a.ServingProcesses(ctx); err != nil {
			return out, err
		}
	}
	if out.By, err = a.ServedBy(ctx); err != nil {
		return out, err
	}
	windows, err := a.workspace.Windows()
	if err != nil {
		return out, err
	}
	out.Blackouts = windows.Going(now)
	a.register(ctx, now)
	dues, err := a.store.Dues(ctx)
	if err != nil {
		return out, err
	}
	for _, d := range dues {
		u := Upcoming{Due: d}
		if v, err := clock.Judge(&d, clock.CatchUp, now); err == nil && !v.Do.IsZero() {
			u.At, u.Overdue = v.Do, true
		} else if u.At, err = d.Next(now); err != nil {
			a.Log.Warn("when it is due is not known", "kind", d.Kind, "subject", d.Subject, "err", err)
			continue
		}
		out.Next = append(out.Next, u)
	}
	slices.SortStableFunc(out.Next, func(x, y Upcoming) int { return x.At.Compare(y.At) })
	if out.Last, err = a.store.Firings(ctx, last); err != nil {
		return out, err
	}
	out.Names, err = a.namesOf(ctx)
	return out, err
}

// namesOf are the names of all deployments that the actor may see, by their numbers.
func (a *App) namesOf(ctx context.Context) (map[int64]string, error) {
	all, err := a.store.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	all, err = acting.Seen(ctx, a.desk, all, func(d store.Deployment) guard.Thing { return guard.Thing{Deployment: d.ID} })
	out := make(map[int64]string, len(all))
	for _, d := range all {
		out[d.ID] = d.Name
	}
	return out, err
}
