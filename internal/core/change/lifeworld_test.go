package change_test

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"pgregory.net/rapid"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// lifeWorld is a model of what sites hold in which every step takes time: between its beginning and its end others begin
// and end. It refuses what real sites refuse, and sees what is taken away from under something that is being done or that
// runs, what is written, and what of that is lost.
type lifeWorld struct {
	machines map[string]*lifeMachine
	volumes  map[string]*lifeDisk
	nets     map[string]string // what they are
	ports    map[string]*lifePort
	count    int
	// clock counts steps that ended, in all plans.
	clock int
	// truth is what was written last to each disk, by its workload, wherever it was.
	truth map[string]int
	// unsure are steps of which it is not known whether they were done.
	unsure map[string]bool
	// acts are what was done before, for people to read.
	acts []string
	// cut are machines that nobody is sure to reach when a plan begins, or that may be off: nothing on them can be stopped.
	cut map[string]bool
	// snaps are the snapshots.
	// broke says that a step of the run that goes on failed: what was kept still may go on then.
	broke bool
	snaps map[string]*lifeSnap
	// uses are the things that each step under way needs, takes those that it takes away.
	uses, takes map[string][]string
	// gone are sites that do not answer: what is on there goes on.
	gone string
	// told, if given, has each plan that is run written down.
	told *strings.Builder
	// stands has what stands be written down, too, after each.
	stands bool
}

// lifeSnap is what a disk held, or the memory of a machine whose disks held so much.
type lifeSnap struct {
	site, spec string
	wrote      int
	soft       map[string]lifeSoft
	disks      map[string]int
}

// lifeDisk is a volume.
type lifeDisk struct {
	spec, site string
	wrote      int
	at         string // the machine it is attached to
	// soft is what is on a copy of a machine's own disk.
	soft map[string]lifeSoft
	// begins says that it holds what a copy elsewhere had: that is what counts once its machine is on.
	begins bool
}

// lifeMachine is an instance with its own disk.
type lifeMachine struct {
	spec, site    string
	on, suspended bool
	wrote         int
	begins        bool
	// void says that what it writes counts for nothing.
	void bool
	// aside says that it is on where nobody reached it while another went on in its place: what it writes is lost.
	aside bool
	soft  map[string]lifeSoft
}

type lifePort struct {
	machine, net string
	number       int // stands for its address
	given        bool
}

// lifeSoft is software on a machine's disk: how it was configured, with the number of whose port, and whether it runs and
// has an operation that stops it.
type lifeSoft struct {
	created, configured, port string
	number                    int
	runs, stops               bool
	// quiesces says that it has a script by which it keeps still, quiet that it does.
	quiesces, quiet bool
}

func newLifeWorld() *lifeWorld {
	return &lifeWorld{machines: map[string]*lifeMachine{}, volumes: map[string]*lifeDisk{}, nets: map[string]string{}, ports: map[string]*lifePort{},
		truth: map[string]int{}, snaps: map[string]*lifeSnap{}, uses: map[string][]string{}, takes: map[string][]string{}}
}

// rename gives things the ids that a plan knows them by.
func (w *lifeWorld) rename(names map[string]string) {
	to := func(id string) string {
		if n, ok := names[id]; ok {
			return n
		}
		return id
	}
	machines, volumes, ports := map[string]*lifeMachine{}, map[string]*lifeDisk{}, map[string]*lifePort{}
	for id, m := range w.machines {
		machines[to(id)] = m
	}
	for id, v := range w.volumes {
		v.at = to(v.at)
		volumes[to(id)] = v
	}
	for id, p := range w.ports {
		p.machine = to(p.machine)
		ports[to(id)] = p
	}
	w.machines, w.volumes, w.ports = machines, volumes, ports
}

// trouble says which steps end badly; nil lets all end well.
type trouble func(id string) bool

