package sandbox

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"net/http"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/sandbox/disk"
	"andamio/internal/sandbox/host"
	"andamio/internal/sandbox/qemu"
	"andamio/internal/site/occi/wire"
)

// refusal is why a request is not granted.
type refusal struct {
	code int
	text string
}

func no(code int, format string, args ...any) *refusal {
	return &refusal{code, fmt.Sprintf(format, args...)}
}

// create accepts a request and builds what it asks for in the background. A repeat with the same key gives the same
// resource.
func (c *Cloud) create(w http.ResponseWriter, r *http.Request) {
	if r.URL.Query().Get("action") != "" {
		c.actOnCollection(w, r)
		return
	}
	c.createAs(w, r, "")
}

// createAs is create, of what is to be known by an id; "" leaves that to the stand-in.
func (c *Cloud) createAs(w http.ResponseWriter, r *http.Request, id string) {
	term := r.PathValue("term")
	kind := terms[term]
	if !c.has(term) {
		refuse(w, http.StatusNotFound, "there is no kind %q here", term)
		return
	}
	var want wire.Resource
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		refuse(w, http.StatusBadRequest, "the body is no rendering of a resource: %v", err)
		return
	}
	if want.Kind != kind.kind {
		refuse(w, http.StatusBadRequest, "the kind %q does not belong into %s", want.Kind, term)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if m := c.unknown(want.Mixins); m != "" {
		refuse(w, http.StatusBadRequest, "the mixin %q is not offered here", m)
		return
	}
	key := r.Header.Get(wire.HeaderKey)
	if id, repeat := c.keys[key]; repeat && key != "" && c.things[id] != nil {
		respond(w, http.StatusOK, told(r, c.things[id]))
		return
	}
	want.ID = id
	t, why := c.accept(term, want, true)
	if why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	t.broken = r.Header.Get(headerBroken) != ""
	if key != "" {
		c.keys[key] = t.ID
	}
	c.asked = time.Now()
	w.Header().Set("Location", "/"+term+"/"+t.ID)
	respond(w, http.StatusCreated, told(r, t))
}

// life says how a kind's states are called, and how long it takes to build.
type life struct {
	state, word, active, inactive string
	seconds                       func(estate.Timings) float64
	build                         func(*Cloud, *thing) *refusal
}

var lives map[string]life

func init() {
	lives = map[string]life{
		"network": {wire.NetworkState, wire.NetworkWord, "active", "inactive",
			func(t estate.Timings) float64 { return t.Network }, nil},
		"storage": {wire.StorageState, wire.StorageWord, "online", "offline",
			func(t estate.Timings) float64 { return t.Volume }, nil},
		"compute": {wire.ComputeState, wire.ComputeWord, "active", "inactive",
			func(t estate.Timings) float64 { return t.Instance }, (*Cloud).boot},
		"networkinterface": {wire.LinkState, wire.LinkWord, "active", "inactive",
			func(t estate.Timings) float64 { return t.Interface }, (*Cloud).plug},
		"storagelink": {wire.StoreState, wire.StoreWord, "active", "inactive",
			func(t estate.Timings) float64 { return t.Attachment }, (*Cloud).mount},
		"snapshot": {wire.SnapshotState, wire.SnapshotWord, "active", "inactive",
			func(t estate.Timings) float64 { return t.Volume }, nil},
		"object": {wire.ObjectState, wire.ObjectWord, "active", "inactive", nil, nil},
	}
}

