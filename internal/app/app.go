// Package app composes Andamio's services over one workspace, for an actor: screens, the command line and, later, the API call all of them
// through [App]. It opens the store, and holds what lasts beyond a call: the process that serves, and backups.
package app

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"

	"andamio/internal/service/accounts"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/fronts"
	"andamio/internal/service/hooks"
	"andamio/internal/service/moves"
	"andamio/internal/service/offers"
	"andamio/internal/service/promises"
	"andamio/internal/service/quotas"
	"andamio/internal/service/reactions"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/replicas"
	"andamio/internal/service/requests"
	"andamio/internal/service/runs"
	"andamio/internal/service/shells"
	"andamio/internal/service/sites"
	"andamio/internal/service/snapshots"
	"andamio/internal/service/tokens"
	"andamio/internal/service/watch"
	"andamio/internal/service/workers"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// The services, which App has all calls of.
type (
	siteService       = sites.Service
	deploymentService = deployments.Service
	runService        = runs.Service
	moveService       = moves.Service
	shellService      = shells.Service
	inventoryService  = reconcile.Service
	offerService      = offers.Service
	quotaService      = quotas.Service
	requestService    = requests.Service
	accountService    = accounts.Service
	hookService       = hooks.Service
	snapshotService   = snapshots.Service
	promiseService    = promises.Service
	replicaService    = replicas.Service
	watchService      = watch.Service
	reactionService   = reactions.Service
	frontService      = fronts.Service
	tokenService      = tokens.Service
	workerService     = workers.Service
)

// App is an open workspace with its services, for one actor.
type App struct {
	*siteService
	*deploymentService
	*runService
	*moveService
	*shellService
	*inventoryService
	*offerService
	*quotaService
	*requestService
	*accountService
	*hookService
	*snapshotService
	*promiseService
	*replicaService
	*watchService
	*reactionService
	*frontService
	*tokenService
	*workerService

	Log       *slog.Logger
	workspace *workspace.Workspace
	store     store.Store
	kept      *kept
	office    *acting.Office
	desk      *acting.Desk
	cache     *deployments.Cache
	tails     *runs.Tails
	offered   *offers.Cache
	booked    *accounts.Cache
	told      *hooks.Memory
	watched   *watch.Memory
	reacted   *reactions.Memory
	joined    *workers.Memory
	workers   runs.Workers
	// within says that nothing is begun in processes of its own.
	within bool
	// lent says that it is somebody else's, who closes it.
	lent bool
	log  io.WriteCloser
}

// wire makes the services for whoever is at a desk. Each is given those below it, and is told by an interface of its own what it asks of
// those above. What services ask of each other is looked at by nobody, so they sit inside; what App has is asked by whoever is at the desk.
func (a *App) wire(outside *acting.Desk) {
	a.desk = outside.Inside()
	a.siteService = sites.New(a.desk, a.workspace, a.store, a.Log)
	a.deploymentService = deployments.New(a.desk, a.workspace, a.store, a.cache, a.siteService)
	before := a.runService
	a.runService = runs.New(a.desk, a.workspace, a.store, a.Log, a.workers, a.siteService, a.deploymentService, a.tails)
	if before != nil {
		a.Patience = before.Patience
	}
	a.moveService = moves.New(a.desk, a.workspace, a.store, a.siteService, a.deploymentService, a.runService)
	a.shellService = shells.New(a.desk, a.workspace, a.deploymentService)
	a.inventoryService = reconcile.New(a.desk, a.workspace, a.store, a.Log, reconcile.Over{Sites: a.siteService, Deployments: a.deploymentService,
		Runs: a.runService, Moves: a.moveService, Shells: a.shellService})
	a.offerService = offers.New(a.desk, a.store, a.offered, offers.Files{Directory: a.workspace.Directory, Levels: a.workspace.Levels}, a.siteService, a.deploymentService)
	a.accountService = accounts.New(a.desk, a.workspace, a.store, a.booked, a.deploymentService)
	a.quotaService = quotas.New(a.desk, a.workspace, a.store, a.accountService)
	a.requestService = requests.New(a.desk, a.workspace, a.store, a.Log, requests.Over{Offers: a.offerService, Quotas: a.quotaService, Deployments: a.deploymentService, Runs: a.runService, Spending: a.accountService})
	a.siteService.Ask(a.deploymentService, a.moveService)
	a.deploymentService.Ask(a.moveService)
	a.snapshotService = snapshots.New(a.desk, a.siteService, a.deploymentService, a.moveService)
	a.replicaService = replicas.New(a.desk, a.siteService, a.deploymentService, a.moveService)
	a.promiseService = promises.New(a.desk, a.workspace, a.store, a.Log, a.siteService, a.deploymentService, a.snapshotService, a.replicaService, a.runService)
	a.hookService = hooks.New(a.desk, a.workspace, a.store, a.Log, a.told)
	a.watchService = watch.New(a.desk, a.workspace, a.store, a.Log, a.watched, a.openMeasures, a.siteService, a.deploymentService, a.shellService)
	a.reactionService = reactions.New(a.desk, a.workspace, a.store, a.Log, a.reacted, reactions.Over{Sites: a.siteService, Deployments: a.deploymentService, Runs: a.runService,
		Moves: a.moveService, Watch: a.watchService})
	a.frontService = fronts.New(a.desk, a.workspace, a.store, a.Log, a.siteService, a.deploymentService, a.watchService)
	a.tokenService = tokens.New(a.desk, a.store, a.workspace.Directory)
	a.workerService = workers.New(a.desk, a.workspace, a.store, a.Log, a.joined)
	a.requestService.Ask(a.promiseService)
	a.hookService.Ask(a.deploymentService, a.runService, a.watchService)
	a.runService.Ask(a.moveService, a.quotaService, a.hookService, a.promiseService)
	a.Begins(store.ProposalMove, a.moveService.BeginProposed)
	a.Begins(store.ProposalSettle, a.inventoryService.SettleProposed)
	a.seat(outside)
}