// run does the steps of a plan in any order that it allows, several at once, and says how each ended. Without trouble all
// must end.
func (w *lifeWorld) run(t *rapid.T, p *plan.Plan, bad trouble) *run.State {
	if w.told != nil {
		fmt.Fprintf(w.told, "\n== %s\n%s", w.acts[len(w.acts)-1], written(p))
	}
	s := run.New(p)
	s.Apply(run.Event{Seq: 1, Kind: run.RunStarted, At: at})
	w.rename(p.Renames)
	w.cut, w.broke = map[string]bool{}, false
	for id := range w.machines {
		w.cut[id] = true
	}
	for id, x := range w.ports {
		w.cut[x.machine] = w.cut[x.machine] && w.unsure[id+"/plug"]
	}
	for id := range w.machines {
		w.cut[id] = w.cut[id] || w.unsure[id+"/halt"] // whether it is on at all is not known
	}
	fail := func(id string, err error) {
		t.Fatalf("%v: %s: %v\nunder way %v\nof %v", w.acts, id, err, w.uses, ids(p))
	}
	ended := 0
	for {
		ready, going := w.choices(s)
		if len(ready)+len(going) == 0 {
			break
		}
		n := rapid.IntRange(0, len(ready)+len(going)-1).Draw(t, "next")
		if n < len(ready) {
			st := &s.Steps[ready[n]]
			if err := w.begin(p, st.Step); err != nil {
				fail(st.ID+" begins", err)
			}
			st.Status, st.Started = run.UnderWay, at.Add(time.Duration(w.clock)*time.Second)
			continue
		}
		st := &s.Steps[going[n-len(ready)]]
		st.Status = run.Standing
		if bad != nil && bad(st.ID) {
			st.Status = rapid.SampledFrom([]run.Status{run.Failed, run.Stopped}).Draw(t, "ends badly")
			w.broke = true
		}
		if st.Status == run.Standing || rapid.Bool().Draw(t, "done all the same") {
			if err := w.do(p, st.Step); err != nil {
				fail(st.ID, err)
			}
		}
		delete(w.uses, st.ID)
		delete(w.takes, st.ID)
		ended++
		w.clock++
		st.Ended = at.Add(time.Duration(w.clock) * time.Second)
		if err := w.lawful(); err != nil {
			fail(st.ID, err)
		}
		w.write()
	}
	for i := range s.Steps {
		if st := &s.Steps[i]; len(st.AfterFailure) > 0 && st.Status == run.Planned && !slices.ContainsFunc(s.Steps, func(x run.Step) bool { return x.Status == run.Failed }) {
			st.Status = run.Passed
			ended++
		}
	}
	if bad == nil && ended != len(s.Steps) {
		t.Fatalf("%d of %d steps could be done of %v", ended, len(s.Steps), ids(p))
	}
	openAgain(t, s)
	return s
}

// openAgain has some steps that ended badly be open again, as they are when the run was taken up once more and came no further.
func openAgain(t *rapid.T, s *run.State) {
	for i := range s.Steps {
		st := &s.Steps[i]
		if (st.Status == run.Failed || st.Status == run.Stopped) && rapid.IntRange(0, 3).Draw(t, "open again") == 0 {
			st.Status = run.Planned
		}
	}
}

// choices are the steps that may begin and those that may end.
func (w *lifeWorld) choices(s *run.State) (ready, going []int) {
	for i := range s.Steps {
		switch s.Steps[i].Status {
		case run.Planned:
			if f := s.Steps[i].AfterFailure; len(f) > 0 && !slices.ContainsFunc(f, func(a string) bool { return s.Step(a).Status == run.Failed }) {
				continue
			}
			if !slices.ContainsFunc(s.Steps[i].After, func(a string) bool { return s.Step(a).Status != run.Standing }) {
				ready = append(ready, i)
			}
		case run.UnderWay:
			going = append(going, i)
		}
	}
	return ready, going
}

// begin notes what a step needs and what it takes away, and refuses both of one thing at a time.
func (w *lifeWorld) begin(p *plan.Plan, s *plan.Step) error {
	uses, takes := w.touched(p, s)
	for other, used := range w.uses {
		if x := common(used, takes); x != "" {
			return fmt.Errorf("it takes %s away while %s is under way", x, other)
		}
	}
	for other, taken := range w.takes {
		if x := common(uses, taken); x != "" {
			return fmt.Errorf("it needs %s, which %s takes away", x, other)
		}
	}
	if err := w.runsOn(s, takes); err != nil {
		return err
	}
	w.uses[s.ID], w.takes[s.ID] = uses, takes
	return nil
}

