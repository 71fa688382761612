package reconcile

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// Settlement is something that was done to findings, and whether it was undone.
type Settlement struct {
	store.Settlement
	Items []Settled `json:"items,omitempty"`
	Runs  []int64   `json:"runs,omitempty"`
}

// Settlements lists what was done, the newest first.
func (svc *Service) Settlements(ctx context.Context, limit int) ([]Settlement, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	all, err := svc.store.Settlements(ctx, limit)
	if err != nil {
		return nil, err
	}
	var out []Settlement
	for _, x := range all {
		var body actBody
		if err := json.Unmarshal(x.Body, &body); err != nil {
			return nil, fmt.Errorf("act %d cannot be read: %w", x.ID, err)
		}
		out = append(out, Settlement{x, body.Items, body.Runs})
	}
	return out, nil
}

// Undo takes back an act: records, decisions and what was ignored at once. What it changed at sites is undone by orders,
// which are returned to be shown: the inverse of its runs. What was removed is built anew; what was on its disks is gone.
func (svc *Service) Undo(ctx context.Context, id int64) (out []deployments.Order, err error) {
	err = svc.desk.Do(ctx, guard.UndoSettled, guard.Named(fmt.Sprintf("act %d", id)), func() (err error) {
		out, err = svc.undo(ctx, id)
		return err
	})
	return out, err
}

func (svc *Service) undo(ctx context.Context, id int64) ([]deployments.Order, error) {
	all, err := svc.store.Settlements(ctx, 1000)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(x store.Settlement) bool { return x.ID == id })
	if i < 0 || all[i].Undone {
		return nil, fault.NotFoundf("act %d is not there or was undone already", id)
	}
	var body actBody
	if err := json.Unmarshal(all[i].Body, &body); err != nil {
		return nil, err
	}
	orders, err := svc.inverse(ctx, body)
	if err != nil {
		return nil, err
	}
	for _, run := range slices.Backward(body.Notes) {
		if err := svc.store.Void(ctx, run); err != nil {
			return nil, err
		}
	}
	return orders, svc.store.UndoSettlement(ctx, id, svc.desk.Actor.Name, time.Now())
}

// inverse are the orders that undo what an act changed at sites.
func (svc *Service) inverse(ctx context.Context, body actBody) ([]deployments.Order, error) {
	var orders []deployments.Order
	for _, id := range body.Runs {
		r, err := svc.store.Run(ctx, id)
		if err != nil {
			return nil, err
		}
		d, err := svc.deployments.Deployment(ctx, r.Deployment)
		if err != nil {
			return nil, err
		}
		if d.Name == deployments.ByHand {
			continue
		}
		o, err := svc.deployments.RollingBack(ctx, id)
		if err != nil {
			svc.log.Info("a run of an act has nothing to roll back", "run", id, "err", err)
			continue
		}
		orders = append(orders, o)
	}
	return svc.inverseByHand(ctx, body, orders)
}

// inverseByHand adds the orders that set again what was set otherwise, and build again what was removed.
func (svc *Service) inverseByHand(ctx context.Context, body actBody, orders []deployments.Order) ([]deployments.Order, error) {
	if len(body.Removed)+len(body.Mended) == 0 {
		return orders, nil
	}
	id, err := svc.byHand(ctx)
	if err != nil {
		return nil, err
	}
	unit, err := svc.currency(ctx)
	if err != nil {
		return nil, err
	}
	o := deployments.Order{Deployment: id}
	if o.Plan, err = change.Handle(body.Mended, "set again what was set otherwise", unit); err != nil {
		return nil, fault.Default(fault.Refused, err)
	}
	if len(body.Removed) > 0 {
		if o.Wanted, err = change.Restore(body.Removed, unit); err != nil {
			return nil, fault.Default(fault.Refused, err)
		}
		if o.Plan, err = change.Beside(o.Plan, o.Wanted); err != nil { // one deployment runs one plan at a time
			return nil, fault.Default(fault.Refused, err)
		}
	}
	return append(orders, o), nil
}
