// Package quotas is the service of quotas and budgets: what is taken of them when something is decided, what is used once it stands, and what
// is free.
package quotas

import (
	"context"
	"time"

	"andamio/internal/core/money"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service keeps.
type Store interface {
	store.QuotasStore
	Deployment(ctx context.Context, id int64) (store.Deployment, error)
}

// Spending says what a deployment has cost within a time, by site.
type Spending interface {
	CostOf(ctx context.Context, deployment int64, from, to time.Time) (map[string]money.Amount, error)
}

// Service is the service of quotas for one actor.
type Service struct {
	desk      *acting.Desk
	workspace *workspace.Workspace
	store     Store
	spending  Spending
}

// New returns the service for whoever is at the desk.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, spending Spending) *Service {
	return &Service{desk: desk, workspace: ws, store: s, spending: spending}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// around are a team and those that it is within; the team alone where there is no directory.
func (svc *Service) around(team string) ([]string, error) {
	d, err := svc.workspace.Directory()
	switch {
	case err != nil || team == "":
		return nil, err
	case d == nil:
		return []string{team}, nil
	}
	return d.Around(team), nil
}
