// Package promises is the service of what is kept up for deployments over time: that they are saved, that they are off at hours, that they end. It sets
// and extends promises, does what is due for them when the clock says so, and shows how they were kept.
package promises

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"andamio/internal/core/clock"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/service/snapshots"
	"andamio/internal/store"
)

// Store is where the service keeps promises.
type Store interface {
	store.PromisesStore
	Dues(ctx context.Context) ([]clock.Due, error)
	Deployment(ctx context.Context, id int64) (store.Deployment, error)
	Run(ctx context.Context, id int64) (store.Run, error)
}

// Service is the service of promises.
type Service struct {
	desk        *acting.Desk
	store       Store
	log         *slog.Logger
	deployments *deployments.Service
	snapshots   *snapshots.Service
	runs        *runs.Service
}

// New returns the service for whoever is at the desk, over those of deployments, snapshots and runs.
func New(desk *acting.Desk, s Store, log *slog.Logger, of *deployments.Service, kept *snapshots.Service, r *runs.Service) *Service {
	return &Service{desk: desk, store: s, log: log, deployments: of, snapshots: kept, runs: r}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// Kept is a promise with how it was kept.
type Kept struct {
	promise.Promise
	Name  string        `json:"deployment_name"`
	Words string        `json:"words"`
	Proof promise.Proof `json:"proof"`
	// Next is when something is due for it next, and Does what; zero if nothing is any more.
	Next time.Time `json:"next,omitzero"`
	Does string    `json:"does,omitempty"`
}

// mostShown is how many times are looked at of each promise.
const mostShown = 60

// Promises are all that is promised of what the actor may see, with how it was kept.
func (svc *Service) Promises(ctx context.Context, now time.Time) ([]Kept, error) {
	all, err := svc.store.Promises(ctx)
	if err != nil {
		return nil, err
	}
	all, err = acting.Seen(ctx, svc.desk, all, func(p promise.Promise) guard.Thing { return guard.Thing{Deployment: p.Deployment} })
	if err != nil {
		return nil, err
	}
	dues, err := svc.store.Dues(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Kept, 0, len(all))
	for _, p := range all {
		k, err := svc.kept(ctx, p, dues, now)
		if fault.CodeOf(err) == fault.NotFound { // it was given up before it began
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, *k)
	}
	return out, nil
}

// PromisesOf are those of one deployment.
func (svc *Service) PromisesOf(ctx context.Context, deployment int64, now time.Time) ([]Kept, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, err
	}
	all, err := svc.At(svc.desk.Inside()).Promises(ctx, now)
	return slices.DeleteFunc(all, func(k Kept) bool { return k.Deployment != deployment }), err
}

func (svc *Service) kept(ctx context.Context, p promise.Promise, dues []clock.Due, now time.Time) (*Kept, error) {
	d, err := svc.store.Deployment(ctx, p.Deployment)
	if err != nil {
		return nil, err
	}
	fired, err := svc.store.PromiseFirings(ctx, p.Deployment, p.Kind, mostShown)
	if err != nil {
		return nil, err
	}
	out := &Kept{Promise: p, Name: d.Name, Words: p.Words(), Proof: promise.ProofOf(firings(fired, &p))}
	kinds := promise.DueKindsOf(p.Kind)
	for i := range dues {
		due := &dues[i]
		if id, err := promise.DeploymentOf(due.Subject); err != nil || id != p.Deployment || !slices.Contains(kinds, due.Kind) {
			continue
		}
		next, err := due.Next(now)
		if err != nil {
			return nil, err
		}
		if !next.IsZero() && (out.Next.IsZero() || next.Before(out.Next)) {
			out.Next, out.Does = next, due.Kind
		}
	}
	return out, nil
}

// firings are what the store has of them, as proofs read them. What failed is broken as long as it is not done, though it is tried again.
func firings(all []store.Firing, p *promise.Promise) []promise.Firing {
	out := make([]promise.Firing, len(all))
	for i, f := range all {
		out[i] = promise.Firing{At: f.At, Began: f.Began, Ended: f.Ended, Done: f.State == store.FiringDone, Missed: f.Missed, Note: f.Note,
			Failed: f.State == store.FiringMissed || f.State == store.FiringFailed}
		if f.Kind == promise.DueOn && p.Hours != nil { // what is promised is that it serves then
			out[i].Until = f.At.Add(p.Hours.Lead)
		}
	}
	return out
}

