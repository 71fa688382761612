package reconcile

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/inventory"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

func (svc *Service) byHand(ctx context.Context) (int64, error) {
	all, err := svc.store.Deployments(ctx)
	if err != nil {
		return 0, err
	}
	for _, d := range all {
		if d.Name == deployments.ByHand {
			return d.ID, nil
		}
	}
	return svc.store.CreateDeployment(ctx, deployments.ByHand, "", guard.Owner{})
}

// actBody is what is kept of an act beside what it did to records.
type actBody struct {
	Items []Settled `json:"items"`
	// Notes are runs that only took note, Runs those that change sites; Removed is what they take away.
	Notes   []int64            `json:"notes,omitempty"`
	Runs    []int64            `json:"runs,omitempty"`
	Removed []inventory.Record `json:"removed,omitempty"`
	// Mended are things at sites with the names, tags and addresses that they had.
	Mended []change.Thing `json:"mended,omitempty"`
	Reason string         `json:"reason,omitempty"`
}

// Settle does what was worked out: records change, what only takes note is run to its end, and what changes sites is
// begun. It returns the act, with which all that can be undone, and the runs that were begun.
func (svc *Service) Settle(ctx context.Context, s *Settling) (act int64, runs []int64, err error) {
	err = svc.desk.Do(ctx, guard.SettleFound, s.thing(), func() (err error) {
		act, runs, err = svc.settle(ctx, s)
		return err
	})
	return act, runs, err
}

func (svc *Service) settle(ctx context.Context, s *Settling) (act int64, runs []int64, err error) {
	body := actBody{Items: s.Items, Removed: s.removed, Mended: s.mended}
	if err := svc.beginSettling(ctx, s, &body); err != nil {
		return 0, nil, errors.Join(err, svc.abandonSettling(ctx, body))
	}
	data, err := json.Marshal(body)
	if err != nil {
		return 0, nil, err
	}
	act, err = svc.store.RecordSettlement(ctx, svc.desk.Actor.Name, time.Now(), store.SettlementChanges{Body: data, Changes: s.Changes, Ignore: s.ignore, Decide: s.decide})
	if err != nil {
		return 0, nil, err
	}
	for _, id := range body.Runs {
		if err := svc.runs.Start(id); err != nil {
			return act, body.Runs, err
		}
	}
	return act, body.Runs, nil
}

// beginSettling makes the runs of a settling, and works through those that only take note. All runs are made before
// anything is noted: what cannot be run is known then.
func (svc *Service) beginSettling(ctx context.Context, s *Settling, body *actBody) error {
	for _, part := range []struct {
		orders []deployments.Order
		into   *[]int64
	}{{s.Orders, &body.Runs}, {s.Notes, &body.Notes}} {
		for _, o := range part.orders {
			id, err := svc.runs.NewRun(ctx, o)
			if err != nil {
				return err
			}
			*part.into = append(*part.into, id)
		}
	}
	for _, id := range body.Notes {
		if err := svc.runs.Work(ctx, id); err != nil {
			return fault.Conflictf("the site no longer has what was observed; survey it again: %w", err)
		}
	}
	return nil
}

// abandonSettling takes back what a settling that failed has begun: nothing of it counts.
func (svc *Service) abandonSettling(ctx context.Context, body actBody) error {
	var errs []error
	for _, id := range slices.Backward(body.Notes) {
		errs = append(errs, svc.store.Void(ctx, id))
	}
	for _, id := range body.Runs {
		errs = append(errs, svc.store.Forget(ctx, id))
	}
	return errors.Join(errs...)
}
