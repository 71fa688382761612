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
		m.unwritten = append(m.unwritten, m.head.Take(now)...)
	}
	if len(m.unwritten) > 0 { // their tails are kept until they are
		if err := measures.KeepRows(ctx, m.unwritten, m.unwritten[len(m.unwritten)-1].First); err != nil {
			return err
		}
		m.unwritten = nil
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
	m := svc.memory
	m.tidied = now
	return errors.Join(m.rollUp(ctx, measures, measure.Raw, now), m.rollUp(ctx, measures, measure.Fine, now), drop(ctx, measures, now))
}

// lateRows is how long after its end the rows of a time are taken to be all there.
const lateRows = 10 * time.Minute

// rollUp makes rows of the next level, of times of it that are over: from the oldest row on, and the last two times again and again. What there is much of is done
// in the rounds that follow.
func (m *Memory) rollUp(ctx context.Context, measures store.MeasuresStore, of measure.Level, now time.Time) error {
	to := of + 1
	last := to.First(to.Slot(now.Add(-lateRows-of.Row()))) - to.Slots()
	if m.rolled[of] == 0 {
		oldest, has, err := measures.Oldest(ctx, of)
		if err != nil || !has {
			return err
		}
		m.rolled[of] = to.First(to.Slot(of.At(oldest)))
	}
	for first := m.rolled[of]; first <= last; first += to.Slots() {
		if of == measure.Fine && m.rolled[measure.Raw] > 0 && to.At(first+to.Slots()).After(measure.Fine.At(m.rolled[measure.Raw])) {
			return nil // not all of what it is made of is made yet
		}
		done, err := rolled(ctx, measures, of, first)
		if err != nil || done > 0 {
			return err
		}
		m.rolled[of] = max(m.rolled[of], min(first+to.Slots(), last-to.Slots()))
	}
	return nil
}

// rolled makes the rows of the next level that begin at a slot, of so many things at most, and returns of how many.
func rolled(ctx context.Context, measures store.MeasuresStore, of measure.Level, first int64) (int, error) {
	to := of + 1
	from, until := of.Slot(to.At(first)), of.Slot(to.At(first+to.Slots()))
	things, err := measures.Unrolled(ctx, of, of.First(from), until, first, rollAtOnce)
	if err != nil {
		return 0, err
	}
	var rows []measure.Row
	for _, thing := range things {
		finer, err := measures.Rows(ctx, thing, of, of.First(from), until)
		if err != nil {
			return 0, err
		}
		row, err := measure.RollUp(finer, to, first)
		if err != nil {
			return 0, err
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return 0, nil
	}
	return len(rows), measures.KeepRows(ctx, rows, -1)
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