// thing is a deployment as what a promise is of.
func (svc *Service) thing(ctx context.Context, deployment int64) (guard.Thing, error) {
	d, err := svc.store.Deployment(ctx, deployment)
	return guard.Thing{Name: d.Name, Deployment: deployment}, err
}

// SetPromise has something be promised of a deployment from now on, in the place of what was promised of its kind.
func (svc *Service) SetPromise(ctx context.Context, p promise.Promise, now time.Time) (out promise.Promise, err error) {
	on, err := svc.thing(ctx, p.Deployment)
	if err != nil {
		return p, err
	}
	if err := svc.desk.Allow(ctx, guard.SetPromise, on); err != nil { // before anything is worked out of it
		return promise.Promise{}, err
	}
	p.By, p.Since = svc.desk.Actor, now.UTC()
	if err := svc.lead(ctx, &p); err != nil {
		return p, err
	}
	if err := p.Check(now); err != nil {
		return p, fault.Default(fault.Invalid, err)
	}
	return p, svc.desk.Do(ctx, guard.SetPromise, on, func() error { return svc.store.SetPromise(ctx, p, nil) }, acting.Saying("%s", p.Words()))
}

// leadShare is how much longer than expected starting may take, and leadLeast how long it is given at least: what is promised is that it serves then.
const (
	leadShare = 1.5
	leadLeast = time.Minute
)

// lead works out of off hours how long before their end machines are switched on: by what starting them took so far.
func (svc *Service) lead(ctx context.Context, p *promise.Promise) error {
	if p.Hours == nil {
		return nil
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, p.Deployment)
	if err != nil {
		return err
	}
	expected, err := svc.starting(ctx, d, wanted)
	p.Hours.Lead = max(time.Duration(float64(expected)*leadShare).Round(time.Second), leadLeast)
	return err
}

// starting is how long starting all of a deployment is expected to take.
func (svc *Service) starting(ctx context.Context, d *deployments.Deployment, wanted *plan.Plan) (time.Duration, error) {
	p, err := deployments.Rising(d, wanted)
	if err != nil {
		return 0, err
	}
	return time.Duration(p.Seconds * float64(time.Second)), svc.deployments.Timed(ctx, p)
}

// DropPromise has nothing be promised of a kind of a deployment any more.
func (svc *Service) DropPromise(ctx context.Context, deployment int64, kind promise.Kind) error {
	on, err := svc.thing(ctx, deployment)
	if err != nil {
		return err
	}
	return svc.desk.Do(ctx, guard.DropPromise, on, func() error { return svc.store.DropPromise(ctx, deployment, kind) }, acting.Saying("%s", kind))
}

// promised is what is promised of a kind of a deployment.
func (svc *Service) promised(ctx context.Context, deployment int64, kind promise.Kind) (promise.Promise, error) {
	all, err := svc.store.Promises(ctx)
	if err != nil {
		return promise.Promise{}, err
	}
	i := slices.IndexFunc(all, func(p promise.Promise) bool { return p.Deployment == deployment && p.Kind == kind })
	if i < 0 {
		return promise.Promise{}, fault.NotFoundf("deployment %d has no promise of the kind %s", deployment, kind)
	}
	return all[i], nil
}

// ExtendLease lets a lease end later, within what it says, by whoever it is of.
func (svc *Service) ExtendLease(ctx context.Context, deployment int64, now time.Time) (out promise.Promise, err error) {
	on, err := svc.thing(ctx, deployment)
	if err != nil {
		return out, err
	}
	if err := svc.desk.Allow(ctx, guard.ExtendLease, on); err != nil {
		return out, err
	}
	was, err := svc.promised(ctx, deployment, promise.Lease)
	if err != nil {
		return out, err
	}
	out = was
	terms := *was.Lease
	out.Lease, out.Since = &terms, now.UTC()
	if err := terms.Extend(now.UTC()); err != nil {
		return out, fault.Default(fault.Refused, err)
	}
	return out, svc.desk.Do(ctx, guard.ExtendLease, on, func() error { return svc.store.SetPromise(ctx, out, &was) }, acting.Saying("to %s", out.Lease.Until.Format(time.RFC3339)))
}

