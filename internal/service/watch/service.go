// Package watch is the service of what is measured and what is wrong. It asks all sites, machines and endpoints again and again, keeps what they say as measures,
// holds it against thresholds, and has one alert for each cause. Nobody chooses what is watched: whatever is connected or deployed is.
package watch

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/clock"
	"andamio/internal/core/inventory"
	"andamio/internal/core/measure"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
	"andamio/internal/store"
)

// Store is what the service reads, and where it keeps alerts.
type Store interface {
	store.AlertsStore
	Runs(ctx context.Context) ([]store.Run, error)
	Records(ctx context.Context) (inventory.Records, error)
	InventoryStamp(ctx context.Context) (string, error)
	Dues(ctx context.Context) ([]clock.Due, error)
}

// Every is how often everything is measured.
const Every = 15 * time.Second

// Memory is what whoever watches knows from one time to the next. Others need none of it: they read what is kept.
type Memory struct {
	// round is held while everything is measured.
	round sync.Mutex
	mu    sync.Mutex
	// measures are where measures are kept, opened by who needs them first.
	measures store.MeasuresStore
	head     *measure.Head
	// ids are the numbers of things, with what was kept of them last.
	ids   map[string]kept
	panel alarm.Panel
	book  *alarm.Book
	// known is what there is to be asked, as it was when stamp was read.
	known *known
	// drivers are those of the sites, by which counters are read, since the sites were changed last.
	drivers map[string]site.Site
	changed time.Time
	// outlooks are trends and what is usual, by thing and measure, and when they were worked out.
	outlooks map[string]outlook
	// worked is when a run worked on a deployment last.
	worked map[int64]time.Time
	// unkept are alerts, and unwritten whole rows, that could not be kept: they are with the next round.
	unkept    map[int64]alarm.Alert
	unwritten []measure.Row
	// rolled is from where on rows of a level are looked at for the next one.
	rolled [2]int64
	// inside are what machines said of themselves, counters what software counted.
	inside   insides
	counters counters
	// forwarder sends measures on.
	forwarder forwarder
	// tidied is when rows were made coarser and dropped last.
	tidied time.Time
}

// Close frees what it holds.
func (m *Memory) Close() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.measures == nil {
		return nil
	}
	return m.measures.Close()
}

// Service is the service of measures and alerts for one actor.
type Service struct {
	desk        *acting.Desk
	workspace   *workspace.Workspace
	store       Store
	log         *slog.Logger
	memory      *Memory
	open        func(ctx context.Context) (store.MeasuresStore, error)
	sites       *sites.Service
	deployments *deployments.Service
	inside      Inside
}

// New returns the service for whoever is at the desk, over those of sites and deployments, and what goes into machines. Open opens where measures are kept.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger, memory *Memory, open func(ctx context.Context) (store.MeasuresStore, error), at *sites.Service, of *deployments.Service, in Inside) *Service {
	return &Service{inside: in, desk: desk, workspace: ws, store: s, log: log, memory: memory, open: open, sites: at, deployments: of}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// measures are where measures are kept.
func (svc *Service) measures(ctx context.Context) (store.MeasuresStore, error) {
	svc.memory.mu.Lock()
	defer svc.memory.mu.Unlock()
	if svc.memory.measures == nil {
		m, err := svc.open(ctx)
		if err != nil {
			return nil, err
		}
		svc.memory.measures = m
	}
	return svc.memory.measures, nil
}
