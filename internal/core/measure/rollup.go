package measure

import (
	"fmt"
	"math"
	"slices"
	"time"
)

// bucket gathers what is known of one span of time, in steps of its measure.
type bucket struct {
	sum      float64
	min, max int64
	n        int
}

func (b *bucket) add(mean float64, low, high int64) {
	if b.n == 0 {
		b.min, b.max = low, high
	}
	b.sum, b.min, b.max, b.n = b.sum+mean, min(b.min, low), max(b.max, high), b.n+1
}

// whole is a column of a row in all its parts: each sample's mean, least and most, and whether it is there.
type whole struct {
	mean, low, high []int64
}

// columnsOf are the columns of a row, by measure, or that of one of them alone where only is not "". Those of a raw row are their own least and most.
func columnsOf(r *Row, only string) (map[string]*whole, error) {
	if r.Level < Raw || r.Level >= levels {
		return nil, fmt.Errorf("a row of measures has level %d, which there is not", r.Level)
	}
	packed, err := Unpack(r.Body)
	if err != nil {
		return nil, err
	}
	out := map[string]*whole{}
	for _, c := range packed {
		if only != "" && c.Name != only {
			continue
		}
		w := out[c.Name]
		if w == nil {
			w = &whole{}
			out[c.Name] = w
		}
		values := blank(r.Level.Slots())
		if err := read(c.Data, r.Level.Slots(), func(slot, q int64) { values[slot] = q }); err != nil {
			return nil, err
		}
		switch c.Part {
		case Mean:
			w.mean = values
		case Min:
			w.low = values
		case Max:
			w.high = values
		}
	}
	for name, w := range out {
		if w.mean == nil {
			return nil, fmt.Errorf("a row of measures has no means of %s", name)
		}
		if w.low == nil {
			w.low = w.mean
		}
		if w.high == nil {
			w.high = w.mean
		}
	}
	return out, nil
}

func blank(n int64) []int64 { return slices.Repeat([]int64{missing}, int(n)) }

// RollUp makes the row of the next level of rows of one thing, which cover its time as far as anything is known: each span has the mean, the least and the most of
// what it is made of. The row has an empty body where nothing is known.
func RollUp(rows []Row, to Level, first int64) (Row, error) {
	out := Row{Level: to, First: first}
	buckets := map[string][]bucket{}
	var names []string
	for i := range rows {
		r := &rows[i]
		out.Thing = r.Thing
		columns, err := columnsOf(r, "")
		if err != nil {
			return out, err
		}
		for name, w := range columns {
			if buckets[name] == nil {
				buckets[name] = make([]bucket, to.Slots())
				names = append(names, name)
			}
			w.into(buckets[name], r, to, first)
		}
	}
	slices.Sort(names)
	var columns []Column
	for _, name := range names {
		columns = append(columns, partsOf(name, buckets[name])...)
	}
	out.Body = Pack(columns)
	return out, nil
}

// into adds the samples of a column to the spans that they are in.
func (w *whole) into(spans []bucket, r *Row, to Level, first int64) {
	for i, q := range w.mean {
		if q == missing {
			continue
		}
		span := to.Slot(r.Level.At(r.First+int64(i))) - first
		if span >= 0 && span < int64(len(spans)) {
			spans[span].add(float64(q), w.low[i], w.high[i])
		}
	}
}

// partsOf are the three columns of a measure.
func partsOf(name string, spans []bucket) []Column {
	var mean, low, high pen
	for i := range spans {
		b := &spans[i]
		if b.n == 0 {
			continue
		}
		mean.put(int64(i), int64(math.Round(b.sum/float64(b.n))))
		low.put(int64(i), b.min)
		high.put(int64(i), b.max)
	}
	return []Column{{name, Mean, mean.column()}, {name, Min, low.column()}, {name, Max, high.column()}}
}

// Curve makes points of rows, which may be of several levels and overlap: of each span between two points the finest rows that know of it count. Points begin at from,
// step apart, and end before to.
func Curve(rows []Row, name string, from, to time.Time, step time.Duration) ([]Point, error) {
	if step <= 0 || !to.After(from) {
		return nil, nil
	}
	n := int((to.Sub(from) + step - 1) / step)
	m := Of(name)
	byLevel := [levels][]bucket{}
	for i := range rows {
		r := &rows[i]
		columns, err := columnsOf(r, name)
		if err != nil {
			return nil, err
		}
		w := columns[name]
		if w == nil {
			continue
		}
		if byLevel[r.Level] == nil {
			byLevel[r.Level] = make([]bucket, n)
		}
		for k, q := range w.mean {
			at := r.Level.At(r.First + int64(k))
			if q != missing && !at.Before(from) && at.Before(to) {
				byLevel[r.Level][at.Sub(from)/step].add(float64(q), w.low[k], w.high[k])
			}
		}
	}
	out := make([]Point, n)
	for i := range out {
		out[i].At = from.Add(time.Duration(i) * step)
		for _, spans := range byLevel {
			if spans != nil && spans[i].n > 0 {
				b := &spans[i]
				out[i].Mean, out[i].Min, out[i].Max, out[i].N = b.sum/float64(b.n)*m.Step, float64(b.min)*m.Step, float64(b.max)*m.Step, b.n
				break
			}
		}
	}
	return out, nil
}

// Squeeze makes of points no more than so many: each the mean of those that it stands for, with the least and most of them.
func Squeeze(points []Point, n int) []Point {
	if n <= 0 || len(points) <= n {
		return points
	}
	out := make([]Point, n)
	for i := range points {
		p, into := &points[i], &out[i*n/len(points)]
		if p.N == 0 {
			continue
		}
		if into.N == 0 {
			*into = *p
			continue
		}
		into.Mean = (into.Mean*float64(into.N) + p.Mean*float64(p.N)) / float64(into.N+p.N)
		into.Min, into.Max, into.N = min(into.Min, p.Min), max(into.Max, p.Max), into.N+p.N
	}
	return out
}
