package hooks

import (
	"context"
	"fmt"

	"andamio/internal/core/hook"
	"andamio/internal/service/deployments"
)

// begin begins the run of a hook's script, unless somebody who ended meanwhile began it. It says which run that is.
func (svc *Service) begin(ctx context.Context, h *hook.Hook, e *hook.Event) (string, error) {
	purpose := h.Purpose(e)
	runs, err := svc.store.RunsOf(ctx, e.Deployment)
	if err != nil {
		return "", err
	}
	for _, r := range runs {
		if r.Purpose == purpose {
			return fmt.Sprintf("run %d", r.ID), nil
		}
	}
	o, err := svc.doing.Doing(ctx, e.Deployment, deployments.Script{Name: h.Name, Text: h.Script, Inputs: e.Inputs(), Meant: h.Meant}, purpose)
	if err != nil {
		return "", err
	}
	o.Bound = deployments.BoundByNothing // it belongs to what was done, which was bound itself
	id, err := svc.runs.Begin(ctx, o)
	return fmt.Sprintf("run %d", id), err
}
