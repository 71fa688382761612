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

// soft is some software on a disk: how it was configured, with which number of whose interface, and whether it runs.
type soft struct {
	created, configured string
	port                string
	number              int
	runs                bool
}

// machine is an instance with its disks in one: what it wrote, and the software on it.
type machine struct {
	site          string
	on, suspended bool
	wrote         int
	disk          map[string]soft
	volumes       []string
}

// moveWorld is a model of sites between which workloads are moved. It refuses what real ones refuse, and never lets a
// workload be on twice or go on without what it wrote.
type moveWorld struct {
	machines map[string]*machine
	// plain are networks and volumes with their sites, ports interfaces with numbers that stand for their addresses.
	plain map[string]string
	ports map[string]int
	of    map[string]string // the machine of a port
	free  map[string]bool   // ports whose address is given up
	count int
	// truth is what each workload wrote last, wherever it was; moved are those that may be at two places.
	truth map[string]int
	// tolerant are steps of which it is not known whether they were done: taking them back does no harm if not.
	tolerant map[string]bool
}

func newMoveWorld() *moveWorld {
	return &moveWorld{machines: map[string]*machine{}, plain: map[string]string{}, ports: map[string]int{}, of: map[string]string{}, free: map[string]bool{}, truth: map[string]int{}}
}

// workload is the name of what an id stands for at whichever place.
func workload(id string) string {
	name, _, _ := strings.Cut(id, "@")
	return name
}

// rename gives things the ids that a plan knows them by.
func (w *moveWorld) rename(names map[string]string) {
	to := func(id string) string {
		if n, ok := names[id]; ok {
			return n
		}
		return id
	}
	machines, plain, ports, of, free := map[string]*machine{}, map[string]string{}, map[string]int{}, map[string]string{}, map[string]bool{}
	for id, m := range w.machines {
		for i, v := range m.volumes {
			m.volumes[i] = to(v)
		}
		machines[to(id)] = m
	}
	for id, x := range w.plain {
		plain[to(id)] = x
	}
	for id, n := range w.ports {
		ports[to(id)], of[to(id)] = n, to(w.of[id])
		if w.free[id] {
			free[to(id)] = true
		}
	}
	tolerant := map[string]bool{}
	for step := range w.tolerant {
		resource, op, _ := strings.Cut(step, "/")
		op, volume, attaches := strings.Cut(op, ":")
		if attaches {
			op += ":" + to(volume)
		}
		tolerant[to(resource)+"/"+op] = true
	}
	w.machines, w.plain, w.ports, w.of, w.free, w.tolerant = machines, plain, ports, of, free, tolerant
}

// some does steps of a plan in a random order that it allows: all, or most of them, the last of which may be broken off
// with or without what it does.
func (w *moveWorld) some(t *rapid.T, p *plan.Plan, most int) *run.State {
	s := run.New(p)
	s.Apply(run.Event{Seq: 1, Kind: run.RunStarted, At: at})
	w.rename(p.Renames)
	for n := 0; n < most; n++ {
		var ready []int
		for i := range s.Steps {
			if s.Steps[i].Status == run.Planned && !slices.ContainsFunc(s.Steps[i].After, func(a string) bool { return s.Step(a).Status != run.Standing }) {
				ready = append(ready, i)
			}
		}
		if len(ready) == 0 {
			break
		}
		st := &s.Steps[rapid.SampledFrom(ready).Draw(t, "step")]
		st.Status = run.Standing
		if most < len(p.Steps) && n == most-1 && rapid.Bool().Draw(t, "broken off") {
			st.Status = run.Stopped
			if rapid.Bool().Draw(t, "nothing was done") {
				break
			}
		}
		if err := w.do(p, st.Step); err != nil {
			t.Fatalf("%s: %v\nof %v", st.ID, err, ids(p))
		}
		if err := w.lawful(); err != nil {
			t.Fatalf("after %s: %v\nof %v", st.ID, err, ids(p))
		}
		w.write()
	}
	return s
}

// write has everything that is on write something.
func (w *moveWorld) write() {
	for id, m := range w.machines {
		if m.on {
			w.truth[workload(id)]++
			m.wrote = w.truth[workload(id)]
		}
	}
}

// lawful says when a workload is on at two places.
func (w *moveWorld) lawful() error {
	on := map[string]string{}
	for id, m := range w.machines {
		if other := on[workload(id)]; m.on && other != "" {
			return fmt.Errorf("%s and %s are on", other, id)
		}
		if m.on {
			on[workload(id)] = id
		}
	}
	return nil
}

