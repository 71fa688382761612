package watch

import (
	"context"
	"errors"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/clock"
	"andamio/internal/core/measure"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// MeasureAll measures everything once, keeps it, and says what is wrong: who serves the workspace does so again and again, and nobody else.
func (svc *Service) MeasureAll(ctx context.Context, now time.Time) error {
	if err := svc.desk.Read("what is measured"); err != nil {
		return err
	}
	svc.memory.round.Lock()
	defer svc.memory.round.Unlock()
	measures, err := svc.measures(ctx)
	if err != nil {
		return err
	}
	if err := svc.resume(ctx, measures, now); err != nil {
		return err
	}
	k, err := svc.know(ctx, now)
	if err != nil {
		return err
	}
	r, err := svc.ask(ctx, k, now)
	if err != nil {
		return err
	}
	r.together(k)
	if err := svc.self(ctx, r, now); err != nil {
		return err
	}
	for _, t := range r.met { // machines that are in no inventory yet
		k.things[t.Key] = &t
	}
	if err := svc.forward(ctx, k, r, now); err != nil {
		return err
	}
	return errors.Join(svc.keep(ctx, measures, k, r, now), svc.judge(ctx, measures, k, r, now), svc.tidy(ctx, measures, now))
}

// self measures Andamio itself.
func (svc *Service) self(ctx context.Context, r *round, now time.Time) error {
	runs, err := svc.store.Runs(ctx)
	if err != nil {
		return err
	}
	dues, err := svc.store.Dues(ctx)
	if err != nil {
		return err
	}
	under, failed, late := 0, 0, time.Duration(0)
	newest := map[int64]bool{}
	for _, x := range runs { // the newest first
		switch {
		case x.State == run.UnderWay:
			under++
		case x.State == run.Failed && !x.Left && !newest[x.Deployment]:
			failed++
		}
		newest[x.Deployment] = true
	}
	for i := range dues {
		if v, err := clock.Judge(&dues[i], clock.CatchUp, now); err == nil && !v.Do.IsZero() {
			late = max(late, now.Sub(v.Do))
		}
	}
	r.put(measure.SelfKey, measure.RunsUnderWay, float64(under))
	r.put(measure.SelfKey, measure.RunsFailed, float64(failed))
	r.put(measure.SelfKey, measure.DueLate, late.Seconds())
	return nil
}

// resume takes up what whoever watched before left: what was measured and is in no row yet, and the alerts that go on.
func (svc *Service) resume(ctx context.Context, measures store.MeasuresStore, now time.Time) error {
	m := svc.memory
	if m.head != nil {
		return nil
	}
	tails, err := measures.Tails(ctx, -1)
	if err != nil {
		return err
	}
	head, rows, err := measure.Resume(tails, now)
	if err != nil {
		svc.log.Warn("what was measured last cannot be read, and is left out", "err", err)
		head, rows = measure.NewHead(now), nil
	}
	if err := measures.KeepRows(ctx, rows, measure.Raw.First(measure.Raw.Slot(now))-1); err != nil {
		return err
	}
	things, err := measures.Things(ctx)
	if err != nil {
		return err
	}
	open, err := svc.store.OpenAlerts(ctx)
	if err != nil {
		return err
	}
	last, err := svc.store.LastAlert(ctx)
	if err != nil {
		return err
	}
	m.ids = make(map[string]kept, len(things))
	for i := range things {
		m.ids[things[i].Key] = kept{id: things[i].ID}
	}
	m.book = &alarm.Book{Last: last}
	for i := range open {
		m.book.Open = append(m.book.Open, &open[i])
	}
	m.panel.Restore(m.book.Open)
	m.head = head
	return nil
}
