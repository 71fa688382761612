package runs

import (
	"context"
	"errors"
	"slices"
	"sync"

	"andamio/internal/core/fault"
	"andamio/internal/core/plan/op"
	"andamio/internal/service/deployments"
)

// askedAtOnce is how many names are asked about at once.
const askedAtOnce = 16

// namesFree checks before a run that no name it would publish is another's. A name server that does not answer is no
// reason not to begin: the step waits for it.
func (svc *Service) namesFree(ctx context.Context, o deployments.Order) error {
	zone, err := svc.workspace.Zone()
	if err != nil || zone == nil {
		return err
	}
	mark := ""
	if o.Deployment != 0 {
		d, err := svc.store.Deployment(ctx, o.Deployment)
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
				errs[i] = fault.Conflictf("the name %s belongs to %s: raise this under another name (andamio plan --name)", zone.Full(name), svc.bearer(ctx, owner))
			}
		})
	}
	group.Wait()
	return errors.Join(errs...)
}

// bearer says which deployment bears a mark.
func (svc *Service) bearer(ctx context.Context, mark string) string {
	all, err := svc.store.Deployments(ctx)
	if err == nil {
		for _, d := range all {
			if d.Mark == mark {
				return "the deployment " + d.Name
			}
		}
	}
	return "the deployment of another workspace, with the mark " + mark
}
