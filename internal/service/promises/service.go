// Package promises is the service of what is kept up for deployments over time: that they are saved and can be restored, that they are off at hours, that they end; and of
// service levels, which are promises under a name. It sets
// and extends promises, does what is due for them when the clock says so, and shows how they were kept.
package promises

import (
	"cmp"
	"context"
	"log/slog"
	"slices"
	"time"

	"andamio/internal/core/clock"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/replicas"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/service/snapshots"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is where the service keeps promises.
type Store interface {
	store.PromisesStore
	Dues(ctx context.Context) ([]clock.Due, error)
	Deployment(ctx context.Context, id int64) (store.Deployment, error)
	Deployments(ctx context.Context) ([]store.Deployment, error)
	Run(ctx context.Context, id int64) (store.Run, error)
}

// Service is the service of promises.
type Service struct {
	desk        *acting.Desk
	workspace   *workspace.Workspace
	store       Store
	log         *slog.Logger
	sites       *sites.Service
	deployments *deployments.Service
	snapshots   *snapshots.Service
	replicas    *replicas.Service
	runs        *runs.Service
}

// New returns the service for whoever is at the desk, over those of sites, deployments, snapshots, replicas and runs.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger, at *sites.Service, of *deployments.Service, kept *snapshots.Service, copies *replicas.Service, r *runs.Service) *Service {
	return &Service{desk: desk, workspace: ws, store: s, log: log, sites: at, deployments: of, snapshots: kept, replicas: copies, runs: r}
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
	// As is the moment of which the copies are that are kept at another site; Stale says that this is longer ago than may be lost.
	As    time.Time `json:"as,omitzero"`
	Stale bool      `json:"stale,omitempty"`
}

// Unproven says of a promise that was never kept whether that means anything: a copy is unproven as long as it was never raised, and what was never due
// is no less for that.
func (k *Kept) Unproven() string {
	if k.Kind.Conditional() {
		return "in force"
	}
	if k.Kind == promise.Drilled || len(k.Proof.Marks) > 0 {
		return "unproven"
	}
	return "not due yet"
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
	slices.SortStableFunc(out, func(a, b Kept) int {
		return cmp.Or(cmp.Compare(a.Deployment, b.Deployment), slices.Index(promise.Kinds, a.Kind)-slices.Index(promise.Kinds, b.Kind))
	})
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
	if p.Replicated != nil {
		if err := svc.aged(ctx, out, now); err != nil {
			return nil, err
		}
	}
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
			Failed: f.State == store.FiringMissed || f.State == store.FiringFailed, Held: f.State == store.FiringHeld}
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
	if err := svc.alone(ctx, p.Deployment, p.Kind); err != nil {
		return p, err
	}
	p.Level = ""
	if err := svc.lead(ctx, &p); err != nil {
		return p, err
	}
	if err := p.Check(now); err != nil {
		return p, fault.Default(fault.Invalid, err)
	}
	if err := svc.canBeKept(ctx, &p); err != nil {
		return p, err
	}
	return p, svc.desk.Do(ctx, guard.SetPromise, on, func() error { return svc.store.SetPromise(ctx, p, nil) }, acting.Saying("%s", p.Words()))
}

// canBeKept refuses what sites cannot keep, whatever happens there. What is not known now, as of a site that does not answer, is no reason to refuse.
func (svc *Service) canBeKept(ctx context.Context, p *promise.Promise) error {
	if p.Saved == nil && p.Replicated == nil {
		return nil
	}
	d, err := svc.deployments.Deployment(ctx, p.Deployment)
	if err != nil {
		return err
	}
	if p.Saved != nil {
		_, err = svc.snapshots.KeepingCosts(ctx, d, 1)
	} else {
		_, err = svc.replicas.Costs(ctx, d, p.Replicated.Site)
	}
	if fault.CodeOf(err) == fault.Refused {
		return err
	}
	return nil
}

// DropPromise has nothing be promised of a kind of a deployment any more.
func (svc *Service) DropPromise(ctx context.Context, deployment int64, kind promise.Kind) error {
	on, err := svc.thing(ctx, deployment)
	if err != nil {
		return err
	}
	if err := svc.desk.Allow(ctx, guard.DropPromise, on); err != nil {
		return err
	}
	if err := svc.alone(ctx, deployment, kind); err != nil {
		return err
	}
	return svc.desk.Do(ctx, guard.DropPromise, on, func() error { return svc.store.DropPromise(ctx, deployment, kind, nil) }, acting.Saying("%s", kind))
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