// accept checks a request, reserves what it takes, and sets its life going if it is to. The lock is held.
func (c *Cloud) accept(term string, want wire.Resource, alive bool) (*thing, *refusal) {
	t := &thing{Resource: want, term: term}
	for c.next++; t.ID == ""; c.next++ {
		if id := fmt.Sprintf("%s-%s-%d", c.site.Name, term, c.next); c.things[id] == nil { // else a client took it
			t.ID = id
			break
		}
	}
	if t.Attributes == nil {
		t.Attributes = map[string]any{}
	}
	why := c.classed(t)
	switch {
	case why != nil:
	case term == "compute":
		why = c.reserve(t)
	case terms[term].link:
		why = c.ends(t)
	case term == "object":
		why = c.expect(t)
	case term == "snapshot":
		why = c.snap(t)
	}
	if why != nil {
		return nil, why
	}
	switch term {
	case "compute":
		why = c.newDisk(t, t.take.DiskGiB)
	case "storage":
		why = c.newDisk(t, number(t.Attributes[wire.StorageSize]))
	}
	if why != nil {
		return nil, why
	}
	l := lives[term]
	t.Attributes[l.state], t.Attributes[l.word] = l.inactive, "accepted"
	c.things[t.ID] = t
	if want.ID != "" { // another may have been known by it
		c.ids = slices.DeleteFunc(c.ids, func(id string) bool { return id == t.ID })
	}
	c.ids = append(c.ids, t.ID)
	if alive && l.seconds != nil { // an object lives when all of it is there
		go c.live(t, l, c.lifetime(t, l))
	}
	return t, nil
}

// lifetime is how long it takes to build a thing.
func (c *Cloud) lifetime(t *thing, l life) time.Duration {
	return time.Duration(l.seconds(c.site.Timings) * c.pace * c.jitter(t.Title+t.term) * float64(time.Second))
}

// classed refuses a class of storage that is not offered here.
func (c *Cloud) classed(t *thing) *refusal {
	name := word(t.Attributes[wire.OwnClass])
	if name == "" || slices.ContainsFunc(c.site.Storage, func(x estate.StorageClass) bool { return x.Name == name }) {
		return nil
	}
	return no(http.StatusBadRequest, "storage of class %q is not offered here", name)
}

