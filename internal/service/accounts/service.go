// Package accounts is the service of what things cost whom: the books of what stood, written from the journals of runs, the prices that
// sites asked, and the accounts and exports that are made of them.
package accounts

import (
	"context"
	"sync"

	"andamio/internal/core/change"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service keeps, and reads.
type Store interface {
	store.LedgerStore
	Deployments(ctx context.Context) ([]store.Deployment, error)
	Runs(ctx context.Context) ([]store.Run, error)
	RunsOf(ctx context.Context, deployment int64) ([]store.Run, error)
	Plan(ctx context.Context, id int64) (*plan.Plan, error)
	Events(ctx context.Context, runID, after int64, limit int) ([]run.Event, error)
	Requests(ctx context.Context) ([]store.Request, error)
}

// Folding says what runs left standing, one after another.
type Folding interface {
	Fold(ctx context.Context, runs []store.Run) (change.Standing, error)
}

// Service is the service of accounts for one actor.
type Service struct {
	desk        *acting.Desk
	workspace   *workspace.Workspace
	store       Store
	deployments Folding
	cache       *Cache
}

// Cache has the books as they were read last: they are read once for all actors.
type Cache struct {
	mu    sync.Mutex
	books map[int64]kept
}

// hidden are the deployments whose price was not shown when they were asked for.
func (svc *Service) hidden(ctx context.Context) (map[int64]bool, error) {
	all, err := svc.store.Requests(ctx)
	out := map[int64]bool{}
	for i := range all {
		if r := &all[i]; r.Hidden && r.Deployment != 0 {
			out[r.Deployment] = true
		}
	}
	return out, err
}

// New returns the service for whoever is at the desk.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, cache *Cache, of Folding) *Service {
	return &Service{desk: desk, workspace: ws, store: s, deployments: of, cache: cache}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// may says whether the actor may see what something costs: whoever may read it or its account, and whose it is, unless its price was not shown
// when it was asked for.
func (svc *Service) may() (func(on guard.Thing, hidden bool) bool, error) {
	d, err := svc.workspace.Directory()
	if err != nil {
		return nil, err
	}
	me := svc.desk.Actor.Name
	if d == nil || d.Unbounded(me, guard.Account) || d.Unbounded(me, guard.Read) {
		return func(guard.Thing, bool) bool { return true }, nil
	}
	mine := map[string]bool{}
	for _, t := range d.TeamsOf(me) {
		mine[t] = true
	}
	return func(on guard.Thing, hidden bool) bool {
		return !hidden && (me != "" && on.Person == me || mine[on.Team]) || d.May(me, guard.Account, on).Yes || d.May(me, guard.Read, on).Yes
	}, nil
}
