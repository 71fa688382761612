// Package requests is the service of what is asked for: requests of offers from the question to what serves, each stage with its time and who
// or which rule decided it.
package requests

import (
	"context"
	"log/slog"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/offers"
	"andamio/internal/service/quotas"
	"andamio/internal/service/runs"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service keeps.
type Store interface {
	store.RequestsStore
	Holds(ctx context.Context) ([]store.Hold, error)
	HoldOf(ctx context.Context, request, deployment int64) (*store.Hold, error)
	RunsOf(ctx context.Context, deployment int64) ([]store.Run, error)
	Run(ctx context.Context, id int64) (store.Run, error)
}

// Over are the services that this one uses.
type Over struct {
	Offers      *offers.Service
	Quotas      *quotas.Service
	Deployments *deployments.Service
	Runs        *runs.Service
	Spending    Spending
}

// Service is the service of requests for one actor.
type Service struct {
	desk        *acting.Desk
	workspace   *workspace.Workspace
	store       Store
	log         *slog.Logger
	offers      *offers.Service
	quotas      *quotas.Service
	deployments *deployments.Service
	runs        *runs.Service
	spending    Spending
	promising   Promising
}

// Promising keeps up what is promised of what is built, in somebody's name, and says what is promised.
type Promising interface {
	Promise(ctx context.Context, by guard.Actor, p promise.Promise, now time.Time) error
	PromiseLevel(ctx context.Context, by guard.Actor, deployment int64, level string, now time.Time) error
	LeaseOf(ctx context.Context, deployment int64) (*promise.LeaseTerms, error)
	LevelOf(ctx context.Context, deployment int64) (string, error)
}

// Ask sets who keeps up what is promised.
func (svc *Service) Ask(promising Promising) { svc.promising = promising }

// New returns the service for whoever is at the desk.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger, over Over) *Service {
	return &Service{desk: desk, workspace: ws, store: s, log: log, offers: over.Offers, quotas: over.Quotas, deployments: over.Deployments, runs: over.Runs, spending: over.Spending}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// me is who asks.
func (svc *Service) me() string { return svc.desk.Actor.Name }

// thing is a request as what something is done to.
func thing(r *store.Request) guard.Thing {
	return guard.Thing{Name: title(r), Team: r.Owner.Team, Person: r.Person, Service: r.Owner.Service, Stage: r.Owner.Stage, Tags: r.Owner.Tags, Sites: r.Sites}
}
