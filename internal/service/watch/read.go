package watch

import (
	"context"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/measure"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// Measured lists the things that were measured of a deployment, or of all where it is 0.
func (svc *Service) Measured(ctx context.Context, deployment int64) ([]measure.Thing, error) {
	if deployment != 0 {
		if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
			return nil, err
		}
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return nil, err
	}
	all, err := measures.Things(ctx)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(t measure.Thing) bool { return deployment != 0 && t.Deployment != deployment })
	if deployment == 0 {
		if all, err = acting.Seen(ctx, svc.desk, all, thingOf); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(all, func(a, b measure.Thing) int { return a.Compare(&b) })
	return all, nil
}

// thingOf is a thing as what somebody looks at.
func thingOf(t measure.Thing) guard.Thing {
	out := guard.Thing{Name: t.Name, Deployment: t.Deployment}
	if t.Site != "" && t.Deployment == 0 {
		out.Sites = []string{t.Site}
	}
	return out
}

// Find is the thing that words mean: its key, its name, or the only one that has them in its name.
func Find(all []measure.Thing, words string) (measure.Thing, error) {
	var found []measure.Thing
	for _, t := range all {
		if t.Key == words {
			return t, nil
		}
		if t.Name == words || t.Resource == words {
			found = append(found, t)
		}
	}
	if len(found) == 0 {
		for _, t := range all {
			if strings.Contains(strings.ToLower(t.Name), strings.ToLower(words)) {
				found = append(found, t)
			}
		}
	}
	if some := slices.DeleteFunc(slices.Clone(found), func(t measure.Thing) bool { return t.Kind == measure.OfWhole }); len(some) > 0 {
		found = some // a machine, and all to which it belongs
	}
	if len(found) > 1 {
		if i := slices.IndexFunc(found, func(t measure.Thing) bool { return t.Kind == measure.OfInstance }); i >= 0 && !slices.ContainsFunc(found[i+1:], func(t measure.Thing) bool { return t.Kind == measure.OfInstance }) {
			return found[i], nil // a machine and what answers on it
		}
	}
	switch len(found) {
	case 0:
		return measure.Thing{}, fault.NotFoundf("nothing is measured that is called %q; andamio measure lists what is", words)
	case 1:
		return found[0], nil
	}
	var keys []string
	for _, t := range found {
		keys = append(keys, t.Key)
	}
	return measure.Thing{}, fault.Invalidf("%q may be %s: name one of them", words, strings.Join(keys, ", or "))
}

// Curve is a measure of a thing over time, in points that are step apart.
func (svc *Service) Curve(ctx context.Context, t measure.Thing, name string, from, to time.Time, step time.Duration) ([]measure.Point, error) {
	if err := svc.desk.See(ctx, thingOf(t)); err != nil {
		return nil, err
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return nil, err
	}
	return newReader(measures).curve(ctx, t.ID, name, from, to, step)
}

// Total is what all of some things used together over time, in points that are step apart: of each the mean of those that are known then.
func (svc *Service) Total(ctx context.Context, things []measure.Thing, name string, from, to time.Time, step time.Duration) ([]measure.Point, error) {
	if err := svc.desk.Read("what is measured"); err != nil {
		return nil, err
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return nil, err
	}
	var out []measure.Point
	reads := newReader(measures)
	for i := range things {
		points, err := reads.curve(ctx, things[i].ID, name, from, to, step)
		if err != nil {
			return nil, err
		}
		if out == nil {
			out = make([]measure.Point, len(points))
			for k := range points {
				out[k].At = points[k].At
			}
		}
		for k := range points {
			if points[k].N > 0 {
				out[k].N, out[k].Mean = out[k].N+1, out[k].Mean+points[k].Mean
			}
		}
	}
	return out, nil
}

// reader reads what was measured of many things. What is in no row yet is read once a group, however many things of it are asked for.
type reader struct {
	measures store.MeasuresStore
	// open are the rows made of tails, by group and thing.
	open map[int64]map[int64][]measure.Row
}

func newReader(measures store.MeasuresStore) *reader {
	return &reader{measures, map[int64]map[int64][]measure.Row{}}
}

// curve reads the coarsest rows that tell points so far apart, and finer ones where there are none yet.
func (r *reader) curve(ctx context.Context, thing int64, name string, from, to time.Time, step time.Duration) ([]measure.Point, error) {
	rows, err := r.rows(ctx, thing, from, to, step)
	if err != nil {
		return nil, err
	}
	return measure.Curve(rows, name, from, to, step)
}

