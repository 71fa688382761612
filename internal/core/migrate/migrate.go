// Package migrate plans moves of workloads between sites: what a workload is like where it goes, what will differ, how
// long copying takes and when it can be cut over, and which workloads move together and when.
//
// In go the design of a deployment, an estate and choices; out come the design with the workloads elsewhere
// ([Relocate]), what differs ([Differences]), estimates ([Estimate]) and waves ([Waves]). The plan that does it is made
// by package change, and is run like any other.
package migrate

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/address"
	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Choice is where one workload goes and what it is like there. What is left out is chosen: the size that fits best, the
// zone with the most room, an address of the pool.
type Choice struct {
	Instance string
	Site     string
	Zone     string
	Host     string
	Size     string
	// Address is "keep" to have the same inside address, "" to have one of the pool, or the address itself.
	Address string
	// KeepMAC gives the interface the hardware address that it has; MAC another.
	KeepMAC bool
	MAC     string
	// Hostname is another host name; "" keeps it.
	Hostname string
	// Class is the class of storage there.
	Class string
	// Network is a network of the design there; "" is the one that the workload is in, built there if need be.
	Network string
}

// keepAddress asks for the same inside address.
const keepAddress = "keep"

// Relocate is a design with some workloads at other sites. The estate's rooms and pools are taken from as it goes. known
// says what is known of resources, for the hardware addresses that are kept.
func Relocate(of *plan.Plan, e *estate.Estate, choices []Choice, known map[string]map[string]string) (*plan.Plan, error) {
	out := *of
	out.Resources, out.Steps, out.Sites = slices.Clone(of.Resources), slices.Clone(of.Steps), slices.Clone(of.Sites)
	r := &relocation{p: plan.Reindexed(&out), e: e, books: map[string]*address.Book{}, known: known}
	var errs []error
	for _, c := range choices {
		if err := r.move(c); err != nil {
			errs = append(errs, fmt.Errorf("%s cannot go to %s: %w", c.Instance, c.Site, err))
		}
	}
	if len(errs) > 0 {
		return nil, errors.Join(errs...)
	}
	r.dropUnused()
	r.totals()
	p := plan.Reindexed(r.p)
	return p, p.Arrange()
}

type relocation struct {
	p     *plan.Plan
	e     *estate.Estate
	books map[string]*address.Book
	known map[string]map[string]string
}

// book is what addresses and VLANs of a site are handed out by. What the design has there keeps its own, whether the site knows of it yet or not.
func (r *relocation) book(s *estate.Site) *address.Book {
	if b := r.books[s.Name]; b != nil {
		return b
	}
	b := address.NewBook(s)
	for i := range r.p.Resources {
		switch x := &r.p.Resources[i]; {
		case x.Site != s.Name:
		case x.Kind == kinds.Network:
			b.HoldVLAN(x.Node, x.AsNetwork().VLAN)
		case x.Kind == kinds.Interface:
			b.Hold(x.ID, x.AsInterface().Address)
		}
	}
	r.books[s.Name] = b
	return b
}

func (r *relocation) move(c Choice) error {
	x := r.p.Resource(c.Instance)
	if x == nil || x.Kind != kinds.Instance {
		return fmt.Errorf("there is no such instance in the design")
	}
	if service := x.AsInstance().Appliance; service != "" {
		return fmt.Errorf("it is a %s that %s runs itself, and has no disks that could be copied: an update that places it elsewhere builds it there", service, x.Site)
	}
	s, from := r.e.Site(c.Site), r.e.Site(x.Site)
	switch {
	case s == nil:
		return fmt.Errorf("the site %s is not connected", c.Site)
	case from == nil:
		return fmt.Errorf("the site %s, where it is, is not connected", x.Site)
	case c.Site == x.Site:
		return fmt.Errorf("it is there already")
	}
	if err := c.check(s); err != nil {
		return err
	}
	old := *x
	if err := r.shape(x, c, s, from); err != nil {
		return err
	}
	if err := r.place(x, c, s); err != nil {
		return err
	}
	volumes := r.volumes(x, c, s)
	if err := r.interfaces(x, &old, c, s); err != nil {
		return err
	}
	r.software(x, s)
	r.unfill(c.Instance)
	r.times(x, volumes, from, s)
	return nil
}

// unfill forgets the package that the disks of a workload were filled from: what is on them comes with the move.
func (r *relocation) unfill(instance string) {
	r.p.Steps = change.Without(r.p.Steps, func(s *plan.Step) bool { return s.Op == op.Fill && s.Resource == instance })
	plan.Reindexed(r.p)
}