// runWait bounds how long a run is waited for that was due, and looksAgain is how often it is looked at.
const (
	runWait    = 2 * time.Hour
	looksAgain = 250 * time.Millisecond
)

// done begins the run of an order and waits for its end: that is the proof.
func (svc *Service) done(ctx context.Context, o deployments.Order) (string, error) {
	id, err := svc.runs.Begin(ctx, o)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, runWait)
	defer cancel()
	for {
		r, err := svc.store.Run(ctx, id)
		switch state := deployments.EndOf(r); {
		case err != nil:
			return "", err
		case state == run.Standing || state == run.Retired:
			return fmt.Sprintf("run %d", id), nil
		case state == run.Failed || state == run.Stopped:
			return "", fault.Refusedf("run %d %s", id, state)
		}
		select {
		case <-ctx.Done():
			return "", fmt.Errorf("run %d goes on still: %w", id, ctx.Err())
		case <-time.After(looksAgain):
		}
	}
}

// over reports that nothing stands of a deployment any more: what was promised of it is dropped then.
func (svc *Service) over(ctx context.Context, deployment int64) (bool, error) {
	d, err := svc.deployments.Deployment(ctx, deployment)
	if err != nil || d.State() != run.Retired {
		return false, err
	}
	for _, kind := range promise.Kinds {
		if err := svc.store.DropPromise(ctx, deployment, kind); err != nil && fault.CodeOf(err) != fault.NotFound {
			return true, err
		}
	}
	return true, nil
}

const nothingStands = "nothing stands of it any more, so nothing is promised"

// Due does what is due for a promise, and says in a few words what came of it.
func (svc *Service) Due(ctx context.Context, kind string, deployment int64, now time.Time) (string, error) {
	gone, err := svc.over(ctx, deployment)
	if err != nil || gone {
		return nothingStands, err
	}
	switch kind {
	case promise.DueSave:
		return svc.save(ctx, deployment, now)
	case promise.DueOff, promise.DueOn:
		return svc.hours(ctx, deployment, kind == promise.DueOn, now)
	case promise.DueNotice:
		p, err := svc.promised(ctx, deployment, promise.Lease)
		if err != nil {
			return "", err
		}
		return "it ends " + p.Lease.Until.Format(time.RFC3339), nil
	case promise.DueEnd:
		p, err := svc.promised(ctx, deployment, promise.Lease)
		if err != nil || p.Lease.Gone(now) {
			return "its grace is over too: it is taken away", err
		}
		return svc.power(ctx, deployment, false)
	case promise.DueGone:
		o, err := svc.deployments.Retiring(ctx, deployment)
		if err != nil {
			return "", err
		}
		note, err := svc.done(ctx, o)
		if err == nil {
			_, err = svc.over(ctx, deployment)
		}
		return note, err
	}
	return "", fault.Invalidf("%q is nothing that is due for a promise", kind)
}

// hours switches all of a deployment off or on, as it is to be now: where both were due while nobody looked, the later one counts. What has ended is
// not switched on.
func (svc *Service) hours(ctx context.Context, deployment int64, on bool, now time.Time) (string, error) {
	p, err := svc.promised(ctx, deployment, promise.Hours)
	if err != nil {
		return "", err
	}
	off, err := p.Hours.IsOff(now)
	switch {
	case err != nil:
		return "", err
	case off == on:
		return map[bool]string{true: "it is off again by now", false: "it is on again by now"}[on], nil
	}
	if lease, err := svc.promised(ctx, deployment, promise.Lease); on && err == nil && lease.Lease.Over(now) {
		return "its lease is over", nil
	}
	note, err := svc.power(ctx, deployment, on)
	if err != nil || !on {
		return note, err
	}
	return note, svc.learn(ctx, deployment)
}