func common(a, b []string) string {
	for _, x := range a {
		if slices.Contains(b, x) {
			return x
		}
	}
	return ""
}

// touched are the things that a step needs all the time, and those that it takes away.
func (w *lifeWorld) touched(p *plan.Plan, s *plan.Step) (uses, takes []string) {
	r := p.Resource(s.Resource)
	switch {
	case s.Script != nil:
		host := r.On
		if s.On != "" {
			host = s.On
		}
		return w.around(host), nil
	case s.Copying != nil:
		for _, d := range s.Copying.Disks {
			uses = append(uses, d.From, d.To)
		}
		return uses, nil
	}
	switch s.Op {
	case op.Attach:
		return []string{r.ID, s.Volume}, nil
	case op.Plug:
		return []string{r.AsInterface().Instance, r.AsInterface().Network}, nil
	case op.Check:
		return w.around(r.On), nil
	case op.Answer:
		return w.around(p.Resource(r.AsEndpoint().EndpointOf).On), nil
	case op.Boot, op.Recall:
		return []string{r.ID, power(r.ID)}, nil
	case op.Alter:
		return []string{r.ID}, nil
	case op.Detach:
		return nil, []string{s.Volume}
	case op.Halt, op.Suspend:
		return nil, []string{power(r.ID)}
	case op.Remove, op.Unplug, op.Release:
		return nil, []string{r.ID}
	}
	return nil, nil
}

// power is what a machine has that is on.
func power(machine string) string { return machine + " is on" }

// around are a machine with all that it has.
func (w *lifeWorld) around(machine string) []string {
	out := []string{machine, power(machine)}
	for id, v := range w.volumes {
		if v.at == machine {
			out = append(out, id)
		}
	}
	for id, p := range w.ports {
		if p.machine == machine {
			out = append(out, id, p.net)
		}
	}
	return out
}

// runsOn refuses to take away what something stands on that runs and could have been stopped.
func (w *lifeWorld) runsOn(s *plan.Step, takes []string) error {
	if s.Op == op.Suspend || s.Op == op.Release || s.Op == op.Halt && s.Title == "switch off" && s.On != "" {
		return nil
	}
	for id, m := range w.machines {
		if !m.on || w.cut[id] || m.aside || common(w.around(id), takes) == "" {
			continue
		}
		for name, x := range m.soft {
			if x.runs && x.stops && !w.unsure[name+"/start"] {
				return fmt.Errorf("%s still runs on %s", name, id)
			}
		}
	}
	return nil
}

// lawful says when a workload is on at two places.
func (w *lifeWorld) lawful() error {
	on := map[string]string{}
	for id, m := range w.machines {
		if m.site == w.gone || m.aside || m.void {
			continue
		}
		if other := on[workload(id)]; m.on && other != "" {
			return fmt.Errorf("%s and %s are on", other, id)
		}
		if m.on {
			on[workload(id)] = id
		}
	}
	return nil
}