// reorder says anew after which others a step comes: of what stands that is known twice, as it stands and in the whole of what is wanted, and the whole is what the
// next change goes by.
func reorder(s *plan.Step, by func(order []string) []string) {
	s.After = by(slices.Clone(s.After))
	if s.Whole != nil {
		s.Whole = by(slices.Clone(s.Whole))
	}
}

// without takes out of an order what is not there any more.
func without(gone func(resource string) bool) func(order []string) []string {
	return func(order []string) []string {
		return slices.DeleteFunc(order, func(a string) bool { return gone(op.ResourceOf(a)) })
	}
}

// What host names and hardware addresses look like: a label of RFC 1123, section 2.1, and EUI-48 as IEEE 802 writes it.
var (
	hostLabel = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)
	eui48     = regexp.MustCompile(`^[0-9a-f]{2}(:[0-9a-f]{2}){5}$`)
)

// check refuses what cannot be at a site.
func (c Choice) check(s *estate.Site) error {
	switch {
	case c.Hostname != "" && !hostLabel.MatchString(c.Hostname):
		return fmt.Errorf("%q is no host name: small letters, digits and hyphens, at most 63", c.Hostname)
	case c.MAC != "" && !eui48.MatchString(c.MAC):
		return fmt.Errorf("%q is no hardware address, such as 02:00:5e:00:53:01", c.MAC)
	case c.MAC != "" && c.KeepMAC:
		return errors.New("its hardware address is kept, or it is another: not both")
	}
	if c.Class == "" || slices.ContainsFunc(s.Storage, func(x estate.StorageClass) bool { return x.Name == c.Class }) {
		return nil
	}
	var all []string
	for _, x := range s.Storage {
		all = append(all, x.Name)
	}
	if len(all) == 0 {
		return fmt.Errorf("it has no classes of storage, so %s cannot be chosen", c.Class)
	}
	return fmt.Errorf("it has no storage of class %s; there are %s", c.Class, strings.Join(all, ", "))
}

// shape gives the instance a size, an image and a price there.
func (r *relocation) shape(x *plan.Resource, c Choice, s, from *estate.Site) error {
	spec := x.AsInstance()
	image := s.Image(osOf(from, spec.Image), estate.Release{})
	if image == nil {
		return fmt.Errorf("there is no image of its system, %s", osOf(from, spec.Image))
	}
	size, err := sizeFor(s, spec, c.Size)
	if err != nil {
		return err
	}
	spec.Image, spec.Class, spec.Size = image.Name, c.Class, ""
	if size != nil {
		spec.Size, spec.Cores, spec.MemoryGiB = size.Name, size.Cores, size.MemoryGiB
	}
	if c.Hostname != "" {
		spec.Hostname = c.Hostname
	}
	x.Spec = spec
	x.CostPerHour, x.CostOff = s.Costs(spec.Size, c.Class, estate.Capacity{Cores: spec.Cores, MemoryGiB: spec.MemoryGiB, DiskGiB: spec.DiskGiB})
	x.Detail = strings.TrimSpace(spec.Size + " " + estate.Cores(spec.Cores) + " " + estate.GiB(spec.MemoryGiB))
	x.Why, x.Elsewhere = []string{"moved from " + from.Name}, nil
	return nil
}

func osOf(s *estate.Site, image string) string {
	for _, i := range s.Images {
		if i.Name == image {
			return i.OS
		}
	}
	return "linux"
}

// sizeFor is the size there that is asked for, or the cheapest that is no less; nil where sizes are free.
func sizeFor(s *estate.Site, need plan.InstanceSpec, name string) (*estate.Size, error) {
	var best *estate.Size
	for i := range s.Sizes {
		z := &s.Sizes[i]
		if name != "" && z.Name == name {
			return z, nil
		}
		if z.Cores >= need.Cores && z.MemoryGiB >= need.MemoryGiB && (best == nil || z.PricePerHour < best.PricePerHour) {
			best = z
		}
	}
	switch {
	case name != "":
		return nil, fmt.Errorf("there is no size %s", name)
	case best == nil && !s.FreeForm && len(s.Sizes) > 0:
		return nil, fmt.Errorf("there is no size of %s and %s or more", estate.Cores(need.Cores), estate.GiB(need.MemoryGiB))
	case s.FreeForm && len(s.Sizes) == 0:
		return nil, nil
	}
	return best, nil
}

