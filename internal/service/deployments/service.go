// Package deployments is the service of what stands: deployments by the journals of their runs, how they are drawn and asked, and the orders
// that change them.
package deployments

import (
	"context"
	"sync"

	"andamio/internal/core/history"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service reads, and where it keeps the files of templates.
type Store interface {
	Runs(ctx context.Context) ([]store.Run, error)
	Deployment(ctx context.Context, id int64) (store.Deployment, error)
	Deployments(ctx context.Context) ([]store.Deployment, error)
	Run(ctx context.Context, id int64) (store.Run, error)
	RunsOf(ctx context.Context, deployment int64) ([]store.Run, error)
	Plan(ctx context.Context, id int64) (*plan.Plan, error)
	Events(ctx context.Context, runID, after int64, limit int) ([]run.Event, error)
	Durations(ctx context.Context, runs int) ([]history.Sample, error)
	KeepSource(ctx context.Context, digest string, files store.Source) error
	Source(ctx context.Context, digest string) (*store.Source, error)
}

// Moving says whether a move holds a deployment or a run.
type Moving interface {
	// SettledBut checks that no run of a deployment goes on, and no other move of it than one is open.
	SettledBut(ctx context.Context, deployment, move int64) error
	// NoMove checks that a run belongs to no move.
	NoMove(ctx context.Context, r store.Run) error
}

// Cache is what was worked out and holds for every actor.
type Cache struct {
	folds   folds
	replays replays
	// drawn are the templates that were worked out, by the digest of their files.
	drawn sync.Map
}

// Service is the service of deployments.
type Service struct {
	desk      *acting.Desk
	workspace *workspace.Workspace
	store     Store
	cache     *Cache
	sites     *sites.Service
	moving    Moving
}

// New returns the service for whoever is at the desk, over that of the sites.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, cache *Cache, at *sites.Service) *Service {
	return &Service{desk: desk, workspace: ws, store: s, cache: cache, sites: at}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// inside is the same service as others ask it: who asks was asked before what they may look at.
func (svc *Service) inside() *Service { return svc.At(svc.desk.Inside()) }

// Ask sets whom the service asks before it changes a deployment.
func (svc *Service) Ask(moving Moving) { svc.moving = moving }
