// Package takeover makes a deployment of machines that nobody deployed here.
//
// In go what was observed at sites and which machines are meant; out comes the design of a deployment that has them, with their disks, interfaces and
// networks, and the plan that takes note of them ([Plan]): each of its steps looks that what it would build is there, and builds nothing. From then on
// they are operated, moved and packed as what was deployed. Networks stay other people's: they are used, and never removed.
package takeover

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Attachment is a volume that was seen in a machine, by the site's ids.
type Attachment struct {
	Site, ID, Machine, Volume, Location string
}

// Input is what is known, and what is meant.
type Input struct {
	// Name is what the deployment is to be called; "" is the name of the first machine.
	Name string
	// Machines are the ids of records of those that are meant, in Seen.
	Machines    []string
	Seen        inventory.Records
	Attachments []Attachment
	// Ports are those on which the machines serve, beside what was seen.
	Ports  []int
	Estate *estate.Estate
}

// Plan is the design of a deployment of machines that stand already, and the plan that takes note of them.
func Plan(in Input) (wanted, take *plan.Plan, err error) {
	if len(in.Machines) == 0 {
		return nil, nil, errors.New("say which machines are meant")
	}
	t := &taker{in: in, p: &plan.Plan{Version: plan.Version, Currency: in.Estate.Currency, Inputs: map[string]any{}, Services: []plan.Service{}},
		ids: map[string]string{}, finds: map[string]string{}, known: map[string]map[string]string{}}
	var errs []error
	for _, id := range in.Machines {
		errs = append(errs, t.machine(id))
	}
	if err := errors.Join(errs...); err != nil {
		return nil, nil, err
	}
	t.p.Name = cmp.Or(in.Name, t.p.Resource(t.ids[in.Machines[0]]).Title)
	wanted = plan.Reindexed(t.p)
	if err := wanted.Arrange(); err != nil {
		return nil, nil, err
	}
	note := *wanted
	note.Steps = slices.Clone(wanted.Steps)
	for i := range note.Steps {
		s := &note.Steps[i]
		if s.Finds = t.finds[s.ID]; s.Finds != "" {
			s.Title, s.Seconds = "take note of "+s.Title, 1
		}
	}
	note.Known = t.known
	take = plan.Reindexed(&note)
	return wanted, take, take.Arrange()
}

// Machines are the ids of the instances of a plan.
func Machines(p *plan.Plan) []string {
	var out []string
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance {
			out = append(out, r.ID)
		}
	}
	return out
}

// taker builds the design.
type taker struct {
	in Input
	p  *plan.Plan
	// ids are the resources that records became, finds the sites' ids of what steps would build.
	ids, finds map[string]string
	// known is what is known of resources at their sites.
	known map[string]map[string]string
}

// learn notes something of a resource.
func (t *taker) learn(resource, name, value string) {
	if value == "" {
		return
	}
	if t.known[resource] == nil {
		t.known[resource] = map[string]string{}
	}
	t.known[resource][name] = value
}

// named is a name that no resource has yet, of letters that commands and ids of steps have no other meaning for.
func (t *taker) named(want string) string {
	want = cmp.Or(strings.Trim(noName.ReplaceAllString(want, "-"), "-"), "machine")
	out := want
	for n := 2; t.p.Resource(out) != nil; n++ {
		out = fmt.Sprintf("%s-%d", want, n)
	}
	return out
}

// add adds a resource with the step that would build it, which finds what has that id at the site.
func (t *taker) add(r plan.Resource, s plan.Step, id string, after ...string) string {
	r.Node = cmp.Or(r.Node, r.ID)
	t.p.Resources = append(t.p.Resources, r)
	s.Resource = r.ID
	return t.step(s, r.Site, id, after...)
}

func (t *taker) step(s plan.Step, site, id string, after ...string) string {
	s.ID, s.Site, s.After, s.Seconds = s.Op.On(s.Resource), site, after, 1
	if s.Volume != "" {
		s.ID = s.Op.For(s.Resource, s.Volume)
		t.learn(s.Resource, "site.id."+s.Volume, id)
	} else {
		t.learn(s.Resource, "site.id", id)
	}
	s.Check = plan.Condition{Kind: plan.CheckSite}
	if s.Op == op.Take {
		s.Check = plan.Condition{Kind: plan.CheckNone}
	} else {
		t.finds[s.ID] = id
	}
	t.p.Steps = append(t.p.Steps, s)
	t.p = plan.Reindexed(t.p)
	return s.ID
}

