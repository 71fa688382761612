// Package sites is the service of connected sites: what they offer, their connections and credentials, pairs of them, where names are
// published, and stand-ins.
package sites

import (
	"context"
	"log/slog"

	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service keeps.
type Store interface {
	// Reservations are the addresses and VLANs that runs have.
	Reservations(ctx context.Context) ([]store.Reservation, error)
	store.AddressesStore
	// ForgetSite drops what was observed at a site.
	ForgetSite(ctx context.Context, site string) error
	Runs(ctx context.Context) ([]store.Run, error)
	SetPair(ctx context.Context, a, b string, body []byte) error
	Pairs(ctx context.Context) ([][]byte, error)
	Pair(ctx context.Context, a, b string) ([]byte, error)
}

// Standing says whether anything stands at a site, which is not removed then.
type Standing interface {
	NothingAt(ctx context.Context, site string) error
}

// Moving says whether a move goes on between two sites, which stay a pair then.
type Moving interface {
	NoneBetween(ctx context.Context, x, y string) error
}

// Service is the service of sites for one actor.
type Service struct {
	desk      *acting.Desk
	workspace *workspace.Workspace
	store     Store
	log       *slog.Logger
	standing  Standing
	moving    Moving
}

// New returns the service for whoever is at the desk.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger) *Service {
	return &Service{desk: desk, workspace: ws, store: s, log: log}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// inside is the same service as others ask it: who asks was asked before what they may look at.
func (svc *Service) inside() *Service { return svc.At(svc.desk.Inside()) }

// Ask sets whom the service asks before it removes a site or parts a pair.
func (svc *Service) Ask(standing Standing, moving Moving) {
	svc.standing, svc.moving = standing, moving
}
