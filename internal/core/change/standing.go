package change

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// After is what stands after a run of a plan, as far as it went, over what stood before it.
func After(before Standing, s *run.State) (Standing, error) {
	if err := known(s.Plan); err != nil {
		return before, err
	}
	if !s.Started.IsZero() {
		before = Renamed(before, s.Plan.Renames)
	}
	f := newFold(before, s.Plan)
	f.stale(s)
	for i := range s.Steps {
		f.step(&s.Steps[i])
		f.touched(&s.Steps[i])
	}
	f.quiesced(s)
	f.attributes(s)
	return f.standing(), nil
}

// known says which operation of a plan nobody knows: what it leaves standing is not known either.
func known(p *plan.Plan) error {
	for i := range p.Steps {
		if s := &p.Steps[i]; !s.Op.Known() {
			return fmt.Errorf("what stands cannot be worked out: step %s is to %q, which is no operation", s.ID, s.Op)
		}
	}
	return nil
}

// Done is what stands after a plan whose steps were all done.
func Done(before Standing, p *plan.Plan) (Standing, error) {
	if err := known(p); err != nil {
		return before, err
	}
	f := newFold(Renamed(before, p.Renames), p)
	for i := range p.Steps {
		f.done(&p.Steps[i])
	}
	return f.standing(), nil
}

// fold works out what stands.
type fold struct {
	of *plan.Plan
	// was is what stood before the run.
	was       *plan.Plan
	resources map[string]plan.Resource
	steps     map[string]plan.Step
	unsure    map[string]bool
	known     map[string]map[string]string
	scripts   map[string]string
	files     map[string][]byte
	sites     []plan.Site
	since     map[string]time.Time
	order     map[string][]string
}

// stale has what was told of something that the run built anew, or puts out anew, be unsure: if the run did not come to
// telling it again, the next change does.
func (f *fold) stale(s *run.State) {
	built, putOut := map[string]bool{}, []plan.ScriptOutput{}
	for i := range s.Steps {
		st := &s.Steps[i]
		if !begun(st) {
			continue
		}
		f.bereaves(st.Step)
		if st.Op == op.Plug || st.Op == op.Create && st.Script == nil {
			built[st.Resource] = true
		}
		if st.Script != nil {
			putOut = append(putOut, st.Script.Outputs...)
		}
	}
	for id, st := range f.steps {
		told := slices.ContainsFunc(putOut, func(o plan.ScriptOutput) bool { return usesAttribute(&st, o) })
		for r := range attributesOf(&st) {
			told = told || built[r]
		}
		if told {
			f.unsure[id] = true
			f.unsure[stopOf(id)] = f.unsure[stopOf(id)] || st.Op == op.Start
		}
	}
}

// begun reports that a step was begun, however it is by now: one that is open again, since a worker ended or somebody chose so, may
// have done what it is to do. One that was not needed was not begun, nor one that a person skipped, unless the site took it.
func begun(s *run.Step) bool {
	switch s.Status {
	case run.Planned, run.Held:
		return !s.Started.IsZero()
	case run.Passed:
		return s.Skipped && s.AskedID != ""
	}
	return true
}

// touched notes when a step did something to its resource at a site; taking note of things does nothing to them.
func (f *fold) touched(s *run.Step) {
	at := s.Ended
	if at.IsZero() {
		at = s.Started
	}
	if at.IsZero() || s.Op == op.Accept || s.Op == op.Lose {
		return
	}
	for _, id := range []string{s.Resource, s.Volume} {
		if id != "" && at.After(f.since[id]) {
			f.since[id] = at
		}
	}
}

