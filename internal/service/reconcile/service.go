// Package reconcile is the service of the inventory: surveys of sites, what is recorded, how the two differ from each other and from what
// is declared, and settling that.
package reconcile

import (
	"context"
	"log/slog"

	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/service/shells"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service keeps.
type Store interface {
	store.SurveysStore
	store.RecordsStore
	KeepPrices(ctx context.Context, l store.PriceList) error
	Deployments(ctx context.Context) ([]store.Deployment, error)
	CreateDeployment(ctx context.Context, name, template string, of guard.Owner) (int64, error)
	SavePlan(ctx context.Context, p *plan.Plan) (int64, error)
	Run(ctx context.Context, id int64) (store.Run, error)
	Runs(ctx context.Context) ([]store.Run, error)
	Forget(ctx context.Context, id int64) error
	Void(ctx context.Context, id int64) error
}

// Moving says whether a deployment may be changed: no run of it goes on, and no move is open but one.
type Moving interface {
	SettledBut(ctx context.Context, deployment, move int64) error
}

// Over are the services that this one uses.
type Over struct {
	Sites       *sites.Service
	Deployments *deployments.Service
	Runs        *runs.Service
	Moves       Moving
	Shells      *shells.Service
}

// Service is the service of the inventory for one actor.
type Service struct {
	desk        *acting.Desk
	workspace   *workspace.Workspace
	store       Store
	log         *slog.Logger
	sites       *sites.Service
	deployments *deployments.Service
	runs        *runs.Service
	moving      Moving
	shells      *shells.Service
}

// New returns the service for whoever is at the desk.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger, over Over) *Service {
	return &Service{desk, ws, s, log, over.Sites, over.Deployments, over.Runs, over.Moves, over.Shells}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// inside is the same service as others ask it: who asks was asked before what they may look at.
func (svc *Service) inside() *Service { return svc.At(svc.desk.Inside()) }
