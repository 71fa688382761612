package change_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"pgregory.net/rapid"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// world is a model of what sites hold, which refuses what real ones refuse.
type world struct {
	things map[string]*thing
	count  int
	// tolerant are steps whose work may be there or not, so that doing or undoing them is never refused.
	tolerant map[string]bool
}

// thing is a network, volume, instance, interface, attachment or piece of software.
type thing struct {
	kind, spec, site string
	number           int
	off              bool
	// links are the things a link joins.
	links []string
	// software
	on                 string
	created            string
	configured         string
	address, addressOf string
	started            bool
	// members are those of a load balancer, by name: the interface at which each is asked, and which one that was.
	members map[string][2]string
	// keeps are the disks on which software put something when it was created.
	keeps map[string]int
}

func newWorld() *world { return &world{things: map[string]*thing{}} }

// run does the steps of a plan in a random order that the plan allows.
func (w *world) run(t *rapid.T, p *plan.Plan) { w.steps(t, p, len(p.Steps), nil) }

func (w *world) steps(t *rapid.T, p *plan.Plan, most int, bad func(id string) bool) map[string]run.Status {
	status := map[string]run.Status{}
	for range most {
		var ready []*plan.Step
		for i := range p.Steps {
			s := &p.Steps[i]
			if status[s.ID] == "" && !slices.ContainsFunc(s.After, func(a string) bool { return status[a] != run.Standing }) {
				ready = append(ready, s)
			}
		}
		if len(ready) == 0 {
			break
		}
		s := rapid.SampledFrom(ready).Draw(t, "step")
		half := bad != nil && bad(s.ID)
		if half {
			status[s.ID] = run.Failed
			if rapid.Bool().Draw(t, "nothing was done") {
				continue
			}
		} else {
			status[s.ID] = run.Standing
		}
		if err := w.do(p, s); err != nil {
			t.Fatalf("%s: %v\nby %v", s.ID, err, ids(p))
		}
	}
	if bad == nil && len(status) != len(p.Steps) {
		t.Fatalf("%d of %d steps could be done", len(status), len(p.Steps))
	}
	return status
}

// partly does some steps of a plan, of which some end badly.
func (w *world) partly(t *rapid.T, p *plan.Plan) *run.State {
	status := w.steps(t, p, rapid.IntRange(0, len(p.Steps)).Draw(t, "steps"), func(id string) bool {
		return rapid.IntRange(0, 4).Draw(t, id+" fails") == 0
	})
	s := run.New(p)
	for i := range s.Steps {
		if st := status[s.Steps[i].ID]; st != "" {
			s.Steps[i].Status = st
		}
	}
	return s
}

func (w *world) do(p *plan.Plan, s *plan.Step) error {
	r := p.Resource(s.Resource)
	lenient := w.tolerant[s.ID] || slices.ContainsFunc(s.Drops, func(d string) bool { return w.tolerant[d] })
	switch s.Op {
	case op.Create:
		if s.Script != nil {
			return w.script(p, s, r)
		}
		if w.things[r.ID] != nil {
			return fmt.Errorf("it is there already")
		}
		w.count++
		w.things[r.ID] = &thing{kind: string(r.Kind), spec: spec(r), site: r.Site, number: w.count}
	case op.Plug:
		return w.join(r.ID, lenient, r.AsInterface().Instance, r.AsInterface().Network)
	case op.Attach:
		return w.join(s.Resource+" "+s.Volume, lenient, s.Resource, s.Volume)
	case op.Remove:
		return w.remove(r.ID, lenient)
	case op.Detach:
		return w.remove(s.Resource+" "+s.Volume, lenient)
	case op.Unplug:
		return w.remove(r.ID, lenient)
	case op.Halt:
		return w.halt(r.ID)
	case op.Boot:
		if w.things[r.ID] == nil {
			return fmt.Errorf("it is not there")
		}
		w.things[r.ID].off = false
		if r.AsInstance().Appliance != "" { // what it was told it knows
			for _, x := range w.things {
				x.started = x.started || x.on == r.ID && x.configured != ""
			}
		}
	case op.Alter:
		x := w.things[r.ID]
		if x == nil || x.kind == string(kinds.Instance) && !x.off {
			return fmt.Errorf("it cannot be altered so")
		}
		x.spec = spec(r)
	case op.Check, op.Answer:
		id := cmpOr(r.AsEndpoint().EndpointOf, r.ID)
		if x := w.things[id]; x == nil || !x.started {
			return fmt.Errorf("%s does not answer", id)
		}
		if s.Op == op.Answer && w.things[id].members != nil && !w.serves(w.things[id]) {
			return fmt.Errorf("%s has nobody to hand a request to", id)
		}
	case op.Balance:
		if w.things[r.On] == nil {
			return fmt.Errorf("%s is not there", r.On)
		}
		if w.things[r.ID] == nil {
			w.things[r.ID] = &thing{kind: "balancer", on: r.On, members: map[string][2]string{}}
		}
		w.things[r.ID].configured, w.things[r.ID].started = fmt.Sprintf("%+v", *s.Balancing), !w.things[r.On].off
	case op.Enroll, op.Dismiss:
		return w.member(s, r, lenient)
	case op.Clear, op.Sweep, op.Lose:
	default:
		return w.script(p, s, r)
	}
	return nil
}

// serves reports that a member of a load balancer runs.
func (w *world) serves(door *thing) bool {
	for name := range door.members {
		if x := w.things[name]; x != nil && x.started {
			return true
		}
	}
	return false
}