// seen is the record of a class that a site has under an id.
func (t *taker) seen(class kinds.Kind, site, id string) *inventory.Record {
	for i := range t.in.Seen {
		if r := &t.in.Seen[i]; r.Class == class && r.Site == site && r.Provider == id {
			return r
		}
	}
	return nil
}

// machine takes one with everything that belongs to it.
func (t *taker) machine(id string) error {
	i := slices.IndexFunc(t.in.Seen, func(r inventory.Record) bool { return r.ID == id })
	if i < 0 || t.in.Seen[i].Class != kinds.Instance {
		return fmt.Errorf("no survey has seen a machine %s", id)
	}
	r := &t.in.Seen[i]
	s := t.in.Estate.Site(r.Site)
	state, _ := r.Value(inventory.AttrState)
	switch {
	case s == nil:
		return fmt.Errorf("%s is at %s, which is not connected or does not answer", r.Name, r.Site)
	case state != "active" && state != "stopped":
		return fmt.Errorf("%s is %s: what is taken over is on or off", r.Name, cmp.Or(state, "in no state that is known"))
	}
	if !slices.ContainsFunc(t.p.Sites, func(x plan.Site) bool { return x.Name == s.Name }) {
		t.p.Sites = append(t.p.Sites, plan.Site{Name: s.Name, Kind: string(s.Kind), Title: s.Title})
	}
	spec := plan.InstanceSpec{Hostname: hostname(cmp.Or(r.Attributes[inventory.AttrHostname], r.Name)), Cores: int(r.Number(inventory.AttrCores)), MemoryGiB: r.Number(inventory.AttrMemory),
		DiskGiB: r.Number(inventory.AttrDisk), Size: r.Attributes[inventory.AttrSize], Image: r.Attributes[inventory.AttrImage]}
	if spec.Cores == 0 || spec.MemoryGiB == 0 {
		return fmt.Errorf("how large %s is, %s did not say", r.Name, r.Site)
	}
	host := plan.Resource{ID: t.named(r.Name), Title: r.Name, Kind: kinds.Instance, Site: r.Site, Zone: cmp.Or(r.Attributes[inventory.AttrZone], r.Region), Host: r.Attributes[inventory.AttrHost],
		Spec: spec, Off: state == "stopped", Why: []string{"it stood there already"}, Detail: strings.TrimSpace(spec.Size + " " + estate.Cores(spec.Cores) + " " + estate.GiB(spec.MemoryGiB))}
	host.CostPerHour, host.CostOff = s.Costs(spec.Size, "", estate.Capacity{Cores: spec.Cores, MemoryGiB: spec.MemoryGiB, DiskGiB: spec.DiskGiB})
	t.ids[id] = host.ID
	created := t.add(host, plan.Step{Op: op.Create, Title: "instance"}, r.Provider)
	t.volumes(r, host.ID, created, s)
	return t.interfaces(r, host.ID, created)
}

// volumes takes those that are in a machine.
func (t *taker) volumes(machine *inventory.Record, on, created string, s *estate.Site) {
	for _, a := range t.in.Attachments {
		if a.Site != machine.Site || a.Machine != machine.Provider {
			continue
		}
		v := t.seen(kinds.Volume, a.Site, a.Volume)
		if v == nil {
			continue // it was seen in the machine, and nowhere else: it is none of the site's
		}
		size := v.Number(inventory.AttrDisk)
		r := plan.Resource{ID: t.named(v.Name), Title: v.Name, Kind: kinds.Volume, Site: v.Site, Zone: cmp.Or(v.Attributes[inventory.AttrZone], v.Region),
			Spec: plan.VolumeSpec{DiskGiB: size, Label: v.Name}, Detail: estate.GiB(size), CostPerHour: s.VolumeCosts(size, "")}
		made := t.add(r, plan.Step{Op: op.Create, Title: "volume"}, v.Provider)
		t.step(plan.Step{Resource: on, Op: op.Attach, Title: "attachment of " + r.ID, Volume: r.ID, Location: a.Location}, v.Site, a.ID, created, made)
		h := t.p.Resource(on)
		h.StandsOn = append(h.StandsOn, r.ID)
	}
}

