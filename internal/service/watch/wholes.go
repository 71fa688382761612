package watch

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
)

// whole is what is measured together: the machines and what answers on them of a site, of a deployment, or of a tier of one.
type whole struct {
	thing     measure.Thing
	machines  []string
	endpoints []string
}

// join has what belongs together be known as things of their own.
func (k *known) join() {
	all := map[string]*whole{}
	tiers := map[int64]map[string]bool{}
	for _, key := range slices.Sorted(maps.Keys(k.things)) {
		t := k.things[key]
		for _, of := range wholesOf(t) {
			w := all[of.Key]
			if w == nil {
				w = &whole{thing: of}
				all[of.Key] = w
			}
			if t.Kind == measure.OfInstance {
				w.machines = append(w.machines, key)
			} else {
				w.endpoints = append(w.endpoints, key)
			}
			if of.Tier != "" && tiers[of.Deployment] == nil {
				tiers[of.Deployment] = map[string]bool{}
			}
			if of.Tier != "" {
				tiers[of.Deployment][of.Tier] = true
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(all)) {
		w := all[key]
		if t := &w.thing; len(w.machines) == 0 || t.Tier != "" && (len(w.machines) == 1 || len(tiers[t.Deployment]) == 1) {
			continue // it would say again what its machine, or its deployment, says
		}
		k.wholes = append(k.wholes, w)
		if k.works[w.thing.Deployment] {
			k.rests[w.thing.Key] = underWay
		}
		k.add(w.thing, alarm.Node{Rank: alarm.Whole, Service: w.thing.Service, Holds: append(slices.Clone(w.machines), w.endpoints...)})
	}
}

// wholesOf are those that a thing belongs to.
func wholesOf(t *measure.Thing) []measure.Thing {
	var out []measure.Thing
	if t.Kind == measure.OfInstance {
		out = append(out, measure.Thing{Key: measure.WholeKey(measure.SiteKey(t.Site)), Kind: measure.OfWhole, Name: "all at " + t.Site, Site: t.Site})
	}
	if t.Deployment == 0 || t.Kind != measure.OfInstance && t.Kind != measure.OfEndpoint {
		return out
	}
	of := measure.Thing{Key: measure.WholeKey(fmt.Sprint("d", t.Deployment)), Kind: measure.OfWhole, Name: "all of " + t.Of, Deployment: t.Deployment, Of: t.Of, Team: t.Team}
	out = append(out, of)
	if t.Tier != "" {
		of.Key, of.Name, of.Tier, of.Service = of.Key+"/"+t.Tier, "all of "+cmp.Or(t.Service, t.Tier), t.Tier, t.Service
		out = append(out, of)
	}
	return out
}

// together measures what belongs together by what was measured of each: what tells nothing is not in the sum.
func (r *round) together(k *known) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, w := range k.wholes {
		values := map[string]float64{}
		for _, key := range w.machines {
			f := r.of[key]
			if f == nil {
				continue
			}
			for name, into := range measure.Wholes {
				if v, told := f.values[name]; told {
					values[into] += v
				}
			}
		}
		r.answering(w, values)
		if len(values) > 0 {
			r.of[w.thing.Key] = &figures{values: values}
		}
	}
}

// answering has in what is measured together how much of what was asked answers, and how long the slowest takes.
func (r *round) answering(w *whole, values map[string]float64) {
	asked, good := 0.0, 0.0
	for _, key := range w.endpoints {
		f := r.of[key]
		if f == nil {
			continue
		}
		if v, told := f.values[measure.Answers]; told {
			asked, good = asked+1, good+v
		}
		if took, told := f.values[measure.AnswerTime]; told {
			values[measure.WholeSlowest] = max(values[measure.WholeSlowest], took)
		}
	}
	if asked > 0 {
		values[measure.WholeAnswers] = good / asked
	}
}