func newFold(before Standing, p *plan.Plan) *fold {
	f := &fold{of: p, was: before.Plan, resources: map[string]plan.Resource{}, steps: map[string]plan.Step{}, unsure: maps.Clone(before.Unsure),
		known: map[string]map[string]string{}, since: maps.Clone(before.Since), order: maps.Clone(before.Order), scripts: maps.Clone(before.Plan.Scripts), files: maps.Clone(before.Plan.Files)}
	if f.unsure == nil {
		f.unsure = map[string]bool{}
	}
	if f.since == nil {
		f.since = map[string]time.Time{}
	}
	if f.order == nil {
		f.order = map[string][]string{}
	}
	if f.scripts == nil {
		f.scripts = map[string]string{}
	}
	if f.files == nil {
		f.files = map[string][]byte{}
	}
	maps.Copy(f.scripts, p.Scripts)
	maps.Copy(f.files, p.Files)
	for _, r := range before.Plan.Resources {
		f.resources[r.ID] = r
	}
	for _, s := range before.Plan.Steps {
		f.steps[s.ID] = s
	}
	for id, a := range before.Plan.Known {
		f.known[id] = maps.Clone(a)
	}
	for _, list := range [][]plan.Site{p.Sites, before.Plan.Sites} {
		for _, s := range list {
			if !slices.ContainsFunc(f.sites, func(x plan.Site) bool { return x.Name == s.Name }) {
				f.sites = append(f.sites, s)
			}
		}
	}
	for _, of := range []*plan.Plan{before.Plan, p} {
		for i := range of.Steps {
			s := &of.Steps[i]
			if _, stands := f.steps[s.ID]; s.Op.Stays() && (!stands || f.order[s.ID] == nil) {
				f.order[s.ID] = whole(s) // that of one that stands holds until it is done again
			}
		}
	}
	maps.Copy(f.order, p.Order)
	// What is kept is known under its new titles.
	for _, r := range p.Resources {
		if r.Change == plan.Keep {
			if _, stands := f.resources[r.ID]; stands {
				f.resources[r.ID] = r
			}
		}
	}
	return f
}

// step takes a step of a run into account. One that was not needed is as good as done; one that a person skipped is not.
func (f *fold) step(s *run.Step) {
	switch {
	case s.Status == run.Standing, s.Status == run.Passed && !s.Skipped:
		f.done(s.Step)
	case begun(s) && s.Finds == "": // what was not found stands no more than before
		f.doubt(s.Step)
	}
}

// doubt takes a step into account of which nobody knows whether it was done.
func (f *fold) doubt(s *plan.Step) {
	switch s.Op.Row().Fold {
	case op.SwitchedOff, op.Suspended: // it may be off: nothing may count on its being on
		f.done(s)
		f.unsure[haltOf(s.Resource)] = true
		return
	case op.SwitchedOn, op.Recalled: // it may be on: nothing may count on its being off
		r := f.resources[s.Resource]
		r.Off = r.Off && !r.AsInstance().Asleep
		f.resources[s.Resource] = r
		f.unsure[haltOf(s.Resource)] = true
	case op.Altered: // it may be as it was or as it was to be
		f.unsure[alterOf(s.Resource)] = true
	case op.Reset:
		f.reset(s.Resource)
	}
	if s.Op.Takes() { // it may have been taken back: nothing may count on its being there
		for _, d := range s.Drops {
			if _, stands := f.steps[d]; stands {
				f.unsure[d] = true
				f.unsure[stopOf(d)] = f.unsure[stopOf(d)] || s.Op == op.Stop
			}
		}
	}
	if s.Op.Stays() {
		f.stand(s)
		f.unsure[s.ID] = true
	}
}

func (f *fold) done(s *plan.Step) {
	for _, d := range s.Drops {
		delete(f.steps, d)
		delete(f.unsure, d)
		delete(f.unsure, stopOf(d))
	}
	f.turn(s)
	if s.Op.Stays() {
		f.stand(s)
	}
}

