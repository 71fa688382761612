package sandbox

import (
	"cmp"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/sandbox/host"
	"andamio/internal/site/occi/wire"
)

// change invokes an action (POST with ?action=) or changes attributes (POST and PUT).
func (c *Cloud) change(w http.ResponseWriter, r *http.Request) {
	var body struct {
		wire.Resource
		Action string `json:"action"`
	}
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
		refuse(w, http.StatusBadRequest, "the body cannot be read: %v", err)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if m := c.unknown(body.Mixins); m != "" {
		refuse(w, http.StatusBadRequest, "the mixin %q is not offered here", m)
		return
	}
	t := c.find(w, r)
	if t == nil {
		return
	}
	if action := r.URL.Query().Get("action"); action != "" {
		if why := c.act(t, strings.TrimPrefix(body.Action, wire.ComputeAction), cmp.Or(word(body.Attributes[wire.OwnLead]), word(body.Attributes[wire.RestoreTo]))); why != nil {
			refuse(w, why.code, "%s", why.text)
			return
		}
		respond(w, http.StatusOK, told(r, t))
		return
	}
	if body.Title != "" {
		t.Title = body.Title
	}
	if why := c.retouch(t, body.Resource); why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	if mark := word(body.Attributes[wire.OwnMarkText]); mark != "" {
		t.Attributes[wire.OwnMarkText] = mark
	}
	if why := c.resize(t, body.Resource); why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	c.asked = time.Now()
	c.changed(t)
	respond(w, http.StatusOK, told(r, t))
}

// retouch sets tags, of which those without a value are taken away, and the address inside its network.
func (c *Cloud) retouch(t *thing, want wire.Resource) *refusal {
	if address := word(want.Attributes[wire.OwnInside]); address != "" && t.term == "networkinterface" && address != word(t.Attributes[wire.OwnInside]) {
		asks := &thing{Resource: wire.Resource{Attributes: map[string]any{wire.OwnInside: address}}}
		if why := c.inside(asks); why != nil {
			return why
		}
		t.Attributes[wire.OwnInside] = address
	}
	if why := c.limit(t, want.Attributes); why != nil {
		return why
	}
	if why := c.balance(t, want.Attributes); why != nil {
		return why
	}
	for k, v := range want.Attributes {
		if !strings.HasPrefix(k, wire.OwnTag) {
			continue
		}
		if word(v) == "" {
			delete(t.Attributes, k)
		} else {
			t.Attributes[k] = word(v)
		}
	}
	return nil
}

// limit bounds a volume; 0 does not.
func (c *Cloud) limit(t *thing, want map[string]any) *refusal {
	for _, name := range []string{wire.OwnIOPerSecond, wire.OwnIOMiB} {
		v, said := want[name]
		switch {
		case !said:
		case t.term != "storage":
			return no(http.StatusBadRequest, "only volumes are bounded")
		case number(v) < 0:
			return no(http.StatusBadRequest, "%s: nothing is bounded by less than nothing", name)
		case number(v) == 0:
			delete(t.Attributes, name)
		default:
			t.Attributes[name] = number(v)
		}
	}
	return nil
}

// resize gives a stopped instance another size, or lets a volume grow.
func (c *Cloud) resize(t *thing, want wire.Resource) *refusal {
	switch t.term {
	case "storage":
		if size, ok := want.Attributes[wire.StorageSize]; ok {
			if number(size) < number(t.Attributes[wire.StorageSize]) {
				return no(http.StatusConflict, "a volume does not shrink")
			}
			t.Attributes[wire.StorageSize] = size
			t.disk.Grow(int64(number(size) * (1 << 30)))
		}
		return nil
	case "compute":
	default:
		return nil
	}
	take := t.take
	if sized := slices.ContainsFunc([]string{wire.Cores, wire.Memory, wire.OwnDisk}, func(name string) bool { _, said := want.Attributes[name]; return said }); t.service() != "" && (sized || len(want.Mixins) > 0) {
		return no(http.StatusConflict, "what the site runs itself has no size")
	}
	for _, m := range want.Mixins {
		if name, ok := strings.CutPrefix(m, wire.OwnSizes); ok {
			i := slices.IndexFunc(c.site.Sizes, func(s estate.Size) bool { return s.Name == name })
			if i < 0 {
				return no(http.StatusBadRequest, "the size %q is not offered here", name)
			}
			take.Cores, take.MemoryGiB = c.site.Sizes[i].Cores, c.site.Sizes[i].MemoryGiB
			t.Mixins = withSize(t.Mixins, m)
		}
	}
	for name, set := range map[string]func(float64){wire.Cores: func(x float64) { take.Cores = int(x) },
		wire.Memory: func(x float64) { take.MemoryGiB = x }, wire.OwnDisk: func(x float64) { take.DiskGiB = x }} {
		if v, ok := want.Attributes[name]; ok {
			set(number(v))
		}
	}
	if t.room == nil || take.Cores == t.take.Cores && take.MemoryGiB == t.take.MemoryGiB && take.DiskGiB == t.take.DiskGiB {
		return nil
	}
	if t.Attributes[wire.ComputeState] == "active" {
		return no(http.StatusConflict, "the instance must be stopped before it is given another size")
	}
	if free := t.room.free.Plus(t.take); !free.Fits(take) {
		return no(http.StatusConflict, "there is no room for %s in zone %q", take, t.room.zone)
	}
	t.room.free = t.room.free.Plus(t.take).Minus(take)
	t.take = take
	t.disk.Grow(int64(take.DiskGiB * (1 << 30)))
	t.Attributes[wire.Cores], t.Attributes[wire.Memory], t.Attributes[wire.OwnDisk] = take.Cores, take.MemoryGiB, take.DiskGiB
	return nil
}