// rows are those of a thing that a curve is made of.
func (r *reader) rows(ctx context.Context, thing int64, from, to time.Time, step time.Duration) ([]measure.Row, error) {
	var rows []measure.Row
	for level := measure.Coarse; level >= measure.Raw && from.Before(to); level-- {
		if level > measure.Raw && level.Step() > step {
			continue
		}
		got, err := r.measures.Rows(ctx, thing, level, level.First(level.Slot(from)), level.Slot(to)+1)
		if err != nil {
			return nil, err
		}
		rows = append(rows, got...)
		if len(got) > 0 && level > measure.Raw { // finer ones are read from where these end
			from = level.At(got[len(got)-1].First + level.Slots())
		}
	}
	open, err := r.group(ctx, measure.GroupOf(thing))
	return append(rows, open[thing]...), err
}

// group are the rows of a group that are not whole yet, by thing.
func (r *reader) group(ctx context.Context, group int64) (map[int64][]measure.Row, error) {
	if known := r.open[group]; known != nil {
		return known, nil
	}
	tails, err := r.measures.Tails(ctx, group)
	if err != nil {
		return nil, err
	}
	byRow := map[int64][]measure.Tail{}
	for _, t := range tails {
		byRow[t.First] = append(byRow[t.First], t)
	}
	out := map[int64][]measure.Row{}
	for _, of := range byRow {
		joined, err := measure.Join(of)
		if err != nil {
			return nil, err
		}
		for _, row := range joined {
			out[row.Thing] = append(out[row.Thing], row)
		}
	}
	r.open[group] = out
	return out, nil
}

// Overview is a thing with its measures over time.
type Overview struct {
	measure.Thing
	Lines []Line `json:"lines"`
}

// Line is a measure over time, with what it is now and how much there is of it.
type Line struct {
	Name   string          `json:"measure"`
	Points []measure.Point `json:"points"`
	// Usual is what is usual at the hour of each point, nil where that is not known; it is worked out for what is selected alone.
	Usual []*alarm.Usual `json:"usual,omitempty"`
	Now   float64        `json:"now"`
	Limit float64        `json:"limit,omitempty"`
	// At is when it was measured last; zero if it was not within that time.
	At time.Time `json:"at,omitzero"`
}

// Line is the one of a measure; nil if it was not measured.
func (o *Overview) Line(name string) *Line {
	if i := slices.IndexFunc(o.Lines, func(l Line) bool { return l.Name == name }); i >= 0 {
		return &o.Lines[i]
	}
	return nil
}

// mostOverview is of how many things an overview is at most.
const mostOverview = 500

// Overview is everything that was measured of a deployment, or of sites and Andamio itself where it is 0, over the last while in so many points: of the first things, and of those of one resource whatever
// comes. A measure of which nothing is known in that time is left out, and so is a thing without any.
func (svc *Service) Overview(ctx context.Context, deployment int64, resource string, over time.Duration, points int, now time.Time) ([]Overview, error) {
	all, err := svc.Measured(ctx, deployment)
	if err != nil {
		return nil, err
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return nil, err
	}
	from, to, step := grid(over, points, now)
	var out []Overview
	reads := newReader(measures)
	for _, t := range all {
		if deployment == 0 && t.Deployment != 0 || len(out) >= mostOverview && (resource == "" || t.Resource != resource) {
			continue
		}
		o, err := reads.overview(ctx, t, from, to, step)
		if err != nil {
			return nil, err
		}
		if resource != "" && t.Resource == resource {
			if err := usual(ctx, reads, &o, over, now); err != nil {
				return nil, err
			}
		}
		if len(o.Lines) > 0 {
			out = append(out, o)
		}
	}
	return out, nil
}

// overview is everything that was measured of a thing in a time.
func (r *reader) overview(ctx context.Context, t measure.Thing, from, to time.Time, step time.Duration) (Overview, error) {
	o := Overview{Thing: t}
	rows, err := r.rows(ctx, t.ID, from, to, step)
	if err != nil {
		return o, err
	}
	has, err := measure.Ordered(t.Kind, rows)
	if err != nil {
		return o, err
	}
	for _, m := range has {
		l := Line{Name: m.Name}
		if l.Points, err = measure.Curve(rows, m.Name, from, to, step); err != nil {
			return o, err
		}
		if l.last() {
			o.Lines = append(o.Lines, l)
		}
	}
	for i := range o.Lines {
		if limit := o.Line(measure.Of(o.Lines[i].Name).Limit); limit != nil {
			o.Lines[i].Limit = limit.Now
		}
	}
	return o, nil
}