// turn makes of a step's resource what its operation makes of it.
func (f *fold) turn(s *plan.Step) {
	r := f.resources[s.Resource]
	switch fold := s.Op.Row().Fold; fold {
	case op.SwitchedOff, op.Suspended, op.SwitchedOn, op.Recalled:
		delete(f.unsure, haltOf(s.Resource))
		r.Off, r.Suspended = fold != op.SwitchedOn && fold != op.Recalled, fold == op.Suspended
		f.resources[s.Resource] = r
		if fold == op.Recalled {
			f.recalled(s.Resource)
		}
	case op.Altered:
		delete(f.unsure, alterOf(s.Resource))
		off := r.Off
		r = *f.of.Resource(s.Resource)
		r.Off = off
		f.resources[s.Resource] = r
	case op.Ruined:
		if r.Kind == kinds.Instance {
			f.ruin(r.ID)
		}
	case op.Accepted:
		f.resources[s.Resource] = *f.of.Resource(s.Resource)
	case op.Carried:
		f.carry(s.Resource)
	case op.Reset:
		f.reset(s.Resource)
	}
}

// reset notes of what the plan does again on an instance, whose disk was another once, that it is not as it was until it is done.
func (f *fold) reset(instance string) {
	for i := range f.of.Steps {
		s := &f.of.Steps[i]
		if _, stands := f.steps[s.ID]; stands && s.Script != nil && cmp.Or(s.On, instanceOf(f.of, f.of.Resource(s.Resource))) == instance {
			f.unsure[s.ID] = true
		}
	}
}

// carry notes that everything on an instance is where the instance is.
func (f *fold) carry(instance string) {
	for i := range f.of.Resources {
		r := f.of.Resources[i]
		if instanceOf(f.of, &r) != instance {
			continue
		}
		if _, stands := f.resources[r.ID]; !stands {
			continue
		}
		f.resources[r.ID] = r
		for id, s := range f.steps {
			if s.Resource == r.ID {
				s.Site = r.Site
				f.steps[id] = s
			}
		}
	}
}

// stopOf is what in Unsure says that what a step started stood, and may still run though it was to be stopped.
func stopOf(start string) string { return op.Stop.On(start) }

// alterOf is what in Unsure says that a resource may be as it was to be or as it was before.
func alterOf(resource string) string { return op.Alter.On(resource) }

// haltOf is what in Unsure says that an instance may be off or on.
func haltOf(instance string) string { return op.Halt.On(instance) }

// stand notes that a step's work is there. Its resource is as the plan has it from the first step that builds it; what
// is only altered is so from that step on.
func (f *fold) stand(s *plan.Step) {
	delete(f.unsure, s.ID)
	delete(f.unsure, stopOf(s.ID))
	f.order[s.ID] = whole(s)
	now := f.of.Resource(s.Resource)
	if s.Op == op.Create {
		delete(f.unsure, alterOf(s.Resource))
	}
	if old, stands := f.resources[s.Resource]; !stands || now.Kind != kinds.Instance && now.Kind != kinds.Volume || s.Op == op.Create {
		r := *now
		r.Off = stands && s.Op != op.Create && old.Off                                            // what is built is on
		r.Off = r.Off || s.Op == op.Create && (r.AsInstance().Asleep || s.Finds != "" && now.Off) // or was off when it was found
		f.resources[s.Resource] = r
	}
	stands := *s
	stands.Finds = ""
	f.steps[s.ID] = stands
}

// ruin drops what cannot be there any more when an instance is gone.
func (f *fold) ruin(instance string) {
	on := map[string]bool{}
	for id, r := range f.resources {
		on[id] = r.On == instance || r.PartOf == instance
	}
	for id, r := range f.resources {
		on[id] = on[id] || on[r.AsEndpoint().EndpointOf]
	}
	for id, s := range f.steps {
		if on[s.Resource] || s.Resource == instance {
			delete(f.steps, id)
			delete(f.unsure, id)
		}
	}
}

// stands are the resources of which a step stands.
func (f *fold) stands() map[string]bool {
	out := map[string]bool{}
	for _, s := range f.steps {
		out[s.Resource] = true
	}
	return out
}

