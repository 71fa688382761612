package change

import (
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// After is what stands after a run of a plan, as far as it went, over what stood before it.
func After(before Standing, s *run.State) Standing {
	if !s.Started.IsZero() {
		before = Renamed(before, s.Plan.Renames)
	}
	f := newFold(before, s.Plan)
	for i := range s.Steps {
		f.step(&s.Steps[i])
		f.touched(&s.Steps[i])
	}
	f.attributes(s)
	return f.standing()
}

// Done is what stands after a plan whose steps were all done.
func Done(before Standing, p *plan.Plan) Standing {
	f := newFold(Renamed(before, p.Renames), p)
	for i := range p.Steps {
		f.done(&p.Steps[i])
	}
	return f.standing()
}

// fold works out what stands.
type fold struct {
	of        *plan.Plan
	resources map[string]plan.Resource
	steps     map[string]plan.Step
	unsure    map[string]bool
	known     map[string]map[string]string
	scripts   map[string]string
	files     map[string][]byte
	sites     []plan.Site
	since     map[string]time.Time
}

// touched notes when a step did something to its resource at a site; taking note of things does nothing to them.
func (f *fold) touched(s *run.Step) {
	at := s.Ended
	if at.IsZero() {
		at = s.Started
	}
	if at.IsZero() || s.Op == plan.Accept || s.Op == plan.Lose {
		return
	}
	for _, id := range []string{s.Resource, s.Volume} {
		if id != "" && at.After(f.since[id]) {
			f.since[id] = at
		}
	}
}

func newFold(before Standing, p *plan.Plan) *fold {
	f := &fold{of: p, resources: map[string]plan.Resource{}, steps: map[string]plan.Step{}, unsure: maps.Clone(before.Unsure),
		known: map[string]map[string]string{}, since: maps.Clone(before.Since), scripts: maps.Clone(before.Plan.Scripts), files: maps.Clone(before.Plan.Files)}
	if f.unsure == nil {
		f.unsure = map[string]bool{}
	}
	if f.since == nil {
		f.since = map[string]time.Time{}
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
	switch s.Status {
	case run.Standing:
		f.done(s.Step)
	case run.Passed:
		if !s.Skipped {
			f.done(s.Step)
		}
	case run.Failed, run.Stopped, run.UnderWay:
		if s.Op == plan.Halt || s.Op == plan.Suspend { // it may be off: nothing may count on its being on
			f.done(s.Step)
			f.unsure[haltOf(s.Resource)] = true
			return
		}
		if s.Op == plan.Stop { // it may have been stopped: nothing may count on its running
			for _, d := range s.Drops {
				f.unsure[d] = true
			}
		}
		if r := f.resources[s.Resource]; s.Op == plan.Boot { // it may be on: nothing may count on its being off
			r.Off = r.Off && !r.Spec.Asleep
			f.resources[s.Resource] = r
			if r.Off {
				f.unsure[haltOf(s.Resource)] = true
			}
		}
		if !s.Op.Takes() && !s.Op.Notes() && !s.Op.Moves() && s.Op != plan.Alter && s.Op != plan.Boot && s.Op != plan.Act {
			f.stand(s.Step)
			f.unsure[s.ID] = true
		}
	}
}

func (f *fold) done(s *plan.Step) {
	for _, d := range s.Drops {
		delete(f.steps, d)
		delete(f.unsure, d)
	}
	r := f.resources[s.Resource]
	switch s.Op {
	case plan.Halt, plan.Suspend:
		delete(f.unsure, haltOf(s.Resource))
		r.Off, r.Suspended = true, s.Op == plan.Suspend
		f.resources[s.Resource] = r
	case plan.Boot:
		delete(f.unsure, haltOf(s.Resource))
		r.Off, r.Suspended = false, false
		f.resources[s.Resource] = r
	case plan.Alter:
		off := r.Off
		f.resources[s.Resource] = *f.of.Resource(s.Resource)
		r = f.resources[s.Resource]
		r.Off = off
		f.resources[s.Resource] = r
	case plan.Remove:
		if r.Kind == plan.Instance {
			f.ruin(r.ID)
		}
	case plan.Accept:
		f.resources[s.Resource] = *f.of.Resource(s.Resource)
	case plan.Carry:
		f.carry(s.Resource)
	case plan.Replicate, plan.Follow, plan.Finish, plan.Hold, plan.Consolidate, plan.Release, plan.Reclaim, plan.Unname, plan.Fill:
	case plan.Lose, plan.Mend, plan.Act, plan.Detach, plan.Unplug, plan.Stop, plan.Delete, plan.Disconnect, plan.Clear, plan.Sweep:
	default:
		f.stand(s)
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

// haltOf is what in Unsure says that an instance may be off or on.
func haltOf(instance string) string { return instance + "/" + string(plan.Halt) }

// stand notes that a step's work is there. Its resource is as the plan has it from the first step that builds it; what
// is only altered is so from that step on.
func (f *fold) stand(s *plan.Step) {
	delete(f.unsure, s.ID)
	now := f.of.Resource(s.Resource)
	if old, stands := f.resources[s.Resource]; !stands || now.Kind != plan.Instance && now.Kind != plan.Volume || s.Op == plan.Create {
		r := *now
		r.Off = stands && s.Op != plan.Create && old.Off // what is built is on
		r.Off = r.Off || s.Op == plan.Create && r.Spec.Asleep
		f.resources[s.Resource] = r
	}
	stands := *s
	if s.Whole != nil {
		stands.After, stands.Whole = s.Whole, nil
	}
	f.steps[s.ID] = stands
}

// ruin drops what cannot be there any more when an instance is gone.
func (f *fold) ruin(instance string) {
	on := map[string]bool{}
	for id, r := range f.resources {
		on[id] = r.On == instance || r.PartOf == instance
	}
	for id, r := range f.resources {
		on[id] = on[id] || on[r.Spec.EndpointOf]
	}
	for id, s := range f.steps {
		if on[s.Resource] || s.Resource == instance {
			delete(f.steps, id)
			delete(f.unsure, id)
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
		Secrets: f.of.Secrets, Services: f.of.Services, Sites: f.sites, Outputs: f.of.Outputs, Workflow: f.of.Workflow,
		Triggers: f.of.Triggers, Zone: f.of.Zone, Origins: f.of.Origins, Scripts: f.scripts, Files: f.files, Known: map[string]map[string]string{}}
	stands := map[string]bool{}
	for _, s := range f.steps {
		stands[s.Resource] = true
	}
	for _, id := range slices.Sorted(maps.Keys(f.resources)) {
		r := f.resources[id]
		if !stands[id] {
			continue
		}
		r.Change, r.Reasons = "", nil
		r.StandsOn = slices.DeleteFunc(slices.Clone(r.StandsOn), func(on string) bool { return !stands[on] })
		p.Resources = append(p.Resources, r)
		p.CostPerHour += r.CostPerHour
		if a := f.known[id]; a != nil {
			p.Known[id] = a
		}
	}
	for _, id := range slices.Sorted(maps.Keys(f.steps)) {
		s := f.steps[id]
		s.Drops = nil
		p.Steps = append(p.Steps, s)
	}
	f.close(p)
	unsure := map[string]bool{}
	for id := range f.unsure {
		_, there := f.steps[id]
		if instance, halt := strings.CutSuffix(id, haltOf("")); there || halt && stands[instance] {
			unsure[id] = true
		}
	}
	return Standing{Plan: p, Unsure: unsure, Since: f.since}
}

// close makes a plan of what stands: what a step came after and does not stand is gone through to what came before it.
func (f *fold) close(p *plan.Plan) {
	all := map[string]*plan.Step{}
	for i := range f.of.Steps {
		all[f.of.Steps[i].ID] = &f.of.Steps[i]
	}
	var near func(ids []string, depth int) []string
	near = func(ids []string, depth int) []string {
		var out []string
		for _, a := range ids {
			if _, stands := f.steps[a]; stands {
				out = append(out, a)
			} else if s := all[a]; s != nil && depth < len(all) {
				out = append(out, near(s.After, depth+1)...)
			}
		}
		slices.Sort(out)
		return slices.Compact(out)
	}
	for i := range p.Steps {
		p.Steps[i].After = near(p.Steps[i].After, 0)
		p.Steps[i].AfterFailure = nil
	}
}

// Rest is a plan with some instances switched off: what runs on them is not started, and nothing asks it.
func Rest(p *plan.Plan, off func(*plan.Resource) bool) *plan.Plan {
	out := *p
	out.Resources = slices.Clone(p.Resources)
	resting := map[string]bool{}
	for i := range out.Resources {
		r := &out.Resources[i]
		if r.Kind == plan.Instance {
			r.Off = off(r)
			resting[r.ID] = r.Off
		}
	}
	gone := map[string][]string{}
	for i := range p.Steps {
		s := &p.Steps[i]
		if runs(s.Op) && resting[instanceOf(p, p.Resource(s.Resource))] {
			gone[s.ID] = s.After
		}
	}
	out.Steps = nil
	for _, s := range p.Steps {
		if _, dropped := gone[s.ID]; !dropped {
			s.After = through(s.After, gone)
			out.Steps = append(out.Steps, s)
		}
	}
	return plan.Reindexed(&out)
}

// through replaces steps that are gone by those they came after.
func through(ids []string, gone map[string][]string) []string {
	var out []string
	for _, a := range ids {
		if further, dropped := gone[a]; dropped {
			out = append(out, through(further, gone)...)
		} else {
			out = append(out, a)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