// power switches all of a deployment off or on. What is so already is kept so.
func (svc *Service) power(ctx context.Context, deployment int64, on bool) (string, error) {
	o, err := svc.deployments.Powering(ctx, deployment, "", on)
	if err != nil {
		return "", err
	}
	if len(o.Plan.Steps) == 0 {
		return "it was so already", nil
	}
	return svc.done(ctx, o)
}

// learn has the next start begin as early as the last ones say.
func (svc *Service) learn(ctx context.Context, deployment int64) error {
	was, err := svc.promised(ctx, deployment, promise.Hours)
	if err != nil {
		return nil // it is no more
	}
	now := was
	terms := *was.Hours
	now.Hours = &terms
	if err := svc.lead(ctx, &now); err != nil || terms.Lead == was.Hours.Lead {
		return err
	}
	now.Since = time.Now().UTC()
	if err := svc.store.SetPromise(ctx, now, &was); err != nil {
		svc.log.Warn("how long starting takes was not learned", "deployment", deployment, "err", err)
	}
	return nil
}

// save takes a snapshot and drops the oldest of those taken by rule that are too many.
func (svc *Service) save(ctx context.Context, deployment int64, now time.Time) (string, error) {
	p, err := svc.promised(ctx, deployment, promise.Saved)
	if err != nil {
		return "", err
	}
	if taken, err := svc.taken(ctx, &p, now); err != nil || taken != "" {
		if err != nil {
			return "", err
		}
		return svc.thin(ctx, deployment, p.Saved.Keep, taken+" was taken before")
	}
	o, err := svc.snapshots.Taking(ctx, deployment, snapshots.TakeRequest{Prefix: snapshots.RulePrefix, Of: p.Saved.Of, Barrier: p.Saved.Barrier}, now)
	if err != nil {
		return "", err
	}
	note, err := svc.done(ctx, o)
	if err != nil {
		return note, err
	}
	return svc.thin(ctx, deployment, p.Saved.Keep, note)
}

// taken is the set that was taken by rule since the promise was due last; "" if none was: who waited for it may have ended while it was taken.
func (svc *Service) taken(ctx context.Context, p *promise.Promise, now time.Time) (string, error) {
	due, err := p.Saved.Last(now)
	if err != nil || due.IsZero() {
		return "", err
	}
	sets, err := svc.snapshots.Snapshots(ctx, p.Deployment)
	for i := range sets {
		if s := &sets[i]; s.Whole && s.ByRule() && !s.Taken.Before(due) && !s.Taken.After(now) {
			return s.Name, err
		}
	}
	return "", err
}

// thin drops the oldest snapshots that were taken by rule, until so many are left.
func (svc *Service) thin(ctx context.Context, deployment int64, keep int, note string) (string, error) {
	sets, err := svc.snapshots.Snapshots(ctx, deployment)
	if err != nil {
		return note, err
	}
	sets = slices.DeleteFunc(sets, func(s snapshots.Set) bool { return !s.Whole || !s.ByRule() })
	for dropped := 0; len(sets)-dropped > keep; dropped++ {
		o, err := svc.snapshots.DroppingSnapshot(ctx, deployment, sets[dropped].Name)
		if err != nil {
			return note, err
		}
		last, err := svc.done(ctx, o)
		if err != nil {
			return note, err
		}
		note = fmt.Sprintf("%s, and %s dropped %s", cmp.Or(note, "kept"), last, sets[dropped].Name)
	}
	return note, nil
}

// Promise has something be promised of a deployment in somebody's name, who let that be done before.
func (svc *Service) Promise(ctx context.Context, by guard.Actor, p promise.Promise, now time.Time) error {
	_, err := svc.At(svc.desk.OnBehalf(guard.Actor{Name: by.Name, Way: guard.Rule})).SetPromise(ctx, p, now)
	return err
}

// LeaseOf is the lease of a deployment; nil if it has none.
func (svc *Service) LeaseOf(ctx context.Context, deployment int64) (*promise.LeaseTerms, error) {
	p, err := svc.promised(ctx, deployment, promise.Lease)
	if fault.CodeOf(err) == fault.NotFound {
		return nil, nil
	}
	return p.Lease, err
}
