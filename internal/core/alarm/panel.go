package alarm

import (
	"slices"
	"strings"
	"time"

	"andamio/internal/core/measure"
)

// Panel holds what is measured of all things against their thresholds. The zero Panel has seen nothing.
type Panel struct {
	watches map[string]*Watch
	// things are the keys of the watches of each thing.
	things map[string][]string
}

// Step takes what is known of a thing now and returns what is over of it. What rests is expected to be as it is, and is over in nothing.
func (p *Panel) Step(thing *measure.Thing, of []*Threshold, read func(name string) Reading, rests bool, now time.Time) []Alarm {
	var out []Alarm
	keep := make([]string, 0, len(of))
	for _, t := range of {
		key := thing.Key + "\x00" + t.Name
		keep = append(keep, key)
		w := p.watch(key)
		if rests {
			w.Rest(now)
			continue
		}
		r := read(t.Measure)
		w.Step(t, &r, now)
		if w.State > Well {
			out = append(out, Alarm{Thing: thing.Key, Kind: thing.Kind, Name: thing.Name, Threshold: t.Name, Line: t.Line, Shipped: t.Shipped, Measure: t.Measure, Severity: w.State,
				Since: w.Since, Words: w.words(t, &r), Flaps: w.Flaps, Reached: w.reached(&r)})
		}
	}
	for _, key := range p.things[thing.Key] { // those of thresholds that are no more
		if !slices.Contains(keep, key) {
			delete(p.watches, key)
		}
	}
	p.things[thing.Key] = keep
	return out
}

func (p *Panel) watch(key string) *Watch {
	if p.watches == nil {
		p.watches, p.things = map[string]*Watch{}, map[string][]string{}
	}
	w := p.watches[key]
	if w == nil {
		w = &Watch{}
		p.watches[key] = w
	}
	return w
}

// Keep forgets all things but some: what is not there any more is over in nothing.
func (p *Panel) Keep(still func(thing string) bool) {
	for thing, keys := range p.things {
		if still(thing) {
			continue
		}
		for _, key := range keys {
			delete(p.watches, key)
		}
		delete(p.things, thing)
	}
}

// Pending reports that it is not known of a thing whether it is well: nothing was read of it yet, or something is over and not for long enough.
func (p *Panel) Pending(thing string) bool {
	keys, read := p.things[thing], false
	for _, key := range keys {
		w := p.watches[key]
		if w == nil {
			continue
		}
		if w.over() {
			return true
		}
		read = read || !w.Seen.IsZero()
	}
	return len(keys) > 0 && !read
}

// Restore has be over again what was over of alerts that go on, as whoever looked before left it.
func (p *Panel) Restore(open []*Alert) {
	for _, a := range open {
		for i := range a.Alarms {
			x := &a.Alarms[i]
			key := x.key()
			w := p.watch(key)
			w.State, w.Since, w.Seen, w.Said, w.Reached = x.Severity, x.Since, x.Since, x.Words, x.Reached
			if thing, _, _ := strings.Cut(key, "\x00"); !slices.Contains(p.things[thing], key) {
				p.things[thing] = append(p.things[thing], key)
			}
		}
	}
}

// words say what is over; where nothing is known any more, what was said last.
func (w *Watch) words(t *Threshold, r *Reading) string {
	if w.State == Unknown || r.Has && (w.Said == "" || w.over()) { // what flaps is well at times, and says nothing of why then
		w.Said = Words(t, r, w.State)
	}
	return w.Said
}

// reached reports that it answered and wrongly, by what was known last.
func (w *Watch) reached(r *Reading) bool {
	if r.Has {
		w.Reached = r.Reached
	}
	return w.Reached
}
