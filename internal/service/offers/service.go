// Package offers is the service of what may be asked for: offers of templates, checked before anybody sees them, and what an answer to
// their questions would be: where, of what size, at what price, or why it cannot be.
package offers

import (
	"context"
	"sync"

	"andamio/internal/core/guard"
	"andamio/internal/core/level"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/store"
)

// Store is what the service keeps.
type Store interface {
	store.OffersStore
	KeepSource(ctx context.Context, digest string, files store.Source) error
	Source(ctx context.Context, digest string) (*store.Source, error)
}

// Cache has the templates of offers, by the digest of their files: they are read once for all actors.
type Cache struct {
	mu   sync.Mutex
	read map[string]*templates.Template
}

// keep has a template that nothing was published of yet.
func (c *Cache) keep(t *templates.Template) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.read == nil {
		c.read = map[string]*templates.Template{}
	}
	c.read[t.Digest()] = t
}

// Service is the service of offers for one actor.
type Service struct {
	desk        *acting.Desk
	store       Store
	cache       *Cache
	sites       *sites.Service
	deployments *deployments.Service
	directory   func() (*guard.Directory, error)
	levels      func() (*level.File, error)
}

// Files are those of an administrator that offers speak of.
type Files struct {
	Directory func() (*guard.Directory, error)
	Levels    func() (*level.File, error)
}

// New returns the service for whoever is at the desk, over those of sites and deployments.
func New(desk *acting.Desk, s Store, cache *Cache, files Files, at *sites.Service, of *deployments.Service) *Service {
	return &Service{desk: desk, store: s, cache: cache, directory: files.Directory, levels: files.Levels, sites: at, deployments: of}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// inside is the same service as others ask it: who asks was asked before what they may look at.
func (svc *Service) inside() *Service { return svc.At(svc.desk.Inside()) }