// Wholes is what was measured of each deployment as a whole over the last while in so many points, of those that the actor may see, by its number.
func (svc *Service) Wholes(ctx context.Context, over time.Duration, points int, now time.Time) (map[int64]Overview, error) {
	all, err := svc.Measured(ctx, 0)
	if err != nil {
		return nil, err
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return nil, err
	}
	from, to, step := grid(over, points, now)
	out, reads := map[int64]Overview{}, newReader(measures)
	for _, t := range all {
		if t.Kind != measure.OfWhole || t.Deployment == 0 || t.Tier != "" {
			continue
		}
		if out[t.Deployment], err = reads.overview(ctx, t, from, to, step); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// grid is the time of about so many points over the last while, and how far they are apart: each is of as many samples, and stays where it is from one time to the next.
func grid(over time.Duration, points int, now time.Time) (from, to time.Time, step time.Duration) {
	raw := measure.Raw.Step()
	step = max((over/time.Duration(max(points, 1))+raw-1)/raw*raw, raw)
	to = now.Truncate(step).Add(step)
	return to.Add(-step * (over / step)), to, step
}

// usualWithin is how long a span of time is at most for which it is worked out what is usual at each hour of it.
const usualWithin = 7 * 24 * time.Hour

// usual works out what is usual at the points of all that is measured of a thing.
func usual(ctx context.Context, reads *reader, o *Overview, over time.Duration, now time.Time) error {
	if over > usualWithin {
		return nil
	}
	step := 10 * time.Minute
	for i := range o.Lines {
		l := &o.Lines[i]
		m := measure.Of(l.Name)
		if m.Unit == measure.State {
			continue
		}
		before, err := reads.curve(ctx, o.ID, l.Name, now.Add(-usualOver).Truncate(step), now, step)
		if err != nil {
			return err
		}
		l.Usual = usualAt(l.Points, before, m.Step)
	}
	return nil
}

// usualAt is what is usual at each of some points, by what was before: the same for all of an hour.
func usualAt(points, before []measure.Point, step float64) []*alarm.Usual {
	byHour, some := map[time.Time]*alarm.Usual{}, false
	out := make([]*alarm.Usual, len(points))
	for i := range points {
		hour := points[i].At.Truncate(time.Hour)
		u, known := byHour[hour]
		if !known {
			u = alarm.UsualOf(before, step, hour)
			byHour[hour] = u
		}
		out[i], some = u, some || u != nil
	}
	if !some {
		return nil
	}
	return out
}

// last finds what was measured last; false if nothing was.
func (l *Line) last() bool {
	for i := len(l.Points) - 1; i >= 0; i-- {
		if p := &l.Points[i]; p.N > 0 {
			l.Now, l.At = p.Mean, p.At
			return true
		}
	}
	return false
}

// Figure is one that was measured last.
type Figure struct {
	Name  string    `json:"measure"`
	Words string    `json:"words"`
	Value float64   `json:"value"`
	Limit float64   `json:"limit,omitempty"`
	Unit  string    `json:"unit,omitempty"`
	At    time.Time `json:"at"`
}

// latestWithin is how old a figure may be that is still told as the latest.
const latestWithin = 5 * time.Minute

// Figures are those of things that were measured last, by their keys, in the order of the catalogue. Things that the actor may not see are an error.
func (svc *Service) Figures(ctx context.Context, things []measure.Thing, now time.Time) (map[string][]Figure, error) {
	if len(things) == 0 {
		return nil, svc.desk.Read("what is measured")
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return nil, err
	}
	reads, out := newReader(measures), map[string][]Figure{}
	for i := range things {
		if err := svc.desk.See(ctx, thingOf(things[i])); err != nil {
			return nil, err
		}
		if out[things[i].Key], err = latest(ctx, reads, things[i].ID, things[i].Kind, now); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// latest are the figures of one thing.
func latest(ctx context.Context, reads *reader, thing int64, kind measure.Kind, now time.Time) ([]Figure, error) {
	from, to := measure.Raw.At(measure.Raw.Slot(now.Add(-latestWithin))), now.Add(measure.Raw.Step())
	rows, err := reads.rows(ctx, thing, from, to, measure.Raw.Step())
	if err != nil {
		return nil, err
	}
	has, err := measure.Ordered(kind, rows)
	if err != nil {
		return nil, err
	}
	values := map[string]measure.Point{}
	for _, m := range has {
		points, err := measure.Curve(rows, m.Name, from, to, measure.Raw.Step())
		if err != nil {
			return nil, err
		}
		for _, p := range points {
			if p.N > 0 {
				values[m.Name] = p
			}
		}
	}
	var out []Figure
	for _, m := range has {
		if p, known := values[m.Name]; known {
			out = append(out, Figure{m.Name, m.Words, p.Mean, values[m.Limit].Mean, string(m.Unit), p.At})
		}
	}
	return out, nil
}
