// Package hooks is the service of what changes set off: it gathers what happened from what is kept of runs and requests, enlists it once for
// each hook that it sets off, and calls services and writes letters.
package hooks

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"andamio/internal/bus"
	"andamio/internal/core/alarm"
	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/plan"
	"andamio/internal/core/react"
	"andamio/internal/core/run"
	"andamio/internal/core/trail"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
	"andamio/internal/web"
)

// Delivery is an event that a hook tells.
type Delivery = store.Delivery

// The states of a delivery that need somebody: it was given up, or nobody knows whether it arrived.
const (
	Failed = store.DeliveryFailed
	Unsure = store.DeliveryUnsure
)

// Store is what the service keeps, and reads.
type Store interface {
	store.HooksStore
	Runs(ctx context.Context) ([]store.Run, error)
	Events(ctx context.Context, runID, after int64, limit int) ([]run.Event, error)
	Plan(ctx context.Context, id int64) (*plan.Plan, error)
	Deployments(ctx context.Context) ([]store.Deployment, error)
	Deployment(ctx context.Context, id int64) (store.Deployment, error)
	RunsOf(ctx context.Context, deployment int64) ([]store.Run, error)
	Requests(ctx context.Context) ([]store.Request, error)
	ReactionStates(ctx context.Context) ([]react.Kept, error)
	AlertsSince(ctx context.Context, since time.Time, most int) ([]alarm.Alert, error)
	RequestThread(ctx context.Context, id int64) ([]store.RequestEvent, error)
	Trail(ctx context.Context, after int64, limit int) ([]trail.Entry, error)
	LastOfTrail(ctx context.Context, limit int) ([]trail.Entry, error)
}

// Service is the service of hooks for one actor.
type Service struct {
	desk      *acting.Desk
	workspace *workspace.Workspace
	store     Store
	log       *slog.Logger
	memory    *Memory
	tales     Tales
	doing     Doing
	runs      Beginning
}

// Doing is what runs scripts on what stands; none of it is done twice for the same purpose.
type Doing interface {
	Doing(ctx context.Context, deployment int64, s deployments.Script, purpose string) (deployments.Order, error)
}

// Tales tells what had to do with an alert.
type Tales interface {
	Tale(ctx context.Context, alert int64) ([]string, error)
}

// Beginning begins runs.
type Beginning interface {
	Begin(ctx context.Context, o deployments.Order) (int64, error)
}

// Memory is what was enlisted already, so that it is not tried again and again, and what became of requests as long as they are as they were.
type Memory struct {
	mu      sync.Mutex
	seen    map[string]bool
	threads map[int64]remembered
	// noted is the last entry of the log that was gathered; granted is until when services let events be sent.
	noted   int64
	granted map[string]time.Time
	// publisher has the connections to buses.
	publisher bus.Publisher
}

// Close ends what is kept open for what comes after.
func (m *Memory) Close() { m.publisher.Close() }

// remembered is what happened with a request until it was changed last.
type remembered struct {
	changed time.Time
	events  []hook.Event
}

// mostRemembered bounds the memory: beyond it all is forgotten, and looked up anew.
const mostRemembered = 20_000

// New returns the service for whoever is at the desk.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger, memory *Memory) *Service {
	return &Service{desk: desk, workspace: ws, store: s, log: log, memory: memory}
}

// Ask sets who works out and begins the runs that hooks set off.
func (svc *Service) Ask(doing Doing, runs Beginning, tales Tales) {
	svc.doing, svc.runs, svc.tales = doing, runs, tales
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// client calls services; it follows no redirect.
var client = sync.OnceValue(func() *http.Client { return web.Client(callPatience, nil) })

// Hooks are the workspace's hooks.
func (svc *Service) Hooks() (*hook.File, error) {
	if err := svc.desk.Read("what changes set off"); err != nil {
		return nil, err
	}
	return svc.workspace.Hooks()
}

// SetHooks keeps hooks, from the text of their file. What happened before one is there sets it off no more.
func (svc *Service) SetHooks(ctx context.Context, text []byte) (*hook.File, error) {
	f, err := workspace.ReadNaming(svc.workspace, text, hook.Read)
	if err != nil {
		return nil, err
	}
	return f, svc.desk.Do(ctx, guard.SetHooks, guard.Named(fmt.Sprintf("%d hooks", len(f.Hooks))), func() error {
		if err := svc.workspace.SetHooks(text); err != nil {
			return err
		}
		return svc.store.SetHooks(ctx, names(f), time.Now())
	})
}

func names(f *hook.File) []string {
	var out []string
	for i := range f.Hooks {
		out = append(out, f.Hooks[i].Name)
	}
	return out
}

// Deliveries are the last events that hooks told, the newest first.
func (svc *Service) Deliveries(ctx context.Context, limit int) ([]store.Delivery, error) {
	if err := svc.desk.Read("who was told"); err != nil {
		return nil, err
	}
	return svc.store.Deliveries(ctx, limit)
}

// Resend has an event told again that was given up, or of which nobody knows whether it arrived.
func (svc *Service) Resend(ctx context.Context, id int64) error {
	return svc.desk.Do(ctx, guard.ResendEvent, guard.Named(fmt.Sprintf("delivery %d", id)), func() error {
		return svc.store.ResendDelivery(ctx, id, time.Now())
	})
}