// live takes a thing from accepted over building to active, which takes a while.
func (c *Cloud) live(t *thing, l life, whole time.Duration) {
	if !c.wait(whole / 6) {
		return
	}
	c.mu.Lock()
	t.Attributes[l.word] = "building"
	c.mu.Unlock() // which need not be kept: what is accepted is built anew
	if !c.wait(whole - whole/6) {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.things[t.ID] == nil {
		return // deleted meanwhile
	}
	defer c.note(t)
	t.made = true
	if t.broken {
		t.Attributes[l.state], t.Attributes[l.word] = "error", "a part of it broke"
		return
	}
	if l.build != nil {
		if why := l.build(c, t); why != nil {
			t.Attributes[l.state], t.Attributes[l.word] = "error", why.text
			return
		}
	}
	t.Attributes[l.state], t.Attributes[l.word] = l.active, l.active
	if asleep(t) {
		t.Attributes[l.state], t.Attributes[l.word] = l.inactive, "stopped"
	}
}

// asleep reports that an instance is built and not switched on: what it starts from is put on its disk first.
func asleep(t *thing) bool { return t.term == "compute" && word(t.Attributes[wire.OwnAsleep]) != "" }

func (c *Cloud) wait(d time.Duration) bool {
	select {
	case <-time.After(d):
		return true
	case <-c.ctx.Done():
		return false
	}
}

func number(v any) float64 {
	switch v := v.(type) {
	case float64:
		return v
	case int:
		return float64(v)
	case string:
		f, _ := strconv.ParseFloat(v, 64)
		return f
	}
	return 0
}

func word(v any) string { s, _ := v.(string); return s }

// reserve finds the shape, image and room of an instance.
func (c *Cloud) reserve(t *thing) *refusal {
	if t.service() != "" {
		return c.reserveAppliance(t)
	}
	take := estate.Capacity{Cores: int(number(t.Attributes[wire.Cores])), MemoryGiB: number(t.Attributes[wire.Memory]),
		DiskGiB: number(t.Attributes[wire.OwnDisk])}
	image := false
	for _, m := range t.Mixins {
		if name, ok := strings.CutPrefix(m, wire.OwnSizes); ok {
			i := slices.IndexFunc(c.site.Sizes, func(s estate.Size) bool { return s.Name == name })
			if i < 0 {
				return no(http.StatusBadRequest, "the size %q is not offered here", name)
			}
			take.Cores, take.MemoryGiB = c.site.Sizes[i].Cores, c.site.Sizes[i].MemoryGiB
		}
		if name, ok := strings.CutPrefix(m, wire.OwnImages); ok {
			image = slices.ContainsFunc(c.site.Images, func(i estate.Image) bool { return i.Name == name })
			if !image {
				return no(http.StatusBadRequest, "the image %q is not offered here", name)
			}
		}
	}
	if take.Cores < 1 || take.MemoryGiB <= 0 || !image {
		return no(http.StatusBadRequest, "an instance needs a size, or cores and memory, and an image")
	}
	return c.takeRoom(t, take)
}

func (c *Cloud) takeRoom(t *thing, take estate.Capacity) *refusal {
	zone, hostName := word(t.Attributes[wire.OwnZone]), word(t.Attributes[wire.OwnHost])
	for _, r := range c.rooms {
		if (zone == "" || zone == r.zone) && (hostName == "" || hostName == r.host) && r.free.Fits(take) {
			r.free = r.free.Minus(take)
			t.room, t.take = r, take
			t.Attributes[wire.Cores], t.Attributes[wire.Memory] = take.Cores, take.MemoryGiB
			t.Attributes[wire.OwnZone], t.Attributes[wire.OwnHost] = r.zone, r.host
			return nil
		}
	}
	return no(http.StatusConflict, "there is no room for %s in zone %q %s", take, zone, hostName)
}

// ends checks that both ends of a link exist.
func (c *Cloud) ends(t *thing) *refusal {
	if t.Source == nil || t.Target == nil {
		return no(http.StatusBadRequest, "a link has a source and a target")
	}
	t.source, t.target = path.Base(t.Source.Location), path.Base(t.Target.Location)
	source, target := c.things[t.source], c.things[t.target]
	if source == nil || source.term != "compute" {
		return no(http.StatusBadRequest, "the source %s is no instance here", t.Source.Location)
	}
	if target == nil || (target.term == "network") != (t.term == "networkinterface") {
		return no(http.StatusBadRequest, "the target %s cannot be linked so", t.Target.Location)
	}
	if source.host == nil && word(source.Attributes[wire.ComputeWord]) != "stopped" {
		return no(http.StatusConflict, "the instance %s is not active yet", source.Title)
	}
	return c.inside(t)
}

// inside refuses an address that another interface has.
func (c *Cloud) inside(t *thing) *refusal {
	address := word(t.Attributes[wire.OwnInside])
	if address == "" {
		return nil
	}
	for _, other := range c.things {
		if word(other.Attributes[wire.OwnInside]) == address {
			return no(http.StatusConflict, "the address %s is %s's", address, other.Title)
		}
	}
	return nil
}

// taken is the site's networks with what resources here have of their pools.
func (c *Cloud) taken() []estate.Network {
	var out []estate.Network
	for _, n := range c.site.Networks {
		n.Pools = slices.Clone(n.Pools)
		for i := range n.Pools {
			n.Pools[i].Taken = slices.Clone(n.Pools[i].Taken)
		}
		if n.VLANs != nil {
			v := *n.VLANs
			v.Taken = slices.Clone(v.Taken)
			n.VLANs = &v
		}
		out = append(out, n)
	}
	for _, t := range c.things {
		if a, err := netip.ParseAddr(word(t.Attributes[wire.OwnInside])); err == nil {
			for _, n := range out {
				for i := range n.Pools {
					if n.Pools[i].Contains(a) && !slices.Contains(n.Pools[i].Taken, a.String()) {
						n.Pools[i].Taken = append(n.Pools[i].Taken, a.String())
					}
				}
			}
		}
		for _, n := range out {
			if v := int(number(t.Attributes[wire.VLAN])); n.VLANs != nil && v >= n.VLANs.From && v <= n.VLANs.To && !slices.Contains(n.VLANs.Taken, v) {
				n.VLANs.Taken = append(n.VLANs.Taken, v)
			}
		}
	}
	return out
}

// boot makes the instance real.
func (c *Cloud) boot(t *thing) *refusal {
	if asleep(t) {
		return nil
	}
	if t.service() != "" {
		return c.bootAppliance(t)
	}
	name := word(t.Attributes[wire.Hostname])
	if name == "" {
		name = t.ID
	}
	if qemu.Starts(t.disk) {
		return c.bootReal(t, name)
	}
	h, err := host.New(name, c.pace, word(t.Attributes[wire.PublicKey]), t.disk, c.attached(t.ID))
	if err != nil {
		return no(0, "%v", err)
	}
	h.Using = c.using(t)
	t.host = simulated{h}
	c.watch(h)
	return nil
}

// watch has what runs on a machine kept as it changes.
func (c *Cloud) watch(h *host.Host) {
	if c.folder == "" {
		return
	}
	h.Watch(func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		_ = c.keep() // if it cannot be kept, the next call says so
	})
}