// seat sets the services that App has to the desk of whoever asks them.
func (a *App) seat(d *acting.Desk) {
	a.desk = d
	a.siteService, a.deploymentService, a.runService, a.moveService = a.siteService.At(d), a.deploymentService.At(d), a.runService.At(d), a.moveService.At(d)
	a.shellService, a.inventoryService, a.offerService, a.quotaService = a.shellService.At(d), a.inventoryService.At(d), a.offerService.At(d), a.quotaService.At(d)
	a.requestService, a.accountService, a.hookService, a.snapshotService = a.requestService.At(d), a.accountService.At(d), a.hookService.At(d), a.snapshotService.At(d)
	a.promiseService, a.replicaService, a.watchService, a.reactionService = a.promiseService.At(d), a.replicaService.At(d), a.watchService.At(d), a.reactionService.At(d)
	a.frontService, a.tokenService, a.workerService = a.frontService.At(d), a.tokenService.At(d), a.workerService.At(d)
}

// inside is the workspace for what the program itself does, for the same actor: it looks at whatever it needs.
func (a *App) inside() *App {
	b := *a
	b.wire(a.desk.Inside())
	return &b
}

// Shared is the workspace as it is looked at once for many, each of whom was asked before whether they may.
func (a *App) Shared() *App { return a.inside() }

// Option changes how a workspace is opened.
type Option func(*App)

// InProcess makes runs go on within this process, and end with it.
func InProcess(ctx context.Context) Option {
	return func(a *App) {
		a.within = true
		a.workers.Spawn = func(runID int64) error {
			go func() {
				if err := a.Work(ctx, runID); err != nil {
					a.Log.Error("run ended", "run", runID, "err", err)
				}
			}()
			return nil
		}
	}
}

// Idle sets no worker to runs: somebody else does.
func Idle() Option {
	return func(a *App) {
		a.within, a.workers = true, runs.Workers{Spawn: func(int64) error { return nil }, None: true}
	}
}

// Open opens the workspace in a folder, making it as needed. An empty dir is the user's own workspace.
func Open(ctx context.Context, dir string, options ...Option) (*App, error) {
	ws, err := workspace.Open(dir)
	if err != nil {
		return nil, err
	}
	s, err := openStore(ctx, ws)
	if err != nil {
		return nil, err
	}
	if s.files != nil {
		ws.KeepIn(s.files)
	}
	a := &App{workspace: ws, store: s, kept: s, log: workspace.OpenLog(ws), cache: &deployments.Cache{}, tails: &runs.Tails{}, offered: &offers.Cache{}, booked: &accounts.Cache{}, told: &hooks.Memory{}, watched: &watch.Memory{}, reacted: &reactions.Memory{}, joined: &workers.Memory{}}
	a.Log = slog.New(slog.NewTextHandler(a.log, nil)).With("pid", os.Getpid())
	for _, o := range options {
		o(a)
	}
	a.office = &acting.Office{Trail: s, Directory: ws.Directory, Find: a.find}
	a.wire(acting.At(a.atKeyboard(), a.office))
	ws.Routes, ws.Present = a.workerService.Dialer, a.workerService.Present
	for _, name := range ws.Loose {
		a.Log.Warn("others could read it, and cannot any more", "file", name)
	}
	if s.CopiedTo() != "" {
		a.Log.Info("a copy was made before the schema changed", "file", s.CopiedTo())
	}
	a.SettleCredentials(ctx)
	return a, nil
}

// Close closes the workspace.
func (a *App) Close() error {
	if a.lent {
		return nil
	}
	a.told.Close()
	return errors.Join(a.watched.Close(), a.store.Close(), a.log.Close())
}

// openMeasures opens where measures are kept.
func (a *App) openMeasures(ctx context.Context) (store.MeasuresStore, error) {
	return a.kept.measures(ctx)
}