func (w *lifeWorld) do(p *plan.Plan, s *plan.Step) error {
	r := p.Resource(s.Resource)
	lenient := w.unsure[s.ID] || slices.ContainsFunc(s.Drops, func(d string) bool { return w.unsure[d] })
	m := w.machines[r.ID]
	switch {
	case s.Script != nil:
		return w.script(p, s, r)
	case s.Copying != nil:
		return w.copy(s)
	}
	switch s.Op {
	case op.Create:
		return w.create(r)
	case op.Attach:
		v := w.volumes[s.Volume]
		if m == nil || v == nil || v.site != m.site || v.at != "" && !lenient {
			return fmt.Errorf("%s cannot be attached: %+v", s.Volume, v)
		}
		v.at = r.ID
	case op.Plug:
		on, net := w.machines[r.AsInterface().Instance], w.nets[r.AsInterface().Network]
		if on == nil || !strings.HasPrefix(net, on.site+" ") || w.ports[r.ID] != nil && !lenient {
			return fmt.Errorf("it cannot be plugged into %s", r.AsInterface().Network)
		}
		w.count++
		w.ports[r.ID] = &lifePort{machine: r.AsInterface().Instance, net: r.AsInterface().Network, number: w.count}
	case op.Restore:
		return w.restore(s)
	case op.Recall:
		return w.recall(s)
	case op.Detach:
		v := w.volumes[s.Volume]
		if (v == nil || v.at != r.ID) && !lenient {
			return fmt.Errorf("%s is not attached", s.Volume)
		}
		if v != nil {
			v.at = ""
		}
	case op.Unplug:
		if w.ports[r.ID] == nil && !lenient {
			return fmt.Errorf("it is not plugged in")
		}
		delete(w.ports, r.ID)
	case op.Remove:
		if err := w.forgets(p, s); err != nil {
			return err
		}
		return w.remove(r, lenient)
	case op.Halt, op.Suspend:
		if m == nil {
			return fmt.Errorf("it is not there")
		}
		m.on, m.suspended, m.aside = false, s.Op == op.Suspend, false
		if s.Op == op.Halt {
			m.still()
		}
	case op.Boot:
		return w.boot(r.ID)
	case op.Alter:
		if v := w.volumes[r.ID]; v != nil {
			v.spec = lifeSpec(r)
			return nil
		}
		if m == nil || m.on {
			return fmt.Errorf("it cannot be altered so")
		}
		m.spec = lifeSpec(r)
	case op.Release, op.Reclaim:
		if port := w.ports[r.ID]; port != nil {
			port.given = s.Op == op.Release
		}
	case op.Check, op.Answer:
		of := r
		if s.Op == op.Answer {
			of = p.Resource(r.AsEndpoint().EndpointOf)
		}
		if host := w.machines[of.On]; host == nil || !host.on || !host.soft[of.ID].runs {
			return fmt.Errorf("%s does not answer", of.ID)
		}
	}
	return nil
}

// lifeSpec is what a site is asked for of a machine or a volume.
func lifeSpec(r *plan.Resource) string {
	return fmt.Sprintf("%s %d %v %v %s", r.Kind, r.AsInstance().Cores, r.AsInstance().MemoryGiB, r.DiskGiB(), r.AsInstance().Image)
}

// still ends what runs on a machine.
func (m *lifeMachine) still() {
	for id, x := range m.soft {
		x.runs, x.quiet = false, false
		m.soft[id] = x
	}
}

func (w *lifeWorld) create(r *plan.Resource) error {
	switch r.Kind {
	case kinds.Network:
		if w.nets[r.ID] != "" {
			return fmt.Errorf("it is there already")
		}
		w.nets[r.ID] = r.Site + " " + r.AsNetwork().CIDR
	case kinds.Volume:
		if w.volumes[r.ID] != nil {
			return fmt.Errorf("it is there already")
		}
		w.volumes[r.ID] = &lifeDisk{spec: lifeSpec(r), site: r.Site}
	case kinds.Snapshot:
		return w.snap(r)
	case kinds.Instance:
		if w.machines[r.ID] != nil {
			return fmt.Errorf("it is there already")
		}
		if !r.AsInstance().Asleep && w.truth[workload(r.ID)] != 0 {
			return fmt.Errorf("it begins with nothing, and write %d was forgotten", w.truth[workload(r.ID)])
		}
		w.machines[r.ID] = &lifeMachine{spec: lifeSpec(r), site: r.Site, on: !r.AsInstance().Asleep, soft: map[string]lifeSoft{}}
	}
	return nil
}

func (w *lifeWorld) remove(r *plan.Resource, lenient bool) error {
	if r.Kind == kinds.Snapshot {
		if w.snaps[r.ID] == nil && !lenient {
			return fmt.Errorf("it is not there")
		}
		delete(w.snaps, r.ID)
		return nil
	}
	there := w.nets[r.ID] != "" || w.volumes[r.ID] != nil || w.machines[r.ID] != nil
	switch {
	case !there && !lenient:
		return fmt.Errorf("it is not there")
	case w.volumes[r.ID] != nil && w.volumes[r.ID].at != "":
		return fmt.Errorf("it is attached to %s", w.volumes[r.ID].at)
	}
	for id, p := range w.ports {
		if p.net == r.ID || p.machine == r.ID {
			return fmt.Errorf("%s is plugged into it", id)
		}
	}
	for id, v := range w.volumes {
		if v.at == r.ID {
			return fmt.Errorf("%s is attached to it", id)
		}
	}
	delete(w.nets, r.ID)
	delete(w.volumes, r.ID)
	delete(w.machines, r.ID)
	return nil
}