func (w *moveWorld) do(p *plan.Plan, s *plan.Step) error {
	r := p.Resource(s.Resource)
	m := w.machines[r.ID]
	lenient := slices.ContainsFunc(s.Drops, func(d string) bool { return w.tolerant[d] })
	switch {
	case m == nil && lenient && r.Kind == kinds.Instance:
		return nil
	case s.Script != nil:
		return w.script(p, s, r)
	case s.Copying != nil:
		return w.copy(s)
	}
	switch s.Op {
	case op.Create:
		if r.Kind != kinds.Instance {
			w.plain[r.ID] = r.Site
			return nil
		}
		if m != nil {
			return fmt.Errorf("it is there already")
		}
		w.machines[r.ID] = &machine{site: r.Site, on: !r.AsInstance().Asleep, disk: map[string]soft{}}
		if !r.AsInstance().Asleep { // it begins with nothing
			w.truth[workload(r.ID)] = 0
		}
	case op.Attach:
		if m == nil || w.plain[s.Volume] != m.site {
			return fmt.Errorf("%s cannot be attached to %s", s.Volume, r.ID)
		}
		m.volumes = append(m.volumes, s.Volume)
	case op.Plug:
		on := w.machines[r.AsInterface().Instance]
		if on == nil || w.plain[r.AsInterface().Network] != on.site {
			return fmt.Errorf("it cannot be plugged into %s", r.AsInterface().Network)
		}
		w.count++
		w.ports[r.ID], w.of[r.ID] = w.count, r.AsInterface().Instance
	case op.Release:
		w.free[r.ID] = true
	case op.Reclaim:
		delete(w.free, r.ID)
	case op.Unplug:
		delete(w.ports, r.ID)
		delete(w.of, r.ID)
		delete(w.free, r.ID)
	case op.Detach:
		m.volumes = slices.DeleteFunc(m.volumes, func(v string) bool { return v == s.Volume })
	case op.Remove:
		return w.remove(r.ID, lenient)
	case op.Halt, op.Suspend:
		m.on, m.suspended = false, s.Op == op.Suspend
		if s.Op == op.Halt {
			w.still(m)
		}
	case op.Boot:
		return w.boot(r.ID, m)
	case op.Check:
		if !w.machines[r.On].on || !w.machines[r.On].disk[r.ID].runs {
			return fmt.Errorf("%s does not answer", r.ID)
		}
	case op.Answer:
		of := p.Resource(r.AsEndpoint().EndpointOf)
		if !w.machines[of.On].on || !w.machines[of.On].disk[of.ID].runs {
			return fmt.Errorf("%s does not answer", of.ID)
		}
	}
	return nil
}

// still ends what runs on a machine.
func (w *moveWorld) still(m *machine) {
	for id, x := range m.disk {
		x.runs = false
		m.disk[id] = x
	}
}

func (w *moveWorld) boot(id string, m *machine) error {
	if m == nil {
		return fmt.Errorf("it is not there")
	}
	if m.wrote != w.truth[workload(id)] {
		return fmt.Errorf("it begins with write %d of %d", m.wrote, w.truth[workload(id)])
	}
	m.on, m.suspended = true, false
	return nil
}

func (w *moveWorld) remove(id string, lenient bool) error {
	m := w.machines[id]
	if m == nil {
		if _, there := w.plain[id]; !there && !lenient {
			return fmt.Errorf("it is not there")
		}
		delete(w.plain, id)
		return nil
	}
	for port, of := range w.of {
		if of == id {
			return fmt.Errorf("%s is still plugged in", port)
		}
	}
	delete(w.machines, id)
	return nil
}

// copy copies disks: what is copied from goes on while rounds are made, and stands still for the last.
func (w *moveWorld) copy(s *plan.Step) error {
	for _, d := range s.Copying.Disks {
		from, to := w.machines[d.From], w.machines[d.To]
		if from == nil || to == nil {
			if w.plain[d.From] == "" || w.plain[d.To] == "" {
				return fmt.Errorf("%s cannot be copied to %s", d.From, d.To)
			}
			continue // a volume goes with its machine
		}
		switch {
		case to.on:
			return fmt.Errorf("%s is written to while it is on", d.To)
		case s.Op == op.Finish && from.on:
			return fmt.Errorf("%s is copied for the last time while it is on", d.From)
		}
		to.wrote, to.disk = from.wrote, maps.Clone(from.disk)
		if s.Op != op.Finish || !from.suspended {
			w.still(to)
		}
	}
	return nil
}

// script runs a script on the machine that the step names.
func (w *moveWorld) script(p *plan.Plan, s *plan.Step, r *plan.Resource) error {
	host := r.On
	if s.On != "" {
		host = s.On
	}
	m := w.machines[host]
	if m == nil || !m.on {
		return fmt.Errorf("%s is not on", host)
	}
	reached := false
	for port, of := range w.of {
		reached = reached || of == host && !w.free[port]
	}
	if !reached {
		return fmt.Errorf("%s cannot be reached", host)
	}
	x := m.disk[r.ID]
	switch s.Op {
	case op.Create:
		x.created = s.Script.Path
	case op.Configure:
		if x.created == "" {
			return fmt.Errorf("it is not there to be configured")
		}
		x.configured, x.port, x.number = s.Script.Path, "", 0
		for _, in := range s.Script.Inputs {
			x.port = in.Value.Resources()[0]
			if x.number = w.ports[x.port]; x.number == 0 {
				return fmt.Errorf("%s has no address", x.port)
			}
		}
	case op.Start:
		if x.configured == "" {
			return fmt.Errorf("it is not configured")
		}
		x.runs = true
	case op.Stop:
		x.runs = false
	case op.Delete:
		x = soft{}
	}
	m.disk[r.ID] = x
	return nil
}

// picture is what there is, without what depends on the order in which it was made: whether what software was given as
// somebody's address still is it belongs to that.
func (w *moveWorld) picture() string {
	var out []string
	for id, m := range w.machines {
		slices.Sort(m.volumes)
		text := fmt.Sprintf("%s at %s on=%v %v", id, m.site, m.on, m.volumes)
		for _, app := range slices.Sorted(maps.Keys(m.disk)) {
			x := m.disk[app]
			text += fmt.Sprintf(" [%s %s %s of %s right=%v runs=%v]", app, x.created, x.configured, x.port, x.port == "" || w.ports[x.port] == x.number, x.runs)
		}
		out = append(out, text)
	}
	for id, site := range w.plain {
		out = append(out, id+" at "+site)
	}
	for id := range w.ports {
		out = append(out, fmt.Sprintf("%s of %s given up=%v", id, w.of[id], w.free[id]))
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}
