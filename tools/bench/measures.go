package main

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/store/sqlite"
)

// What is measured of how much, and for how many rounds: until its rows are written, and some more.
const (
	measuredThings = 10_000
	measuredEach   = 20
	measuredRounds = 130
)

// machine names the thing of a number.
func machine(i int) measure.Thing {
	return measure.Thing{Key: measure.InstanceKey("vega", fmt.Sprint(i)), Kind: measure.OfInstance, Name: fmt.Sprint("machine ", i), Site: "vega", Deployment: int64(i/50 + 1), Of: fmt.Sprint("deployment ", i/50), Tier: "map"}
}

// measures measures what keeping and judging 20 measures of 10,000 things takes every 15 seconds, and reading a year of one.
func measures(dir string) ([]result, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	m, err := sqlite.OpenMeasures(ctx, filepath.Join(dir, "measures.db"))
	if err != nil {
		return nil, err
	}
	defer m.Close()
	things := make([]measure.Thing, measuredThings)
	for i := range things {
		things[i] = machine(i)
	}
	if things, err = m.KeepThings(ctx, things); err != nil {
		return nil, err
	}
	w := newGauged(things)
	now := time.Now().UTC().Truncate(measure.Raw.Row())
	w.head = measure.NewHead(now)
	before, peak := busy(), uint64(0)
	for range measuredRounds {
		if err := w.round(ctx, m, now); err != nil {
			return nil, err
		}
		now = now.Add(measure.Raw.Step())
		var mem runtime.MemStats
		runtime.ReadMemStats(&mem)
		peak = max(peak, mem.HeapInuse+mem.StackInuse)
	}
	each := (busy() - before) / measuredRounds
	size, err := m.Size(ctx)
	if err != nil {
		return nil, err
	}
	samples := float64(measuredThings*measuredEach) * measuredRounds
	year, err := aYear(ctx, m, things[0].ID, now)
	if err != nil {
		return nil, err
	}
	lost := w.siteLost(now)
	share := each.Seconds() / measure.Raw.Step().Seconds()
	return []result{
		{name: "20 measures of 10,000 things kept and judged, by round", figure: each, ratio: share, base: "of one core, every 15 s", most: 0.4},
		{name: "  memory for it, MB", figure: 0, ratio: float64(peak) / 1e6, base: "MB", most: 400},
		{name: "  on disk, bytes a sample", figure: 0, ratio: float64(size) / samples, base: "bytes", most: 2},
		{name: "the cause of 10,000 alarms", figure: lost, ratio: lost.Seconds() / each.Seconds(), base: "such a round", target: 500 * time.Millisecond},
		{name: "a year's overview of a thing", figure: year, ratio: year.Seconds() / each.Seconds(), base: "such a round", target: 100 * time.Millisecond},
	}, nil
}

// busy is how long the process has kept processors busy.
func busy() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// gauged is what whoever measures has in memory, and what things do by themselves.
type gauged struct {
	things []measure.Thing
	names  []string
	head   *measure.Head
	panel  alarm.Panel
	book   alarm.Book
	graph  *alarm.Graph
	wants  [][]*alarm.Threshold
	values []float64
	rand   *rand.Rand
}

func newGauged(things []measure.Thing) *gauged {
	w := &gauged{things: things, rand: rand.New(rand.NewPCG(1, 2))}
	for _, m := range measure.Catalogue {
		if m.Of == measure.OfInstance {
			w.names = append(w.names, m.Name)
		}
	}
	for len(w.names) < measuredEach {
		w.names = append(w.names, fmt.Sprint("own ", len(w.names)))
	}
	nodes := []alarm.Node{{ID: measure.SiteKey("vega"), Rank: alarm.Site, Name: "vega", Site: "vega"}}
	for i := range things {
		of, _ := alarm.Default().For(&things[i]) // they have no expressions that could fail
		w.wants = append(w.wants, of)
		nodes = append(nodes, alarm.Node{ID: things[i].Key, Rank: alarm.Instance, Name: things[i].Name, Site: "vega", On: []string{measure.SiteKey("vega")}})
	}
	w.graph = alarm.NewGraph(nodes)
	w.values = make([]float64, len(things)*measuredEach)
	for i := range w.values {
		w.values[i] = 400
	}
	return w
}