// member has a load balancer know a member, or not any more.
func (w *world) member(s *plan.Step, r *plan.Resource, lenient bool) error {
	x := w.things[r.ID]
	if x == nil {
		if lenient && s.Op == op.Dismiss {
			return nil
		}
		return fmt.Errorf("it was told nothing yet")
	}
	if s.Op == op.Dismiss {
		if _, is := x.members[s.Member.Name]; !is && !lenient {
			return fmt.Errorf("%s is no member", s.Member.Name)
		}
		delete(x.members, s.Member.Name)
		return nil
	}
	at := s.Member.Address.Resources()[0]
	if w.things[at] == nil {
		return fmt.Errorf("%s has no address", at)
	}
	x.members[s.Member.Name] = [2]string{at, fmt.Sprint(w.things[at].number)}
	return nil
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func spec(r *plan.Resource) string { return fmt.Sprintf("%+v %s", r.Spec, r.Site) }

func (w *world) join(id string, lenient bool, ends ...string) error {
	for _, e := range ends {
		if w.things[e] == nil {
			return fmt.Errorf("%s is not there", e)
		}
	}
	if w.things[ends[0]].site != w.things[ends[1]].site {
		return fmt.Errorf("%v are at different sites", ends)
	}
	if w.things[id] != nil && !lenient {
		return fmt.Errorf("it is joined already")
	}
	w.count++
	w.things[id] = &thing{kind: "link", links: ends, number: w.count}
	return nil
}

func (w *world) remove(id string, lenient bool) error {
	if w.things[id] == nil {
		if lenient {
			return nil
		}
		return fmt.Errorf("it is not there")
	}
	for other, x := range w.things {
		if slices.Contains(x.links, id) {
			return fmt.Errorf("%s is joined to it", other)
		}
	}
	delete(w.things, id)
	for other, x := range w.things {
		if x.on == id {
			delete(w.things, other)
		}
	}
	return nil
}

func (w *world) halt(id string) error {
	x := w.things[id]
	if x == nil {
		return fmt.Errorf("it is not there")
	}
	x.off = true
	for _, s := range w.things {
		if s.on == id {
			s.started = false
		}
	}
	return nil
}

// script runs a script: its instance must be on and plugged.
func (w *world) script(p *plan.Plan, s *plan.Step, r *plan.Resource) error {
	host := w.things[r.On]
	if host == nil || host.off {
		return fmt.Errorf("%s is not on", r.On)
	}
	if !slices.ContainsFunc(slices.Collect(maps.Values(w.things)), func(x *thing) bool { return slices.Contains(x.links, r.On) && strings.HasPrefix(x.links[1], "lan@") }) {
		return fmt.Errorf("%s cannot be reached", r.On)
	}
	x := w.things[r.ID]
	if s.Op == op.Create {
		if x == nil {
			w.things[r.ID] = &thing{kind: "software", on: r.On}
			x = w.things[r.ID]
		}
		x.created, x.keeps = p.Scripts[s.Script.Path], w.disksOf(r.On)
		return nil
	}
	if x == nil {
		return fmt.Errorf("it is not created")
	}
	switch s.Op {
	case op.Configure:
		if x.started && !w.tolerant[r.ID+"/start"] && p.Step(r.ID+"/stop") != nil {
			return fmt.Errorf("it runs while it is configured")
		}
		x.configured, x.address, x.addressOf = p.Scripts[s.Script.Path], "", ""
		for _, in := range s.Script.Inputs {
			x.addressOf = in.Value.Resources()[0]
			if w.things[x.addressOf] == nil {
				return fmt.Errorf("%s has no address", x.addressOf)
			}
			x.address = fmt.Sprint(w.things[x.addressOf].number)
		}
	case op.Start:
		if x.configured == "" {
			return fmt.Errorf("it is not configured")
		}
		x.started = true
	case op.Stop:
		x.started = false
	case op.Delete:
		delete(w.things, r.ID)
	}
	return nil
}

// disksOf are the volumes that are attached to an instance, by which each is: another of the same name is empty.
func (w *world) disksOf(instance string) map[string]int {
	out := map[string]int{}
	for _, x := range w.things {
		if x.kind == "link" && x.links[0] == instance && strings.HasPrefix(x.links[1], "vol-") {
			out[x.links[1]] = w.things[x.links[1]].number
		}
	}
	return out
}

// whole reports that software still has the disks to which it put something.
func (w *world) whole(x *thing) bool {
	now := w.disksOf(x.on)
	for id, number := range x.keeps {
		if now[id] != number {
			return false
		}
	}
	return true
}

// picture is the world without what depends on the order in which it was made. Whether the address that software was
// given is the right one is part of it.
func (w *world) picture() string {
	var out []string
	for id, x := range w.things {
		right := x.addressOf == "" || w.things[x.addressOf] != nil && fmt.Sprint(w.things[x.addressOf].number) == x.address
		var members []string
		for name, m := range x.members {
			members = append(members, fmt.Sprintf("%s at %s right=%v", name, m[0], w.things[m[0]] != nil && fmt.Sprint(w.things[m[0]].number) == m[1]))
		}
		slices.Sort(members)
		out = append(out, fmt.Sprintf("%v %s: %s %s off=%v links=%v on=%s %s %s whole=%v address of %s right=%v started=%v", members, id, x.kind, x.spec, x.off, x.links, x.on, x.created, x.configured, w.whole(x), x.addressOf, right, x.started))
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}