// place finds the room with the most left that fits.
func (r *relocation) place(x *plan.Resource, c Choice, s *estate.Site) error {
	need := estate.Capacity{Cores: x.AsInstance().Cores, MemoryGiB: x.AsInstance().MemoryGiB, DiskGiB: x.DiskGiB()}
	var best *estate.Room
	rooms := s.Rooms()
	for i := range rooms {
		room := &rooms[i]
		if c.Zone != "" && c.Zone != room.Zone || c.Host != "" && c.Host != room.Host || !room.Free.Fits(need) {
			continue
		}
		if best == nil || room.Free.Cores > best.Free.Cores {
			best = room
		}
	}
	if best == nil || !s.Take(best.Zone, best.Host, need) {
		return fmt.Errorf("there is no room for %s%s", need, map[bool]string{true: " in zone " + c.Zone}[c.Zone != ""])
	}
	x.Site, x.Zone, x.Host = s.Name, best.Zone, best.Host
	return nil
}

// volumes takes the instance's volumes along.
func (r *relocation) volumes(x *plan.Resource, c Choice, s *estate.Site) []string {
	var out []string
	for i := range r.p.Steps {
		if a := &r.p.Steps[i]; a.Op == op.Attach && a.Resource == x.ID {
			v := r.p.Resource(a.Volume)
			v.Site, v.Zone, v.Host = x.Site, x.Zone, ""
			v.CostPerHour = s.VolumeCosts(v.DiskGiB(), c.Class)
			plan.Respec(v, func(s *plan.VolumeSpec) { s.Class = c.Class })
			out = append(out, v.ID)
		}
	}
	return out
}

// interfaces puts the instance into networks there.
func (r *relocation) interfaces(x, old *plan.Resource, c Choice, s *estate.Site) error {
	for i := range r.p.Resources {
		f := &r.p.Resources[i]
		if f.Kind != kinds.Interface || f.AsInterface().Instance != x.ID {
			continue
		}
		net, err := r.network(f.AsInterface().Network, c.Network, s)
		if err != nil {
			return err
		}
		f = &r.p.Resources[i] // the list may have moved
		x = r.p.Resource(x.ID)
		spec := f.AsInterface()
		was := spec.Network
		f.Site, f.Zone, spec.Network = s.Name, x.Zone, net
		f.StandsOn, x.StandsOn = swapped(f.StandsOn, was, net), swapped(x.StandsOn, was, net)
		f.Spec = spec
		if spec.Address, err = r.inside(f, c, s); err != nil {
			return err
		}
		f.Detail, spec.MAC = spec.Address, c.MAC
		if c.KeepMAC {
			spec.MAC = r.known[f.ID]["mac"]
		}
		f.Spec = spec
		r.swapStep(op.Plug.On(f.ID), was, net, x.ID)
	}
	return nil
}

// inside is the address inside its network that an interface is to have.
func (r *relocation) inside(f *plan.Resource, c Choice, s *estate.Site) (string, error) {
	b := r.book(s)
	pick := c.Address
	if pick == keepAddress {
		pick = f.AsInterface().Address
	}
	if !b.HasPools() {
		if c.Address != "" && c.Address != keepAddress {
			return "", fmt.Errorf("it hands out no addresses inside its networks, so %s cannot be picked", c.Address)
		}
		return "", nil
	}
	got, err := b.Address(f.ID, r.p.Resource(f.AsInterface().Network).AsNetwork().CIDR, pick)
	if err != nil && c.Address == "" {
		got, err = b.Address(f.ID, "", "")
	}
	return got, err
}

// network is the network there that takes the place of one: built there if it is not.
func (r *relocation) network(id, chosen string, s *estate.Site) (string, error) {
	was := r.p.Resource(id)
	node := was.Node
	if chosen != "" {
		node, _, _ = strings.Cut(chosen, "@")
	}
	there := node + "@" + s.Name
	if r.p.Resource(there) != nil {
		return there, nil
	}
	if chosen != "" && node != was.Node {
		return "", fmt.Errorf("the design has no network %s there", node)
	}
	if was.AsNetwork().Existing != "" && !was.AsNetwork().Others {
		return "", fmt.Errorf("its network %s stands at %s alone; name another one there", was.Title, was.Site)
	}
	n := *was
	n.ID, n.Site, n.Zone = there, s.Name, ""
	if was.AsNetwork().Others {
		n.Detail = was.AsNetwork().CIDR
	}
	spec := was.AsNetwork()
	spec.VLAN, spec.Existing, spec.Others = "", "", false
	if b := r.book(s); b.HasVLANs() {
		got, err := b.VLAN(n.Node, 0)
		if err != nil {
			return "", err
		}
		spec.VLAN = strconv.Itoa(got)
	}
	n.Spec = spec
	n.Why = []string{"what is linked to it goes there"}
	r.p.Resources = append(r.p.Resources, n)
	r.p.Steps = append(r.p.Steps, plan.Step{ID: op.Create.On(there), Resource: there, Op: op.Create, Title: "create network", Site: s.Name,
		Seconds: s.Seconds(s.Timings.Network), Check: plan.Condition{Kind: plan.CheckSite}})
	r.p = plan.Reindexed(r.p)
	return there, nil
}