// round is one round of all: each measure goes up or down by up to ten steps, as processors and networks do; a third of them stay as they are, as sizes do.
func (w *gauged) round(ctx context.Context, m *sqlite.Measures, now time.Time) error {
	if !now.Before(w.head.Ends()) {
		first := measure.Raw.First(measure.Raw.Slot(w.head.Ends()) - 1)
		if err := m.KeepRows(ctx, w.head.Take(now), first); err != nil {
			return err
		}
	}
	moment := measure.Round{Slot: measure.Raw.Slot(now), Samples: make([]measure.Measured, 0, len(w.values))}
	var alarms []alarm.Alarm
	for i := range w.things {
		id := w.things[i].ID
		for k, name := range w.names {
			v := &w.values[i*measuredEach+k]
			if k%3 != 0 {
				*v = math.Abs(*v + float64(w.rand.IntN(21)-10))
			}
			x := *v * measure.Of(name).Step
			w.head.Put(id, name, now, x)
			moment.Samples = append(moment.Samples, measure.Measured{Thing: id, Name: name, Value: x})
		}
		alarms = append(alarms, w.panel.Step(&w.things[i], w.wants[i], func(string) alarm.Reading { return alarm.Reading{Has: true, Value: 1, Limit: 4} }, false, now)...)
	}
	w.book.Step(w.graph, alarm.Find(w.graph, alarms), now)
	return m.KeepTails(ctx, measure.Tails(moment))
}

// siteLost finds the cause of all things being off at once, though nothing is said of their site, and how long that takes.
func (w *gauged) siteLost(now time.Time) time.Duration {
	var alarms []alarm.Alarm
	for i := range w.things {
		alarms = append(alarms, alarm.Alarm{Thing: w.things[i].Key, Kind: measure.OfInstance, Threshold: "switched off", Measure: measure.On, Severity: alarm.Critical, Since: now})
	}
	began := time.Now()
	b := alarm.Book{}
	b.Step(w.graph, alarm.Find(w.graph, alarms), now)
	return time.Since(began)
}

// aYear keeps a year of a thing by the hour, and measures how long its curves take.
func aYear(ctx context.Context, m *sqlite.Measures, thing int64, now time.Time) (time.Duration, error) {
	first := measure.Coarse.First(measure.Coarse.Slot(now.AddDate(-1, 0, 0)))
	last := measure.Coarse.Slot(now)
	w := newGauged([]measure.Thing{machine(0)})
	var rows []measure.Row
	for ; first < last; first += measure.Coarse.Slots() {
		head := measure.NewHead(measure.Raw.At(0))
		for slot := range measure.Coarse.Slots() {
			for k, name := range w.names {
				w.values[k] = math.Abs(w.values[k] + float64(w.rand.IntN(21)-10))
				head.Put(thing, name, measure.Raw.At(slot), w.values[k]*measure.Of(name).Step)
			}
		}
		row := head.Of(thing)
		row.Level, row.First = measure.Coarse, first
		rows = append(rows, row)
	}
	if err := m.KeepRows(ctx, rows, -1); err != nil {
		return 0, err
	}
	began := time.Now()
	from := now.AddDate(-1, 0, 0)
	got, err := m.Rows(ctx, thing, measure.Coarse, measure.Coarse.Slot(from), last+1)
	if err != nil {
		return 0, err
	}
	for _, name := range w.names {
		if _, err := measure.Curve(got, name, from, now, 54*time.Hour); err != nil {
			return 0, err
		}
	}
	return time.Since(began), nil
}
