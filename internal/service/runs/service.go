// Package runs is the service of runs: proposals and their confirmation, making runs, working on them, watching them, and deciding what
// becomes of steps that failed.
package runs

import (
	"context"
	"log/slog"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/clock"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
	"andamio/internal/core/trail"
	"andamio/internal/core/window"
	"andamio/internal/engine"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service keeps.
type Store interface {
	store.RunsStore
	store.ProposalsStore
	SavePlan(ctx context.Context, p *plan.Plan) (int64, error)
	Plan(ctx context.Context, id int64) (*plan.Plan, error)
	PlanDigest(ctx context.Context, id int64) (string, error)
	CreateDeployment(ctx context.Context, name, template string, of guard.Owner) (int64, error)
	Deployment(ctx context.Context, id int64) (store.Deployment, error)
	Deployments(ctx context.Context) ([]store.Deployment, error)
	Reserve(ctx context.Context, runID int64, all []store.Reservation) error
	Keep(ctx context.Context, deployment int64, keep []store.Reservation) error
	Release(ctx context.Context, runID int64) (int64, error)
	Learn(ctx context.Context, runID int64, all []store.Took) error
	TrailOfRun(ctx context.Context, id int64) ([]trail.Entry, error)
	Changed(of store.Topic) <-chan struct{}
	Register(ctx context.Context, d clock.Due) (int64, error)
	Unregister(ctx context.Context, kind, subject string) error
}

// Moving says whether a move holds a deployment.
type Moving interface {
	SettledBut(ctx context.Context, deployment, move int64) error
}

// Quotas are asked before something is built, and told what stands.
type Quotas interface {
	// Before takes what a change of a deployment may need while it goes on.
	Before(ctx context.Context, deployment int64, wanted *plan.Plan, now time.Time) error
	// Built says that what was held for a request is of a deployment now.
	Built(ctx context.Context, request, deployment int64, now time.Time) error
	// After has a deployment take what stands of it, and nothing more.
	After(ctx context.Context, deployment int64, stand change.Standing, now time.Time) error
}

// Hooks are asked before a run begins.
type Hooks interface {
	// MayBegin asks whoever is to be asked; the error says who says no, or does not answer.
	MayBegin(ctx context.Context, r store.Run) error
}

// Promises are told what a plan has be promised.
type Promises interface {
	KeepPromised(ctx context.Context, deployment int64, p *plan.Promised, by guard.Actor, now time.Time) error
	// Guards says what is promised of a deployment that holds what takes service away from it by itself; nil is nothing. What has a time of its own was said before.
	Guards(ctx context.Context, deployment int64, timed bool, now time.Time) (*window.Held, error)
}

// Workers are how runs get somebody who works on them.
type Workers struct {
	// Spawn begins the worker of a run; nil is a process of its own.
	Spawn func(runID int64) error
	// None says that Spawn does nothing: somebody else sees to it.
	None bool
}

// Service is the service of runs for one actor.
type Service struct {
	// Patience is the engine's; zero is the usual.
	Patience engine.Patience

	desk        *acting.Desk
	workspace   *workspace.Workspace
	store       Store
	log         *slog.Logger
	workers     Workers
	sites       *sites.Service
	deployments *deployments.Service
	moving      Moving
	quotas      Quotas
	hooks       Hooks
	promises    Promises
	begin       map[store.ProposalKind]Begin
	// tails are of the runs that are watched, whoever watches them.
	tails *Tails
}

// New returns the service for whoever is at the desk, over those of sites and deployments.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger, w Workers, at *sites.Service, of *deployments.Service, t *Tails) *Service {
	return &Service{tails: t, desk: desk, workspace: ws, store: s, log: log, workers: w, sites: at, deployments: of, begin: map[store.ProposalKind]Begin{}}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// inside is the same service as others ask it: who asks was asked before what they may look at.
func (svc *Service) inside() *Service { return svc.At(svc.desk.Inside()) }

// Ask sets whom the service asks before a run is made, and before it begins.
func (svc *Service) Ask(moving Moving, quotas Quotas, hooks Hooks, promises Promises) {
	svc.moving, svc.quotas, svc.hooks, svc.promises = moving, quotas, hooks, promises
}
