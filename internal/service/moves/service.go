// Package moves is the service of moves: drafting them in waves, beginning, steering and ending them, and carrying workloads as packages.
package moves

import (
	"context"
	"time"

	"andamio/internal/core/clock"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service keeps, and what it does to runs of a move.
type Store interface {
	CreateMove(ctx context.Context, deployment int64, who string, body []byte, now time.Time) (int64, error)
	KeepMove(ctx context.Context, id int64, body []byte) error
	AddMoveRun(ctx context.Context, move int64, r store.MoveRun) error
	Moves(ctx context.Context) ([]store.Move, error)
	Move(ctx context.Context, id int64) (store.Move, error)
	Plan(ctx context.Context, id int64) (*plan.Plan, error)
	Run(ctx context.Context, id int64) (store.Run, error)
	Decide(ctx context.Context, runID int64, d store.Decision) error
	Finish(ctx context.Context, id, epoch int64, state run.Status) error
	Forget(ctx context.Context, id int64) error
	Void(ctx context.Context, id int64) error
	Register(ctx context.Context, d clock.Due) (int64, error)
	Unregister(ctx context.Context, kind, subject string) error
}

// Service is the service of moves for one actor.
type Service struct {
	desk        *acting.Desk
	workspace   *workspace.Workspace
	store       Store
	sites       *sites.Service
	deployments *deployments.Service
	runs        *runs.Service
}

// New returns the service for whoever is at the desk, over those of sites, deployments and runs.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, at *sites.Service, of *deployments.Service, by *runs.Service) *Service {
	return &Service{desk: desk, workspace: ws, store: s, sites: at, deployments: of, runs: by}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// inside is the same service as others ask it: who asks was asked before what they may look at.
func (svc *Service) inside() *Service { return svc.At(svc.desk.Inside()) }