// note has what became of a thing kept, and told. The lock is held.
func (c *Cloud) note(t *thing) {
	c.changed(t)
	_ = c.keep()
}

// attached are the disks of an instance's volumes, by the folder they belong to.
func (c *Cloud) attached(instance string) map[string]*disk.Disk {
	out := map[string]*disk.Disk{}
	for _, x := range c.things {
		if at := word(x.Attributes[wire.MountPoint]); x.term == "storagelink" && x.source == instance && at != "" && c.things[x.target] != nil {
			out[at] = c.things[x.target].disk
		}
	}
	return out
}

// plug gives the instance an address, or ports of the site's.
func (c *Cloud) plug(t *thing) *refusal {
	source := c.things[t.source]
	if source == nil || source.host == nil && !asleep(source) {
		return no(0, "the instance is gone")
	}
	address, own := c.addrs.own, false
	if c.site.Network == estate.Address {
		free, ok := c.addrs.take()
		if !ok {
			return no(0, "no address is left")
		}
		address, own = free, true
	}
	r, err := newReach(address, own, ports(t))
	if err != nil {
		return no(0, "%v", err)
	}
	t.reach = r
	if source.host != nil {
		if err := source.host.Plug(r); err != nil {
			return no(0, "%v", err)
		}
		t.Attributes[wire.OwnHostKey] = source.host.HostKey()
	}
	t.Attributes[wire.Address] = address
	t.Attributes[wire.LinkMAC] = hardwareAddress(t.ID)
	if mac := word(t.Attributes[wire.OwnMAC]); mac != "" {
		t.Attributes[wire.LinkMAC] = mac
	}
	t.Attributes[wire.OwnPortMap] = portMap(r.mapped())
	t.Attributes[wire.OwnSSHUser] = host.User
	if source.host != nil {
		t.Attributes[wire.OwnSSHUser] = source.host.User()
	}
	return nil
}

// hardwareAddress is a locally administered address that depends on the interface's id alone.
func hardwareAddress(id string) string {
	h := fnv.New64a()
	fmt.Fprint(h, id)
	sum := h.Sum64()
	return fmt.Sprintf("02:%02x:%02x:%02x:%02x:%02x", sum>>32&0xff, sum>>24&0xff, sum>>16&0xff, sum>>8&0xff, sum&0xff)
}

func ports(t *thing) []int {
	var out []int
	for _, text := range strings.Split(word(t.Attributes[wire.OwnPorts]), ",") {
		if p, err := strconv.Atoi(text); err == nil && p > 0 && p < 65536 {
			out = append(out, p)
		}
	}
	return out
}

func portMap(m map[int]int) string {
	var pairs []string
	for port, mapped := range m {
		pairs = append(pairs, fmt.Sprintf("%d:%d", port, mapped))
	}
	slices.Sort(pairs)
	return strings.Join(pairs, ",")
}

// mount attaches a volume.
func (c *Cloud) mount(t *thing) *refusal {
	source := c.things[t.source]
	if source == nil || source.host == nil && !asleep(source) {
		return no(0, "the instance is gone")
	}
	t.Attributes[wire.Device] = fmt.Sprintf("/dev/vd%c", 'b'+c.links(t.source, "storagelink")%24)
	volume := c.things[t.target]
	if source.host == nil || volume == nil {
		return nil
	}
	if isReal(source) {
		t.mountedFromWithin()
	}
	if err := source.host.Attach(volume.ID, word(t.Attributes[wire.MountPoint]), volume.disk); err != nil {
		return no(0, "%v", err)
	}
	return nil
}

// links counts the links of a kind that lead from an instance.
func (c *Cloud) links(source, term string) int {
	n := 0
	for _, t := range c.things {
		if t.term == term && t.source == source {
			n++
		}
	}
	return n
}
