package watch

import (
	"context"
	"slices"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/guard"
	"andamio/internal/core/measure"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
)

// knownWithin is how long before a moment something may have been measured that is taken for how it was then.
const knownWithin = 2 * time.Minute

// ReadingsAt is what the sites and endpoints of a deployment said at a moment, as far as that was measured.
func (svc *Service) ReadingsAt(ctx context.Context, deployment int64, at time.Time) (deployments.Readings, error) {
	out := deployments.Readings{At: at, Sites: map[string]run.Reading{}, Answers: map[string]run.Reading{}}
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return out, err
	}
	all, err := svc.Measured(ctx, deployment)
	if err != nil {
		return out, err
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return out, err
	}
	reads := newReader(measures)
	for _, t := range all {
		name, into := measure.On, out.Sites
		if t.Kind == measure.OfEndpoint {
			name, into = measure.Answers, out.Answers
		}
		points, err := reads.curve(ctx, t.ID, name, measure.Raw.At(measure.Raw.Slot(at.Add(-knownWithin))), at, measure.Raw.Step())
		if err != nil {
			return out, err
		}
		for _, p := range points {
			if p.N > 0 {
				into[t.Resource] = run.Reading{Text: said(t.Kind, p.Mean >= 1), Good: p.Mean >= 1, At: p.At}
			}
		}
	}
	return out, nil
}

// said is what was said, as far as that was kept.
func said(of measure.Kind, good bool) string {
	switch {
	case of == measure.OfEndpoint && good:
		return "it answered"
	case of == measure.OfEndpoint:
		return "it did not answer as it should"
	case good:
		return "it was on"
	}
	return "it was not on"
}

// AlertsAt are those that went on at a moment, by all that is known of them.
func (svc *Service) AlertsAt(ctx context.Context, at time.Time) ([]alarm.Alert, error) {
	all, err := svc.AlertsSince(ctx, at, mostOld)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(a alarm.Alert) bool { return a.Since.After(at) || !a.Ended.IsZero() && !a.Ended.After(at) })
	alarm.Sort(all)
	return all, nil
}
