package app

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan/op"
	"andamio/internal/names"
)

// ConnectNames tries a zone by publishing a name of no meaning and taking it back, and keeps the zone if that works.
func (a *App) ConnectNames(ctx context.Context, z names.Zone) error {
	return a.do(ctx, guard.ConnectNames, z.Name, func() error { return a.connectNames(ctx, z) }, saying("at %s", z.Server))
}

func (a *App) connectNames(ctx context.Context, z names.Zone) error {
	z.Name = strings.TrimSuffix(strings.ToLower(z.Name), ".")
	if err := z.Check(); err != nil {
		return err
	}
	const trial = "andamio-trial"
	z.Owner = trial
	if err := z.Publish(ctx, trial, names.Target{Address: "127.0.0.1"}); err != nil {
		return fault.Refusedf("the zone %s cannot be changed, so it is not kept: %w", z.Name, err)
	}
	if err := z.Withdraw(ctx, trial, nil); err != nil {
		return err
	}
	return a.workspace.SetZone(z)
}

// askedAtOnce is how many names are asked about at once.
const askedAtOnce = 16

// namesFree checks before a run that no name it would publish is another's. A name server that does not answer is no
// reason not to begin: the step waits for it.
func (a *App) namesFree(ctx context.Context, o Order) error {
	zone, err := a.workspace.Zone()
	if err != nil || zone == nil {
		return err
	}
	mark := ""
	if o.Deployment != 0 {
		d, err := a.store.Deployment(ctx, o.Deployment)
		if err != nil {
			return err
		}
		mark = d.Mark
	}
	var wanted []string
	for i := range o.Plan.Steps {
		if s := &o.Plan.Steps[i]; s.Op == op.Name && !slices.Contains(wanted, s.Naming.Name) {
			wanted = append(wanted, s.Naming.Name)
		}
	}
	errs := make([]error, len(wanted))
	turn := make(chan struct{}, askedAtOnce)
	var group sync.WaitGroup
	for i, name := range wanted {
		group.Go(func() {
			turn <- struct{}{}
			defer func() { <-turn }()
			owner, taken, err := zone.Taken(ctx, name)
			switch {
			case err != nil || !taken || owner != "" && owner == mark:
			case owner == "":
				errs[i] = fault.Conflictf("the name %s stands already and was made by others: take it away there, or raise this under another name (andamio plan --name)", zone.Full(name))
			default:
				errs[i] = fault.Conflictf("the name %s belongs to %s: raise this under another name (andamio plan --name)", zone.Full(name), a.bearer(ctx, owner))
			}
		})
	}
	group.Wait()
	return errors.Join(errs...)
}

// bearer says which deployment bears a mark.
func (a *App) bearer(ctx context.Context, mark string) string {
	all, err := a.store.Deployments(ctx)
	if err == nil {
		for _, d := range all {
			if d.Mark == mark {
				return "the deployment " + d.Name
			}
		}
	}
	return "the deployment of another workspace, with the mark " + mark
}