// interfaces takes those of a machine, with the networks that they lead to.
func (t *taker) interfaces(machine *inventory.Record, on, created string) error {
	for i := range t.in.Seen {
		f := &t.in.Seen[i]
		if f.Class != kinds.Interface || f.Site != machine.Site || f.Attributes[inventory.AttrInstance] != machine.Provider {
			continue
		}
		if f.Attributes[inventory.AttrNetwork] == "" {
			h := t.p.Resource(on)
			h.Why = append(h.Why, "its interface "+f.Name+" is in no network that "+f.Site+" tells of, and is left out")
			continue
		}
		net, taken, err := t.network(f)
		if err != nil {
			return fmt.Errorf("%s: %w", machine.Name, err)
		}
		id := t.named(on + ".if")
		t.add(plan.Resource{ID: id, Title: on + " interface", Kind: kinds.Interface, PartOf: on, StandsOn: []string{on, net}, Site: f.Site, Zone: t.p.Resource(on).Zone,
			Spec: plan.InterfaceSpec{Network: net, Instance: on, Ports: t.ports(f), Address: f.Attributes[inventory.AttrInside]}}, plan.Step{Op: op.Plug, Title: "interface in " + t.p.Resource(net).Title}, f.Provider, created, taken)
		t.learn(id, "address", f.Attributes[inventory.AttrAddress])
		t.learn(id, "mac", f.Attributes[inventory.AttrMAC])
	}
	return nil
}

// network takes the one that an interface leads to, once.
func (t *taker) network(f *inventory.Record) (id, taken string, err error) {
	n := t.seen(kinds.Network, f.Site, f.Attributes[inventory.AttrNetwork])
	if n == nil {
		return "", "", fmt.Errorf("the network of its interface %s was not seen", f.Name)
	}
	name := cmp.Or(strings.Trim(noName.ReplaceAllString(n.Name, "-"), "-"), "network")
	id = name + "@" + n.Site
	for i := range t.p.Resources {
		if r := &t.p.Resources[i]; r.Kind == kinds.Network && r.AsNetwork().Existing == n.Provider {
			return r.ID, op.Take.On(r.ID), nil
		}
	}
	for i, called := 2, name; t.p.Resource(id) != nil; i++ {
		name = fmt.Sprintf("%s-%d", called, i)
		id = name + "@" + n.Site
	}
	spec := plan.NetworkSpec{Label: n.Name, CIDR: n.Attributes["cidr"], Existing: n.Provider, Others: true}
	taken = t.add(plan.Resource{ID: id, Node: name, Title: n.Name, Kind: kinds.Network, Site: n.Site, Spec: spec, Detail: "stands as " + n.Name, Why: []string{"other people's machines may be in it: it is used, and stays"}},
		plan.Step{Op: op.Take, Title: "network", Sets: map[string]string{"site.id": n.Provider}}, n.Provider)
	return id, taken, nil
}

// ports are those on which an interface serves.
func (t *taker) ports(f *inventory.Record) []int {
	out := slices.Clone(t.in.Ports)
	for _, text := range strings.Split(f.Attributes[inventory.AttrPorts], ",") {
		if n, err := strconv.Atoi(text); err == nil {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

var (
	noLabel = regexp.MustCompile(`[^a-z0-9]+`)
	noName  = regexp.MustCompile(`[^\p{L}\p{N}._-]+`)
)

// hostname makes a label of a name (RFC 1123, section 2.1).
func hostname(name string) string {
	out := strings.Trim(noLabel.ReplaceAllString(strings.ToLower(name), "-"), "-")
	if len(out) > 63 {
		out = strings.TrimRight(out[:63], "-")
	}
	return cmp.Or(out, "machine")
}
