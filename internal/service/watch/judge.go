package watch

import (
	"context"
	"maps"
	"slices"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/store"
)

// outlook is how a measure goes on and what it usually is, and when that was worked out.
type outlook struct {
	thing string
	trend *alarm.Trend
	usual *alarm.Usual
	at    time.Time
}

// How far back is looked for how a measure goes on and what is usual, how often, and of how many things at once.
const (
	trendOver     = 24 * time.Hour
	usualOver     = 28 * 24 * time.Hour
	outlookFor    = 10 * time.Minute
	outlookAtOnce = 200
)

// judge holds what was measured against thresholds, finds the causes, and keeps the alerts that are other than before.
func (svc *Service) judge(ctx context.Context, measures store.MeasuresStore, k *known, r *round, now time.Time) error {
	m := svc.memory
	var alarms []alarm.Alarm
	left, reads := outlookAtOnce, newReader(measures)
	for key, t := range k.things {
		of := k.thresholds(t)
		if len(of) == 0 {
			continue
		}
		f := r.of[key]
		for _, x := range of {
			if looksAhead(x) && f != nil && left > 0 && svc.foresee(ctx, reads, key, x.Measure, now) {
				left--
			}
		}
		alarms = append(alarms, m.panel.Step(t, of, func(name string) alarm.Reading { return m.reading(key, name, f) }, k.rests[key] != "", now)...)
	}
	m.panel.Keep(func(thing string) bool { return k.things[thing] != nil })
	m.book.Waits = m.waits(k, now)
	c := m.book.Step(k.graph, alarm.Find(k.graph, alarms), now)
	if m.unkept == nil {
		m.unkept = map[int64]alarm.Alert{}
	}
	for _, all := range [][]*alarm.Alert{c.Opened, c.Changed, c.Ended} {
		for _, a := range all {
			m.unkept[a.ID] = a.Kept()
		}
	}
	for _, a := range c.Opened {
		svc.log.Warn("alert", "id", a.ID, "cause", a.Title(), "severity", a.Severity.String(), "says", a.Words)
	}
	for _, a := range c.Ended {
		svc.log.Info("alert is over", "id", a.ID, "cause", a.Title())
	}
	if len(m.unkept) == 0 {
		return nil
	}
	if err := svc.store.KeepAlerts(ctx, slices.Collect(maps.Values(m.unkept))); err != nil {
		return err
	}
	clear(m.unkept)
	return nil
}

// afterRun is for how long at most it is waited after a run for how things are.
const afterRun = 2 * time.Minute

// waits says of things whether a run works on their deployment, or it is not known yet how they are after one.
func (m *Memory) waits(k *known, now time.Time) func(thing string) bool {
	if m.worked == nil {
		m.worked = map[int64]time.Time{}
	}
	for id := range k.works {
		m.worked[id] = now
	}
	return func(thing string) bool {
		t := k.things[thing]
		if t == nil || t.Deployment == 0 {
			return false
		}
		return k.works[t.Deployment] || now.Sub(m.worked[t.Deployment]) < afterRun && m.panel.Pending(thing)
	}
}

// reading is what is known of a measure of a thing now.
func (m *Memory) reading(key, name string, f *figures) alarm.Reading {
	if f == nil {
		return alarm.Reading{}
	}
	v, has := f.values[name]
	o := m.outlooks[key+" "+name]
	r := alarm.Reading{Has: has, Value: v, Trend: o.trend, Usual: o.usual}
	if limit := measure.Of(name).Limit; limit != "" {
		r.Limit = f.values[limit]
	}
	if name == measure.Answers || name == measure.On || name == measure.SiteAnswers {
		r.Said, r.Reached = f.said, f.reached
	}
	return r
}

// looksAhead reports that a threshold asks for more than what is now.
func looksAhead(t *alarm.Threshold) bool {
	for _, o := range []*alarm.Over{t.Warning, t.Critical} {
		if o != nil && (o.Full != "" || o.Unlike > 0) {
			return true
		}
	}
	return false
}

// foresee works out how a measure goes on, if that was long ago; false if it was not.
func (svc *Service) foresee(ctx context.Context, reads *reader, key, name string, now time.Time) bool {
	m := svc.memory
	if m.outlooks == nil {
		m.outlooks = map[string]outlook{}
	}
	o := m.outlooks[key+" "+name]
	if now.Sub(o.at) < outlookFor {
		return false
	}
	o = outlook{thing: key, at: now}
	id := m.ids[key].id
	if points, err := reads.curve(ctx, id, name, now.Add(-trendOver), now, 10*time.Minute); err == nil {
		o.trend = alarm.TrendOf(points)
	}
	if points, err := reads.curve(ctx, id, name, now.Add(-usualOver), now, 10*time.Minute); err == nil {
		o.usual = alarm.UsualOf(points, measure.Of(name).Step, now)
	}
	m.outlooks[key+" "+name] = o
	return true
}
