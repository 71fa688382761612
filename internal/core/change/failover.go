package change

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// begins looks that there is a whole copy of every disk of what is moved where it goes, and has software be put there again that stood otherwise when the copy
// was taken. What was on it and is wanted no more stays: that is no reason not to go on.
func (m *Moving) begins(from Standing, to *plan.Plan, kept *Standing) error {
	if !Whole(from, m.Set) {
		return fmt.Errorf("there is no whole copy %q", m.Set)
	}
	var own []disk
	for _, id := range m.Instances {
		for _, part := range partsOf(from.Plan, id) {
			r := from.Plan.Resource(part)
			if r.Kind != kinds.Instance && r.Kind != kinds.Volume {
				continue
			}
			there := to.Resource(part)
			if there == nil { // it is not in the design that it leads to
				continue
			}
			x := from.Plan.Resource(SnapshotID(CopyID(part, there.Site), m.Set))
			if x == nil {
				return fmt.Errorf("%s keeps no copy of %s", there.Site, part)
			}
			if x.DiskGiB() > there.DiskGiB() {
				return fmt.Errorf("%s is smaller by now than what was kept of it", part)
			}
			if r.Kind == kinds.Instance {
				own = append(own, disk{id: part, on: part})
			}
		}
	}
	forgetOtherBy(from, kept, own, func(id string) *plan.Resource {
		return from.Plan.Resource(SnapshotID(CopyID(id, to.Resource(id).Site), m.Set))
	})
	return nil
}

// restored has the disks of a workload hold what was kept of their copies, once they are there and nothing runs any more where it was, and returns these steps.
func (v *mover) restored(id, stop string) []string {
	to := v.c.to.Resource(id)
	var out []string
	for _, part := range partsOf(v.c.to, id) {
		r := v.c.to.Resource(part)
		if r.Kind != kinds.Instance && r.Kind != kinds.Volume {
			continue
		}
		s := v.add(plan.Step{Resource: part, Op: op.Restore, Site: to.Site, Title: "begin with " + v.m.Set, Seconds: 5,
			Restoring: &plan.Restoring{Snapshot: SnapshotID(CopyID(part, to.Site), v.m.Set), Set: v.m.Set}})
		v.wait(s, stop)
		v.wait(s, v.built(id)...)
		out = append(out, s)
	}
	return out
}

// withoutGone leaves out what would be done at sites that do not answer: what stands there goes on as it was.
func (m *Moving) withoutGone(from Standing, p *plan.Plan) {
	if len(m.Gone) == 0 {
		return
	}
	left := map[string]bool{}
	p.Steps = slices.DeleteFunc(p.Steps, func(s plan.Step) bool {
		if slices.Contains(m.Gone, s.Site) {
			left[s.ID] = true
		}
		return left[s.ID]
	})
	for i := range p.Steps {
		s := &p.Steps[i]
		s.After = slices.DeleteFunc(slices.Clone(s.After), func(a string) bool { return left[a] })
		s.AfterFailure = slices.DeleteFunc(slices.Clone(s.AfterFailure), func(a string) bool { return left[a] })
	}
	for i := range p.Resources {
		r := &p.Resources[i]
		if !slices.Contains(m.Gone, r.Site) {
			continue
		}
		if r.Change != plan.Keep {
			r.Change, r.Reasons = plan.Keep, []string{r.Site + " does not answer"}
		}
		if was := from.Plan.Resource(strings.TrimSuffix(r.ID, "@"+r.Site)); was != nil && isKept(r) {
			r.Off, r.Suspended = was.Off, was.Suspended
		}
	}
	plan.Reindexed(p)
}

// Fence is the plan that switches off what a move left behind on at a site that did not answer then: it must not serve beside what was failed over to.
func Fence(from Standing, site, purpose string) (*plan.Plan, error) {
	return halts(from, func(r *plan.Resource) bool { return r.Site == site && isKept(r) }, "it serves elsewhere by now", purpose)
}

// halts is the plan that switches off those instances that are on of which a function says so.
func halts(from Standing, which func(*plan.Resource) bool, why, purpose string) (*plan.Plan, error) {
	p := kept(from, purpose)
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind != kinds.Instance || r.Off && !r.Suspended || !which(r) {
			continue
		}
		r.Change, r.Reasons, r.Off = plan.Amend, []string{why}, true
		s := stepOf(op.Halt, r, "switch off", 1)
		s.Drops = runningIn(from.Plan, func(x *plan.Resource) bool { return instanceOf(from.Plan, x) == r.ID }) // it ends with it
		p.Steps = append(p.Steps, s)
	}
	return p, plan.Reindexed(p).Arrange()
}

// halted is what stands once instances are switched off that went over to a copy while they were on where they were, and the steps of that by instance: it is gone
// back from as if that had been done first.
func (m *Moving) halted(back Standing, started map[string]bool) (Standing, map[string]plan.Step, error) {
	if m.Mode != FromCopy {
		return back, nil, nil
	}
	p, err := halts(back, func(r *plan.Resource) bool { return started[r.ID] }, "it is had back from where it went", "")
	if err != nil {
		return back, nil, err
	}
	off := map[string]plan.Step{}
	for _, s := range p.Steps {
		off[s.Resource] = s
	}
	back, err = Done(back, p)
	return back, off, err
}

// isKept reports what a move left behind.
func isKept(r *plan.Resource) bool {
	suffix := "@" + r.Site
	return len(r.ID) > len(suffix) && r.ID[len(r.ID)-len(suffix):] == suffix
}

// NewestCopy is the set of whole copies at a site that was taken last; "" if there is none.
func NewestCopy(s Standing, site string) string {
	out, at := "", ""
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		of := r.AsSnapshot()
		taken := s.Plan.Known[r.ID][AttrTaken]
		if r.Kind == kinds.Snapshot && r.Site == site && strings.HasPrefix(of.Set, CopiedPrefix) && Whole(s, of.Set) && (out == "" || moment(taken).After(moment(at))) {
			out, at = of.Set, taken
		}
	}
	return out
}
