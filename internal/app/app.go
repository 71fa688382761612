// Package app is Andamio's services: one for each job, called alike by the screens, the command line and, later, the
// API. It ties the computation in core to the sites, the engine and the store.
package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"

	"andamio/internal/core/guard"
	"andamio/internal/engine"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
	"andamio/internal/store/sqlite"
)

// App is an open workspace with its services.
type App struct {
	workspace *workspace.Workspace
	store     store.Store
	Log       *slog.Logger
	// Patience is the engine's; zero is the usual.
	Patience engine.Patience

	// spawn begins a run's worker; a process of its own unless [InProcess] was asked for.
	spawn func(runID int64) error
	// idle says that spawn does nothing.
	idle bool
	// within says that nothing is begun in processes of its own.
	within bool

	folds *folds
	// drawn are the templates that were worked out, by the digest of their files.
	drawn *sync.Map
	// actor is who acts.
	actor guard.Actor
	log   io.WriteCloser
}

// Option changes how a workspace is opened.
type Option func(*App)

// InProcess makes runs go on within this process, and end with it.
func InProcess(ctx context.Context) Option {
	return func(a *App) {
		a.within = true
		a.spawn = func(runID int64) error {
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
	return func(a *App) { a.idle, a.within, a.spawn = true, true, func(int64) error { return nil } }
}

// Open opens the workspace in a folder, making it as needed. An empty dir is the user's own workspace.
func Open(ctx context.Context, dir string, options ...Option) (*App, error) {
	ws, err := workspace.Open(dir)
	if err != nil {
		return nil, err
	}
	s, err := sqlite.Open(ctx, filepath.Join(ws.Dir, "andamio.db"))
	if err != nil {
		return nil, fmt.Errorf("the workspace %s cannot be opened: %w", ws.Dir, err)
	}
	a := &App{workspace: ws, store: s, log: workspace.OpenLog(ws), folds: &folds{}, drawn: &sync.Map{}, actor: guard.Actor{Name: Whoami(), Way: guard.Command}}
	a.Log = slog.New(slog.NewTextHandler(a.log, nil)).With("pid", os.Getpid())
	a.spawn = a.spawnProcess
	for _, o := range options {
		o(a)
	}
	for _, name := range ws.Loose {
		a.Log.Warn("others could read it, and cannot any more", "file", name)
	}
	if s.CopiedTo() != "" {
		a.Log.Info("a copy was made before the schema changed", "file", s.CopiedTo())
	}
	a.settleCredentials(ctx)
	return a, nil
}

// Close closes the workspace.
func (a *App) Close() error { return errors.Join(a.store.Close(), a.log.Close()) }