// withSize are mixins with another size among them.
func withSize(mixins []string, size string) []string {
	out := slices.DeleteFunc(slices.Clone(mixins), func(m string) bool { return strings.HasPrefix(m, wire.OwnSizes) })
	return append(out, size)
}

// act starts, stops or suspends an instance, releases an interface and leads what comes there elsewhere, or restores a snapshot to a disk.
func (c *Cloud) act(t *thing, action, to string) *refusal {
	switch t.term {
	case "networkinterface":
		return c.actOnInterface(t, action, to)
	case "snapshot":
		return c.restore(t, action, to)
	}
	if t.term != "compute" {
		return no(http.StatusBadRequest, "only instances are started and stopped")
	}
	state, is := t.Attributes[wire.ComputeState], word(t.Attributes[wire.ComputeWord])
	switch {
	case action == "stop" && is == "active" && isReal(t):
		t.Attributes[wire.ComputeWord] = "stopping"
		go t.host.(real).Halt()
	case action == "stop" && is != "stopping" && (state == "active" || is == "suspended"):
		t.host.Close()
		t.Attributes[wire.ComputeState], t.Attributes[wire.ComputeWord] = "inactive", "stopped"
		c.changed(t)
	case action == wire.ActionSuspend && state == "active":
		if err := t.host.Suspend(); err != nil {
			return no(http.StatusConflict, "%v", err)
		}
		t.Attributes[wire.ComputeState], t.Attributes[wire.ComputeWord] = "suspended", "suspended"
		c.changed(t)
	case action == "start" && is == "suspended":
		if err := t.host.Resume(); err != nil {
			return no(http.StatusConflict, "%v", err)
		}
		t.Attributes[wire.ComputeState], t.Attributes[wire.ComputeWord] = "active", "active"
		c.changed(t)
	case action == "start" && is == "stopped":
		t.Attributes[wire.ComputeWord] = "building"
		go c.restart(t)
	case action == "start" || action == "stop" || action == wire.ActionSuspend:
		return no(http.StatusConflict, "the instance is %v", t.Attributes[wire.ComputeWord])
	default:
		return no(http.StatusBadRequest, "there is no action %q", action)
	}
	return nil
}

// restart boots a stopped instance, or one that was built and not switched on; what ran on it does not start by itself
// unless it was suspended.
func (c *Cloud) restart(t *thing) {
	share := 0.5
	if c.goesOn(t) {
		share = 0.02 // nothing is booted: it goes on where it was
	}
	if !c.wait(time.Duration(c.site.Timings.Instance * c.pace * share * float64(time.Second))) {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.things[t.ID] == nil {
		return // deleted meanwhile
	}
	if err := c.powerOn(t); err != nil {
		t.Attributes[wire.ComputeState], t.Attributes[wire.ComputeWord] = "error", err.Error()
		_ = c.keep()
		return
	}
	t.Attributes[wire.ComputeState], t.Attributes[wire.ComputeWord] = "active", "active"
	delete(t.Attributes, wire.OwnAsleep)
	c.note(t)
}

// goesOn reports that a machine was copied from one that was suspended.
func (c *Cloud) goesOn(t *thing) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.things[t.ID] != nil && asleep(t) && host.Suspended(t.disk)
}

// record keeps what is on the disks of a machine that is about to be switched on for the first time.
func (c *Cloud) record(t *thing) {
	if c.digests == nil {
		return
	}
	c.digests[t.ID], _ = wholeDigest(t.disk)
	for _, x := range c.things {
		if x.term == "storagelink" && x.source == t.ID && c.things[x.target] != nil {
			c.digests[x.target], _ = wholeDigest(c.things[x.target].disk)
		}
	}
}

