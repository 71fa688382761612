package deployments

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/guard"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// Past is a deployment as it was at a moment, with its picture.
type Past struct {
	Deployment
	Picture *run.State
}

// AsOf lists the deployments as they were at a moment, by their journals up to then, the newest first. A run that went on then is as far as it was.
func (svc *Service) AsOf(ctx context.Context, at time.Time) ([]Past, error) {
	all, err := svc.store.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	if all, err = acting.Seen(ctx, svc.desk, all, func(d store.Deployment) guard.Thing { return guard.Thing{Name: d.Name, Deployment: d.ID} }); err != nil {
		return nil, err
	}
	var out []Past
	for _, d := range all {
		p, err := svc.past(ctx, d, at)
		if err != nil {
			return nil, err
		}
		if p != nil {
			out = append(out, *p)
		}
	}
	return out, nil
}

// past is one deployment as it was at a moment; nil if nothing of it was begun.
func (svc *Service) past(ctx context.Context, d store.Deployment, at time.Time) (*Past, error) {
	runs, err := svc.store.RunsOf(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	var over []store.Run
	var going *run.State
	out := &Past{Deployment: Deployment{Deployment: d}}
	for _, r := range runs {
		if r.Created.After(at) {
			break
		}
		if !r.Ended.IsZero() && !r.Ended.After(at) {
			over = append(over, r)
			out.Runs = append(out.Runs, r)
			continue
		}
		if going, err = svc.replayed(ctx, r.ID, at); err != nil {
			return nil, err
		}
		r.State, r.Ended, r.Left = going.Status, time.Time{}, false
		if r.State != run.Planned {
			r.State = run.UnderWay
		}
		out.Runs = append(out.Runs, r)
	}
	if len(out.Runs) == 0 {
		return nil, nil
	}
	if out.Stand, err = svc.Fold(ctx, over); err != nil {
		return nil, err
	}
	if going != nil {
		if out.Stand.Plan == nil {
			out.Stand = change.Nothing(going.Plan)
		}
		if out.Stand, err = change.After(out.Stand, going); err != nil {
			return nil, fmt.Errorf("deployment %d as of %s: %w", d.ID, at.Format(time.RFC3339), err)
		}
		out.Picture = going
		return out, nil
	}
	if err := out.Stand.Plan.Arrange(); err != nil {
		return nil, err
	}
	out.Picture = run.Stood(out.Stand.Plan, out.Stand.Unsure)
	return out, nil
}

// replayed is a run by what its journal says up to a moment.
func (svc *Service) replayed(ctx context.Context, runID int64, at time.Time) (*run.State, error) {
	r, err := svc.store.Run(ctx, runID)
	if err != nil {
		return nil, err
	}
	p, err := svc.store.Plan(ctx, r.Plan)
	if err != nil {
		return nil, err
	}
	state := run.New(p)
	for {
		events, err := svc.store.Events(ctx, runID, state.LastSeq, MaxBatch)
		if err != nil {
			return nil, err
		}
		for _, e := range events {
			if e.At.After(at) {
				return state, nil
			}
			state.Apply(e)
		}
		if len(events) < MaxBatch {
			return state, nil
		}
	}
}
