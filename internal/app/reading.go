package app

import (
	"context"

	"andamio/internal/core/plan"
	"andamio/internal/core/rules"
	"andamio/internal/core/run"
	"andamio/internal/names"
	"andamio/internal/service/workspace"
)

// Opened is what opening a workspace found and did, which whoever opened it should know.
type Opened struct {
	// Dir is the workspace's folder.
	Dir string `json:"dir,omitempty"`
	// Loose are files and folders that others could use until then.
	Loose []string `json:"loose,omitempty"`
	// Copied is the copy of the database that was made before it was brought up to date; "" if it was not.
	Copied string `json:"copied,omitempty"`
}

// Opened is what opening the workspace found and did.
func (a *App) Opened() Opened {
	out := Opened{Dir: a.workspace.Dir, Loose: a.workspace.Loose}
	if file, is := a.store.(interface{ CopiedTo() string }); is {
		out.Copied = file.CopiedTo()
	}
	return out
}

// Runs are all runs, the newest first.
func (a *App) Runs(ctx context.Context) ([]Run, error) { return a.store.Runs(ctx) }

// Run is one run.
func (a *App) Run(ctx context.Context, id int64) (Run, error) { return a.store.Run(ctx, id) }

// PlanOf is the plan that a run runs.
func (a *App) PlanOf(ctx context.Context, r Run) (*plan.Plan, error) {
	return a.store.Plan(ctx, r.Plan)
}

// Events are those of a run's journal after a number, at most so many.
func (a *App) Events(ctx context.Context, runID, after int64, limit int) ([]run.Event, error) {
	return a.store.Events(ctx, runID, after, limit)
}

// Reservations are the addresses and VLANs that are held, and by which run.
func (a *App) Reservations(ctx context.Context) ([]Reservation, error) {
	return a.store.Reservations(ctx)
}

// Connections are the connections of all sites, with what driver, address and settings, and without what is secret.
func (a *App) Connections() ([]workspace.Connection, error) { return a.workspace.Connections() }

// Connection is that of one site.
func (a *App) Connection(site string) (workspace.Connection, error) {
	return a.workspace.Connection(site)
}

// CheckSiteName says why a new site cannot have a name.
func (a *App) CheckSiteName(site string) error { return a.workspace.CheckSiteName(site) }

// Surveys are the last surveys, the newest first.
func (a *App) Surveys(ctx context.Context, limit int) ([]Survey, error) {
	return a.store.Surveys(ctx, limit)
}

// LastSurvey is the last survey of a site.
func (a *App) LastSurvey(ctx context.Context, site string) (Survey, error) {
	return a.store.LastSurvey(ctx, site)
}

// Coverage says when each region of each site was seen whole.
func (a *App) Coverage(ctx context.Context) ([]Covered, error) { return a.store.Coverage(ctx) }

// InventoryStamp changes whenever anything that reconciling reads does.
func (a *App) InventoryStamp(ctx context.Context) (string, error) { return a.store.InventoryStamp(ctx) }

// RecordHistory is what was done to a record, the newest first.
func (a *App) RecordHistory(ctx context.Context, record string) ([]RecordChange, error) {
	return a.store.History(ctx, record)
}

// Keys are the key pairs that are kept, without their private halves.
func (a *App) Keys() ([]workspace.KeyPair, error) { return a.workspace.Keys() }

// Zone is where names are kept; nil if nowhere.
func (a *App) Zone() (*names.Zone, error) { return a.workspace.Zone() }

// Hearing says where notices are heard.
func (a *App) Hearing() (workspace.Hearing, error) { return a.workspace.Hearing() }

// Rules are the administrator's rules of placement.
func (a *App) Rules() (*rules.File, error) { return a.workspace.Rules() }

// MissingSecrets are those of some secrets for which nothing is given or kept.
func (a *App) MissingSecrets(names []string) ([]string, error) {
	return a.workspace.MissingSecrets(names)
}
