package app

import (
	"context"

	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
	"andamio/internal/core/rules"
	"andamio/internal/core/run"
	"andamio/internal/names"
	"andamio/internal/service/acting"
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
	return Opened{Dir: a.workspace.Dir, Loose: a.workspace.Loose, Copied: a.kept.CopiedTo()}
}

// Runs are all runs, the newest first.
func (a *App) Runs(ctx context.Context) ([]Run, error) {
	all, err := a.store.Runs(ctx)
	if err != nil {
		return nil, err
	}
	return acting.Seen(ctx, a.desk, all, func(r Run) guard.Thing { return acting.Run(r.ID) })
}

// Run is one run.
func (a *App) Run(ctx context.Context, id int64) (Run, error) {
	if err := a.desk.See(ctx, acting.Run(id)); err != nil {
		return Run{}, err
	}
	return a.store.Run(ctx, id)
}

// PlanOf is the plan that a run runs, as it is kept: what else its caller says of the run counts for nothing.
func (a *App) PlanOf(ctx context.Context, r Run) (*plan.Plan, error) {
	r, err := a.Run(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	return a.store.Plan(ctx, r.Plan)
}

// Events are those of a run's journal after a number, at most so many.
func (a *App) Events(ctx context.Context, runID, after int64, limit int) ([]run.Event, error) {
	if err := a.desk.See(ctx, acting.Run(runID)); err != nil {
		return nil, err
	}
	return a.store.Events(ctx, runID, after, limit)
}

// Reservations are the addresses and VLANs that are held, and by which run.
func (a *App) Reservations(ctx context.Context) ([]Reservation, error) {
	if err := a.desk.Read("what is held"); err != nil {
		return nil, err
	}
	return a.store.Reservations(ctx)
}

// Connections are the connections of all sites, with what driver, address and settings, and without what is secret.
func (a *App) Connections() ([]workspace.Connection, error) {
	all, err := a.workspace.Connections()
	if err != nil {
		return nil, err
	}
	return acting.Seen(context.Background(), a.desk, all, func(c workspace.Connection) guard.Thing { return guard.At(c.Site) })
}

// Connection is that of one site.
func (a *App) Connection(site string) (workspace.Connection, error) {
	if err := a.desk.See(context.Background(), guard.At(site)); err != nil {
		return workspace.Connection{}, err
	}
	return a.workspace.Connection(site)
}

// CheckSiteName says why a new site cannot have a name.
func (a *App) CheckSiteName(site string) error {
	if err := a.desk.Read("the sites"); err != nil {
		return err
	}
	return a.workspace.CheckSiteName(site)
}

// Surveys are the last surveys, the newest first.
func (a *App) Surveys(ctx context.Context, limit int) ([]Survey, error) {
	if err := a.desk.Read("the surveys"); err != nil {
		return nil, err
	}
	return a.store.Surveys(ctx, limit)
}

// LastSurvey is the last survey of a site.
func (a *App) LastSurvey(ctx context.Context, site string) (Survey, error) {
	if err := a.desk.See(ctx, guard.At(site)); err != nil {
		return Survey{}, err
	}
	return a.store.LastSurvey(ctx, site)
}

// Coverage says when each region of each site was seen whole.
func (a *App) Coverage(ctx context.Context) ([]Covered, error) {
	if err := a.desk.Read("the surveys"); err != nil {
		return nil, err
	}
	return a.store.Coverage(ctx)
}

// InventoryStamp changes whenever anything that reconciling reads does.
func (a *App) InventoryStamp(ctx context.Context) (string, error) {
	if err := a.desk.Read("the inventory"); err != nil {
		return "", err
	}
	return a.store.InventoryStamp(ctx)
}

// RecordHistory is what was done to a record, the newest first.
func (a *App) RecordHistory(ctx context.Context, record string) ([]RecordChange, error) {
	if err := a.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	return a.store.History(ctx, record)
}

// Keys are the key pairs that are kept, without their private halves.
func (a *App) Keys() ([]workspace.KeyPair, error) {
	if err := a.desk.Read("the key pairs"); err != nil {
		return nil, err
	}
	return a.workspace.Keys()
}

// Zone is where names are kept; nil if nowhere.
func (a *App) Zone() (*names.Zone, error) {
	if err := a.desk.Read("where names are kept"); err != nil {
		return nil, err
	}
	return a.workspace.Zone()
}

// Hearing says where notices are heard.
func (a *App) Hearing() (workspace.Hearing, error) {
	if err := a.desk.Read("where notices are heard"); err != nil {
		return workspace.Hearing{}, err
	}
	return a.workspace.Hearing()
}

// Rules are the administrator's rules of placement.
func (a *App) Rules() (*rules.File, error) {
	if err := a.desk.Read("the rules of placement"); err != nil {
		return nil, err
	}
	return a.workspace.Rules()
}

// MissingSecrets are those of some secrets for which nothing is given or kept.
func (a *App) MissingSecrets(names []string) ([]string, error) {
	if err := a.desk.Read("which secrets are kept"); err != nil {
		return nil, err
	}
	return a.workspace.MissingSecrets(names)
}