// bereaved drops what cannot be there since the instance that it would be on was never built: somebody went on without that.
func (f *fold) bereaved() {
	stands := f.stands()
	for id, s := range f.steps {
		r := f.resources[s.Resource]
		if of := r.AsEndpoint().EndpointOf; of != "" {
			r = f.resources[of]
		}
		for _, on := range []string{r.On, r.PartOf, r.AsInterface().Instance} {
			if on != "" && !stands[on] {
				delete(f.steps, id)
				delete(f.unsure, id)
			}
		}
	}
}

// attributes takes over what the run learned of what stands.
func (f *fold) attributes(s *run.State) {
	for i := range s.Resources {
		r := &s.Resources[i]
		if len(r.Attributes) > 0 {
			f.known[r.ID] = maps.Clone(r.Attributes)
		}
	}
}

// standing puts together what stands: resources of which a step stands, and those steps.
func (f *fold) standing() Standing {
	p := &plan.Plan{Version: plan.Version, Name: f.of.Name, Preset: f.of.Preset, Currency: f.of.Currency, Inputs: f.of.Inputs,
		Services: f.of.Services, Sites: f.sites, Outputs: f.of.Outputs, Workflow: f.of.Workflow,
		Triggers: f.of.Triggers, Zone: f.of.Zone, Origins: f.of.Origins, Lifted: f.of.Lifted, Template: f.of.Template, Revision: f.of.Revision, Source: f.of.Source, Scripts: f.scripts, Files: f.files, Known: map[string]map[string]string{}}
	f.bereaved()
	stands := f.stands()
	for _, id := range slices.Sorted(maps.Keys(f.resources)) {
		r := f.resources[id]
		if !stands[id] {
			continue
		}
		r.Change, r.Reasons = "", nil
		r.StandsOn = slices.DeleteFunc(slices.Clone(r.StandsOn), func(on string) bool { return !stands[on] })
		// It may be left over of what was taken away half, or of what somebody went on without.
		r.Dangle(func(on string) bool { return on != "" && !stands[on] })
		p.Resources = append(p.Resources, r)
		p.CostPerHour += r.Costs()
		if a := f.known[id]; a != nil {
			p.Known[id] = a
		}
	}
	for _, id := range slices.Sorted(maps.Keys(f.steps)) {
		s := f.steps[id]
		s.Drops = nil
		unpacked(&s, func(id string) bool { return stands[id] })
		p.Steps = append(p.Steps, s)
	}
	p.Secrets = p.SecretsAsked() // those of a run that took a snapshot are none
	settleOrder(p, f.order)
	unsure := map[string]bool{}
	for id, is := range f.unsure {
		if !is {
			continue
		}
		_, there := f.steps[strings.TrimSuffix(id, stopOf(""))]
		instance, halt := strings.CutSuffix(id, haltOf(""))
		altered, alter := strings.CutSuffix(id, alterOf(""))
		if there || halt && stands[instance] || alter && stands[altered] {
			unsure[id] = true
		}
	}
	return Standing{Plan: p, Unsure: unsure, Since: f.since, Order: f.order}
}

// settleOrder has each step of a plan of what stands come after those that stand: what it came after and does not stand
// is gone through to what came before that.
func settleOrder(p *plan.Plan, order map[string][]string) {
	stands := make(map[string]bool, len(p.Steps))
	for i := range p.Steps {
		stands[p.Steps[i].ID] = true
	}
	near := map[string][]string{}
	var reach func(id string) []string
	reach = func(id string) []string {
		if out, found := near[id]; found {
			return out
		}
		near[id] = nil // what waits for itself, through designs of different times, waits for nothing more
		var out []string
		for _, a := range order[id] {
			if stands[a] {
				out = append(out, a)
			} else {
				out = append(out, reach(a)...)
			}
		}
		slices.Sort(out)
		near[id] = slices.Compact(out)
		return near[id]
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		s.After, s.Whole, s.AfterFailure = slices.Clone(reach(s.ID)), order[s.ID], nil
	}
}
