package change

import (
	"maps"
	"slices"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// Following is what stands while a run goes on, step by step in the order of its journal. When all steps were followed, the resources
// that stand are those that [After] says.
type Following struct {
	f *fold
	// steps are those that stand, by their resource.
	steps map[string]map[string]bool
	// doubted is how it was before a step was in doubt, for when that is dispelled.
	doubted map[string]doubted
}

// doubted is how a step and its resource stood before the step was in doubt.
type doubted struct {
	step     plan.Step
	resource plan.Resource
	stood    bool
}

// Follow begins to follow a run of a plan over what stood before it.
func Follow(before Standing, p *plan.Plan) (*Following, error) {
	if err := known(p); err != nil {
		return nil, err
	}
	out := &Following{f: newFold(Renamed(before, p.Renames), p), doubted: map[string]doubted{}}
	out.index()
	return out, nil
}

// index sorts the steps that stand by their resource.
func (w *Following) index() {
	w.steps = map[string]map[string]bool{}
	for id, s := range w.f.steps {
		w.note(id, s.Resource)
	}
}

func (w *Following) note(step, resource string) {
	if w.steps[resource] == nil {
		w.steps[resource] = map[string]bool{}
	}
	w.steps[resource][step] = true
}

// undoubt has a step be as it was before it was in doubt. It may have been since it began, and how it ended counts alone.
func (w *Following) undoubt(s *run.Step) {
	was, is := w.doubted[s.ID]
	if !is {
		return
	}
	delete(w.doubted, s.ID)
	w.f.resources[s.Resource] = was.resource
	if was.stood {
		w.f.steps[s.ID] = was.step
	} else {
		delete(w.f.steps, s.ID)
	}
}

// Step takes into account how a step is by now, and returns the resources that may stand otherwise since.
func (w *Following) Step(s *run.Step) []string {
	touched := map[string]bool{s.Resource: true}
	for _, d := range s.Drops {
		if x, stands := w.f.steps[d]; stands {
			touched[x.Resource] = true
		}
	}
	w.undoubt(s)
	if s.Status != run.Standing && begun(s) {
		step, stood := w.f.steps[s.ID]
		w.doubted[s.ID] = doubted{step, w.f.resources[s.Resource], stood}
	}
	w.f.step(s)
	switch s.Op.Row().Fold {
	case op.Ruined: // what was on it goes with it
		for resource := range w.steps {
			touched[resource] = true
		}
		w.index()
	case op.Carried:
		for i := range w.f.of.Resources {
			if r := &w.f.of.Resources[i]; instanceOf(w.f.of, r) == s.Resource {
				touched[r.ID] = true
			}
		}
	}
	for _, id := range append([]string{s.ID}, s.Drops...) {
		if x, stands := w.f.steps[id]; stands {
			w.note(id, x.Resource)
			continue
		}
		for resource := range touched {
			delete(w.steps[resource], id)
		}
	}
	return slices.Sorted(maps.Keys(touched))
}

// Resource is how a resource stands; false if it does not.
func (w *Following) Resource(id string) (*plan.Resource, bool) {
	if len(w.steps[id]) == 0 {
		return nil, false
	}
	r, there := w.f.resources[id]
	return &r, there
}

// Resources are the ids of all that stand, sorted.
func (w *Following) Resources() []string {
	var out []string
	for id := range w.f.resources {
		if len(w.steps[id]) > 0 {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}