func swapped(list []string, was, now string) []string {
	out := slices.Clone(list)
	for i := range out {
		if out[i] == was {
			out[i] = now
		}
	}
	slices.Sort(out)
	return out
}

// swapStep has a step that plugs come after the making of the other network.
func (r *relocation) swapStep(id, was, now, instance string) {
	s := r.p.Step(id)
	if s == nil {
		return
	}
	reorder(s, func(order []string) []string {
		for i, a := range order {
			id := op.ParseID(a)
			if id.Resource != was {
				continue
			}
			id.Resource = now
			for _, as := range []op.Op{op.Create, op.Take} { // one of the two may be built, and the other taken
				if r.p.Step(id.String()) == nil {
					id.Op = as
				}
			}
			order[i] = id.String()
		}
		return order
	})
	s.Title = "plug into " + r.p.Resource(now).Title
}

// software takes what runs on the instance along, and where users reach it.
func (r *relocation) software(x *plan.Resource, s *estate.Site) {
	on := map[string]bool{}
	for i := range r.p.Resources {
		y := &r.p.Resources[i]
		if y.On == x.ID {
			y.Site, y.Zone, y.Host, on[y.ID] = s.Name, x.Zone, x.Host, true
		}
	}
	for i := range r.p.Resources {
		if y := &r.p.Resources[i]; on[y.AsEndpoint().EndpointOf] {
			y.Site, y.Zone = s.Name, x.Zone
		}
	}
}

// times gives all steps of what moved the site and the times there.
func (r *relocation) times(x *plan.Resource, volumes []string, from, s *estate.Site) {
	pace := 1.0
	if from.Pace > 0 && s.Pace > 0 {
		pace = s.Pace / from.Pace
	}
	for i := range r.p.Steps {
		t := &r.p.Steps[i]
		y := r.p.Resource(t.Resource)
		if y.Site != s.Name || t.Site == s.Name {
			continue
		}
		t.Site = s.Name
		nominal := map[op.Op]float64{op.Attach: s.Timings.Attachment, op.Plug: s.Timings.Interface}[t.Op]
		if t.Op == op.Create && y.Kind == kinds.Instance {
			nominal = s.Timings.Instance
		}
		if t.Op == op.Create && y.Kind == kinds.Volume {
			nominal = s.Timings.Volume
		}
		if t.Seconds *= pace; nominal > 0 {
			t.Seconds = s.Seconds(nominal)
		}
	}
}

// dropUnused leaves out networks that nothing is linked to any more.
func (r *relocation) dropUnused() {
	linked := map[string]bool{}
	for i := range r.p.Resources {
		linked[r.p.Resources[i].AsInterface().Network] = true
	}
	gone := map[string]bool{}
	r.p.Resources = slices.DeleteFunc(r.p.Resources, func(x plan.Resource) bool {
		if x.Kind == kinds.Network && !linked[x.ID] {
			gone[x.ID] = true
			return true
		}
		return false
	})
	r.p.Steps = slices.DeleteFunc(r.p.Steps, func(s plan.Step) bool { return gone[s.Resource] })
	for i := range r.p.Resources {
		x := &r.p.Resources[i]
		x.StandsOn = slices.DeleteFunc(slices.Clone(x.StandsOn), func(on string) bool { return gone[on] })
	}
	for i := range r.p.Steps {
		reorder(&r.p.Steps[i], without(func(resource string) bool { return gone[resource] }))
	}
	r.p = plan.Reindexed(r.p)
}

// totals sums costs anew.
func (r *relocation) totals() {
	sum := map[string]money.Amount{}
	used := map[string]bool{}
	r.p.CostPerHour = 0
	for i := range r.p.Resources {
		x := &r.p.Resources[i]
		sum[x.Site] += x.Costs()
		used[x.Site] = true
		r.p.CostPerHour += x.Costs()
	}
	var sites []plan.Site
	for _, s := range r.e.Sites {
		if used[s.Name] {
			sites = append(sites, plan.Site{Name: s.Name, Kind: string(s.Kind), Title: s.Title, CostPerHour: sum[s.Name]})
		}
	}
	r.p.Sites = sites
}
