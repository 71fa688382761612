package watch

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"andamio/internal/core/measure"
	"andamio/internal/store"
)

// kept is the number of a thing, and what was kept of it last.
type kept struct {
	id   int64
	body string
}

// keep keeps what was measured at a moment.
func (svc *Service) keep(ctx context.Context, measures store.MeasuresStore, k *known, r *round, now time.Time) error {
	m := svc.memory
	if err := svc.number(ctx, measures, k, r); err != nil {
		return err
	}
	if !now.Before(m.head.Ends()) {
		first := measure.Raw.First(measure.Raw.Slot(m.head.Ends()) - 1)
		if err := measures.KeepRows(ctx, m.head.Take(now), first); err != nil {
			return err
		}
	}
	moment := measure.Round{Slot: measure.Raw.Slot(now)}
	for key, f := range r.of {
		id := m.ids[key].id
		if id == 0 { // its site was removed in this moment
			continue
		}
		for name, v := range f.values {
			if m.head.Put(id, name, now, v) {
				moment.Samples = append(moment.Samples, measure.Measured{Thing: id, Name: name, Value: v})
			}
		}
	}
	return measures.KeepTails(ctx, measure.Tails(moment))
}

// number gives things that were measured their numbers, and keeps what is known of them where that is other than before.
func (svc *Service) number(ctx context.Context, measures store.MeasuresStore, k *known, r *round) error {
	var fresh []measure.Thing
	var bodies []string
	for key := range r.of {
		t := k.things[key]
		if t == nil {
			continue
		}
		body, err := json.Marshal(t)
		if err != nil {
			return err
		}
		if svc.memory.ids[key].body != string(body) {
			fresh, bodies = append(fresh, *t), append(bodies, string(body))
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	all, err := measures.KeepThings(ctx, fresh)
	if err != nil {
		return err
	}
	for i := range all {
		svc.memory.ids[all[i].Key] = kept{all[i].ID, bodies[i]}
	}
	return nil
}

// For how long rows are kept of each level, and how many bytes all of them may take: the oldest of the finest go first.
var keptFor = map[measure.Level]time.Duration{measure.Raw: 14 * 24 * time.Hour, measure.Fine: 90 * 24 * time.Hour, measure.Coarse: 2 * 366 * 24 * time.Hour}

const (
	mostBytes = 4 << 30
	// tidyEvery is how often rows are made coarser and dropped, rollAtOnce of how many things each time.
	tidyEvery  = time.Minute
	rollAtOnce = 400
)

// tidy makes coarser rows of those that are whole, and drops what is old.
func (svc *Service) tidy(ctx context.Context, measures store.MeasuresStore, now time.Time) error {
	if now.Sub(svc.memory.tidied) < tidyEvery {
		return nil
	}
	svc.memory.tidied = now
	return errors.Join(rollUp(ctx, measures, measure.Raw, now), rollUp(ctx, measures, measure.Fine, now), drop(ctx, measures, now))
}

// lateRows is how long after its end the rows of a time are taken to be all there.
const lateRows = 10 * time.Minute

// rollUp makes rows of the next level, of the last two times of it that are over: what was not measured then is not made later.
func rollUp(ctx context.Context, measures store.MeasuresStore, of measure.Level, now time.Time) error {
	to := of + 1
	last := to.First(to.Slot(now.Add(-lateRows-of.Row()))) - to.Slots()
	for _, first := range []int64{last - to.Slots(), last} {
		from, until := of.Slot(to.At(first)), of.Slot(to.At(first+to.Slots()))
		things, err := measures.Unrolled(ctx, of, of.First(from), until, first, rollAtOnce)
		if err != nil {
			return err
		}
		var rows []measure.Row
		for _, thing := range things {
			finer, err := measures.Rows(ctx, thing, of, of.First(from), until)
			if err != nil {
				return err
			}
			row, err := measure.RollUp(finer, to, first)
			if err != nil {
				return err
			}
			rows = append(rows, row)
		}
		if len(rows) > 0 {
			if err := measures.KeepRows(ctx, rows, -1); err != nil {
				return err
			}
		}
	}
	return nil
}

// drop has what is old be no more, and more of it where it takes too much room.
func drop(ctx context.Context, measures store.MeasuresStore, now time.Time) error {
	var errs []error
	for level, long := range keptFor {
		errs = append(errs, measures.Drop(ctx, level, level.Slot(now.Add(-long))))
	}
	size, err := measures.Size(ctx)
	if errs = append(errs, err); size > mostBytes {
		oldest, has, err := measures.Oldest(ctx, measure.Raw)
		if errs = append(errs, err); has {
			errs = append(errs, measures.Drop(ctx, measure.Raw, oldest+measure.Raw.Slots()))
		}
	}
	return errors.Join(errs...)
}