func (w *lifeWorld) boot(id string) error {
	m := w.machines[id]
	if m == nil {
		return fmt.Errorf("it is not there")
	}
	if m.begins { // what was written since the copy is lost
		m.begins, w.truth[workload(id)] = false, m.wrote
	}
	for name, v := range w.volumes {
		if v.at == id && v.begins {
			v.begins, w.truth[workload(name)] = false, v.wrote
		}
	}
	if m.wrote != w.truth[workload(id)] {
		return fmt.Errorf("it begins with write %d of %d", m.wrote, w.truth[workload(id)])
	}
	for name, v := range w.volumes {
		if v.at == id && v.wrote != w.truth[workload(name)] {
			return fmt.Errorf("it begins with write %d of %d on %s", v.wrote, w.truth[workload(name)], name)
		}
	}
	m.on, m.suspended = true, false
	return nil
}

// script runs a script on the machine that the step names, which must be on and plugged in.
func (w *lifeWorld) script(p *plan.Plan, s *plan.Step, r *plan.Resource) error {
	host := cmp.Or(s.On, r.On, r.ID)
	m := w.machines[host]
	if m == nil || !m.on {
		return fmt.Errorf("%s is not on", host)
	}
	if !slices.ContainsFunc(slices.Collect(maps.Values(w.ports)), func(x *lifePort) bool { return x.machine == host && !x.given }) {
		return fmt.Errorf("%s cannot be reached", host)
	}
	x := m.soft[r.ID]
	if s.Op == op.Do {
		if _, there := m.soft[r.ID]; there { // it is a script of software, and of no machine
			x.quiet = op.ParseID(s.ID).Part == "quiesce"
			m.soft[r.ID] = x
		}
		return nil
	}
	switch s.Op {
	case op.Create:
		x.created = p.Scripts[s.Script.Path]
	case op.Configure:
		if x.created == "" {
			return fmt.Errorf("it is not there to be configured")
		}
		if x.runs && x.stops && !w.unsure[r.ID+"/start"] && !w.cut[host] {
			return fmt.Errorf("it runs while it is configured")
		}
		x.configured, x.port, x.number = p.Scripts[s.Script.Path], "", 0
		for _, in := range s.Script.Inputs {
			x.port = in.Value.Resources()[0]
			if w.ports[x.port] == nil {
				return fmt.Errorf("%s has no address", x.port)
			}
			x.number = w.ports[x.port].number
		}
	case op.Start:
		if x.configured == "" {
			return fmt.Errorf("it is not configured")
		}
		x.runs, x.stops, x.quiesces, x.quiet = true, s.Undo != nil, s.Quiesce != nil, false
	case op.Stop:
		x.runs, x.quiet = false, false
	case op.Delete:
		if x.runs && x.stops && !w.unsure[r.ID+"/start"] {
			return fmt.Errorf("it is deleted while it runs")
		}
		delete(m.soft, r.ID)
		return nil
	}
	m.soft[r.ID] = x
	return nil
}

// picture is what there is, without what depends on the order in which it was made: whether what software was given as
// somebody's address still is it belongs to that.
func (w *lifeWorld) picture() string {
	var out []string
	for id, m := range w.machines {
		text := fmt.Sprintf("%s at %s %s on=%v", id, m.site, m.spec, m.on)
		for _, app := range slices.Sorted(maps.Keys(m.soft)) {
			x := m.soft[app]
			right := x.port == "" || w.ports[x.port] != nil && w.ports[x.port].number == x.number
			text += fmt.Sprintf(" [%s %s %s of %s right=%v runs=%v]", app, x.created, x.configured, x.port, right, x.runs)
		}
		out = append(out, text)
	}
	for id, v := range w.volumes {
		if strings.Contains(id, "~") {
			continue // what is kept elsewhere is no part of a design
		}
		out = append(out, fmt.Sprintf("%s at %s %s of %s", id, v.site, v.spec, v.at))
	}
	for id, n := range w.nets {
		out = append(out, id+" "+n)
	}
	for id, p := range w.ports {
		out = append(out, fmt.Sprintf("%s of %s in %s given=%v", id, p.machine, p.net, p.given))
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}
