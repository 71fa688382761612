package app

import (
	"context"
	"errors"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
)

// Disconnect removes a site: its connection, its credential and what was observed there. Records stay, with their
// history. A site that something of a deployment stands at is not removed.
func (a *App) Disconnect(ctx context.Context, name string) error {
	return a.do(ctx, guard.RemoveSite, name, func() error { return a.disconnect(ctx, name) })
}

func (a *App) disconnect(ctx context.Context, name string) error {
	c, err := a.workspace.Connection(name)
	if err != nil {
		return err
	}
	deployments, err := a.Deployments(ctx)
	if err != nil {
		return err
	}
	for i := range deployments {
		d := &deployments[i]
		for k := range d.Stand.Plan.Resources {
			if r := &d.Stand.Plan.Resources[k]; r.Site == name {
				return fault.Conflictf("%s of deployment %d (%s) stands at %s: retire it before the site is removed, or nothing could take it away", r.ID, d.ID, d.Name, name)
			}
		}
	}
	return errors.Join(a.workspace.DropConnection(ctx, c), a.store.ForgetSite(ctx, name))
}