// reread reports that a machine must read its disks anew, and puts what only its memory has on those that are not stale.
func (c *Cloud) reread(t *thing) bool {
	disks := []*thing{t}
	for _, x := range c.things {
		if x.term == "storagelink" && x.source == t.ID && c.things[x.target] != nil {
			disks = append(disks, c.things[x.target])
		}
	}
	if !slices.ContainsFunc(disks, func(d *thing) bool { return d.stale }) {
		return false
	}
	for _, d := range disks {
		if !d.stale && t.host != nil {
			t.host.Sync(d.disk)
		}
		d.stale = false
	}
	return true
}

// powerOn makes the machine real and plugs it in.
func (c *Cloud) powerOn(t *thing) error {
	if asleep(t) {
		c.record(t)
		c.reread(t)
		delete(t.Attributes, wire.OwnAsleep)
		if why := c.boot(t); why != nil {
			return errors.New(why.text)
		}
	} else if was, makes := t.host.(simulated); c.reread(t) || !makes {
		if why := c.boot(t); why != nil {
			return errors.New(why.text)
		}
	} else {
		h, err := was.Reboot()
		if err != nil {
			return err
		}
		t.host = simulated{h}
		c.watch(h)
	}
	for _, link := range c.things {
		if link.source != t.ID || link.reach == nil {
			continue
		}
		link.Attributes[wire.OwnHostKey], link.Attributes[wire.OwnSSHUser] = t.host.HostKey(), t.host.User()
		if word(link.Attributes[wire.LinkWord]) == "released" {
			continue
		}
		if err := t.host.Plug(link.reach); err != nil {
			return err
		}
	}
	return nil
}

// actOnInterface releases an interface: its address is kept for it, and leads elsewhere if that is said; or has it back.
func (c *Cloud) actOnInterface(t *thing, action, lead string) *refusal {
	source := c.things[t.source]
	switch {
	case action == wire.ActionRelease && source != nil:
		if source.Attributes[wire.ComputeState] == "active" {
			return no(http.StatusConflict, "%s is on: its interface is in use", source.Title)
		}
		if word(source.Attributes[wire.ComputeWord]) == "suspended" {
			t.lead = lead
			source.host.Lead(leads(lead))
		}
		t.Attributes[wire.LinkState], t.Attributes[wire.LinkWord] = "inactive", "released"
	case action == wire.ActionReclaim && source != nil:
		t.Attributes[wire.LinkState], t.Attributes[wire.LinkWord], t.lead = "active", "active", ""
	default:
		return no(http.StatusBadRequest, "an interface knows no action %q", action)
	}
	c.changed(t)
	return nil
}

// leads reads where ports lead, as PORT:ADDRESS between commas; others lead nowhere.
func leads(text string) func(port int) string {
	to := map[int]string{}
	for _, pair := range strings.Split(text, ",") {
		port, where, ok := strings.Cut(pair, ":")
		if n, err := strconv.Atoi(port); ok && err == nil {
			to[n] = where
		}
	}
	return func(port int) string { return cmp.Or(to[port], host.Nowhere) }
}

// remove deletes a resource; links go with the instance they lead from, and a target in use is kept.
func (c *Cloud) remove(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	t := c.find(w, r)
	if t == nil {
		return
	}
	for _, link := range c.things {
		if link.target == t.ID {
			refuse(w, http.StatusConflict, "%s is linked to %s", t.Title, link.source)
			return
		}
	}
	for id, link := range c.things {
		if link.source == t.ID {
			c.drop(id)
		}
	}
	c.drop(t.ID)
	c.asked = time.Now()
	w.WriteHeader(http.StatusNoContent)
}

// drop ends a thing and gives back what it took.
func (c *Cloud) drop(id string) {
	t := c.things[id]
	delete(c.things, id)
	t.Attributes[lives[t.term].word] = "gone"
	c.changed(t)
	if machine := c.things[t.source]; t.term == "storagelink" && machine != nil && machine.host != nil && c.things[t.target] != nil {
		_ = machine.host.Detach(t.target, c.things[t.target].disk)
	}
	if t.disk != nil {
		defer c.discard(t.disk)
	}
	if t.host != nil {
		t.host.Close()
	}
	if t.room != nil {
		t.room.free = t.room.free.Plus(t.take)
	}
	if t.reach != nil && t.reach.own {
		c.addrs.free(t.reach.address)
	}
}

var _ host.Network = (*reach)(nil)
