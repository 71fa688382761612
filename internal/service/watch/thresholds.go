package watch

import (
	"context"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/measure"
	"andamio/internal/core/printable"
)

// Thresholds are the workspace's, before those that ship.
func (svc *Service) Thresholds(context.Context) (*alarm.File, error) {
	if err := svc.desk.Read("the thresholds"); err != nil {
		return nil, err
	}
	return svc.workspace.Thresholds()
}

// SetThresholds keeps the workspace's thresholds, from the text of their file.
func (svc *Service) SetThresholds(ctx context.Context, text []byte) (*alarm.File, error) {
	f, err := alarm.Read(text)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	return f, svc.desk.Do(ctx, guard.SetThresholds, guard.Named(printable.Count(len(f.Thresholds), "threshold")), func() error { return svc.workspace.SetThresholds(text) })
}

// Would is a time at which a threshold would have been over.
type Would struct {
	Thing     string         `json:"thing"`
	Name      string         `json:"name"`
	Threshold string         `json:"threshold"`
	Severity  alarm.Severity `json:"severity"`
	From      time.Time      `json:"from"`
	// Until is zero if it would be over still.
	Until time.Time `json:"until,omitzero"`
	Words string    `json:"words"`
}

// Preview says when thresholds would have been over since a time, of everything that was measured then, whatever the cause. What looks ahead is worked out from now alone, and is
// not in it.
func (svc *Service) Preview(ctx context.Context, text []byte, since, now time.Time) ([]Would, error) {
	all, err := svc.Measured(ctx, 0)
	if err != nil {
		return nil, err
	}
	f, err := alarm.Read(text)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return nil, err
	}
	out, reads := []Would{}, newReader(measures)
	for i := range all {
		of, err := f.For(&all[i])
		if err != nil {
			return nil, fault.Default(fault.Invalid, err)
		}
		for _, t := range of {
			got, err := previewed(ctx, reads, &all[i], t, since, now)
			if err != nil {
				return nil, err
			}
			out = append(out, got...)
		}
	}
	return out, nil
}

// previewed are the times of one threshold of one thing.
func previewed(ctx context.Context, reads *reader, thing *measure.Thing, t *alarm.Threshold, since, now time.Time) ([]Would, error) {
	m := measure.Of(t.Measure)
	step := measure.Raw.Step()
	since = measure.Raw.At(measure.Raw.Slot(since))
	rows, err := reads.rows(ctx, thing.ID, since, now, step)
	if err != nil {
		return nil, err
	}
	points, err := measure.Curve(rows, t.Measure, since, now, step)
	if err != nil {
		return nil, err
	}
	limits, err := measure.Curve(rows, m.Limit, since, now, step)
	if err != nil {
		return nil, err
	}
	var out []Would
	var w alarm.Watch
	for i := range points {
		p := &points[i]
		r := alarm.Reading{Has: p.N > 0, Value: p.Mean}
		if i < len(limits) && limits[i].N > 0 {
			r.Limit = limits[i].Mean
		}
		if !w.Step(t, &r, p.At) {
			continue
		}
		if n := len(out); n > 0 && out[n-1].Until.IsZero() {
			out[n-1].Until = p.At
		}
		if w.State > alarm.Well {
			out = append(out, Would{Thing: thing.Key, Name: thing.Name, Threshold: t.Name, Severity: w.State, From: p.At, Words: alarm.Words(t, &r, w.State)})
		}
	}
	return out, nil
}
