package sandbox

import (
	"maps"
	"net/http"
	"slices"
	"strings"

	"andamio/internal/site/occi/wire"
)

// core is the scheme of the kinds that all others derive from (GFD.221, section 4).
const core = "http://schemas.ogf.org/occi/core#"

// about says of an attribute what the query interface tells (GFD.226, section 4.2).
func about(kind string, mutable, required bool) map[string]any {
	return map[string]any{"type": kind, "mutable": mutable, "required": required}
}

// Attributes of the kinds, as they may be given (GFD.224, sections 3.1 to 3.4).
var kindAttributes = map[string]map[string]any{
	"compute": {wire.Cores: about("number", true, false), wire.Memory: about("number", true, false), wire.Hostname: about("string", false, false),
		wire.ComputeState: about("string", false, false), wire.ComputeWord: about("string", false, false)},
	"storage": {wire.StorageSize: about("number", true, true), wire.StorageState: about("string", false, false), wire.StorageWord: about("string", false, false)},
	"network": {wire.VLAN: about("number", false, false), wire.Label: about("string", false, false), wire.NetworkState: about("string", false, false),
		wire.NetworkWord: about("string", false, false)},
	"networkinterface": {wire.LinkMAC: about("string", false, false), wire.LinkState: about("string", false, false), wire.LinkWord: about("string", false, false)},
	"storagelink": {wire.Device: about("string", false, false), wire.MountPoint: about("string", false, false), wire.StoreState: about("string", false, false),
		wire.StoreWord: about("string", false, false)},
}

// kindActions are the actions of the kinds.
var kindActions = map[string][]string{"compute": {"start", "stop", wire.ActionSuspend}, "networkinterface": {wire.ActionRelease, wire.ActionReclaim}, "snapshot": {wire.ActionRestore}}

// mixins are those that every stand-in knows, beside one for each size and image.
var mixins = map[string]map[string]any{
	wire.OSTemplate: nil, wire.ResourceTpl: nil,
	wire.IPNetwork:   {wire.CIDR: about("string", false, false)},
	wire.IPInterface: {wire.Address: about("string", false, false)},
	wire.SSHKey:      {wire.PublicKey: about("string", false, false)},
	wire.OwnPlaced:   {wire.OwnZone: about("string", false, false), wire.OwnHost: about("string", false, false), wire.OwnDisk: about("number", true, false)},
	wire.OwnMark:     {wire.OwnMarkText: about("string", true, false)},
	wire.OwnReach:    {wire.OwnPorts: about("string", false, false), wire.OwnInside: about("string", true, false), wire.OwnMAC: about("string", false, false)},
}

// query answers the query interface (GFD.221, section 4.3): kinds, actions, and a mixin for each size and image.
func (c *Cloud) query(w http.ResponseWriter, _ *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	respond(w, http.StatusOK, c.categories())
}

// always is an attribute whose value is settled, as the query interface tells it.
func always(kind string, v any) map[string]any {
	out := about(kind, false, false)
	out["default"] = v
	return out
}

// categories are all that there are. The lock is held.
func (c *Cloud) categories() wire.Query {
	q := wire.Query{Kinds: []wire.Category{{Term: "entity", Scheme: core, Attributes: map[string]any{"occi.core.id": about("string", false, false), "occi.core.title": about("string", true, false)}},
		{Term: "resource", Scheme: core, Parent: core + "entity"},
		{Term: "link", Scheme: core, Parent: core + "entity", Attributes: map[string]any{"occi.core.source": about("string", false, true), "occi.core.target": about("string", false, true)}}}}
	kind := func(term, scheme string) {
		parent := core + "resource"
		if terms[term].link {
			parent = core + "link"
		}
		x := wire.Category{Term: term, Scheme: scheme, Parent: parent, Location: "/" + term + "/", Attributes: kindAttributes[term]}
		for _, a := range kindActions[term] {
			x.Actions = append(x.Actions, wire.ComputeAction+a)
		}
		q.Kinds = append(q.Kinds, x)
	}
	for _, term := range []string{"compute", "network", "networkinterface", "storage", "storagelink"} {
		kind(term, wire.Infrastructure)
	}
	for _, term := range []string{"object", "snapshot"} {
		if c.has(term) {
			kind(term, wire.Own+"storage#")
		}
	}
	q.Kinds = append(q.Kinds, wire.Category{Term: "site", Scheme: wire.Own + "estate#", Location: "/site/"})
	for name, attributes := range mixins {
		scheme, term := wire.Parted(name)
		q.Mixins = append(q.Mixins, wire.Category{Term: term, Scheme: scheme, Attributes: attributes})
	}
	slices.SortFunc(q.Mixins, func(a, b wire.Category) int { return strings.Compare(a.Scheme+a.Term, b.Scheme+b.Term) })
	for _, s := range c.site.Sizes {
		q.Mixins = append(q.Mixins, wire.Category{Term: s.Name, Scheme: wire.OwnSizes, Depends: []string{wire.ResourceTpl},
			Attributes: map[string]any{wire.Cores: always("number", s.Cores), wire.Memory: always("number", s.MemoryGiB)}})
	}
	for _, i := range c.site.Images {
		q.Mixins = append(q.Mixins, wire.Category{Term: i.Name, Scheme: wire.OwnImages, Depends: []string{wire.OSTemplate}})
	}
	for _, name := range slices.Sorted(maps.Keys(c.site.Appliances)) {
		q.Mixins = append(q.Mixins, wire.Category{Term: name, Scheme: wire.OwnAppliances})
	}
	for _, name := range slices.Sorted(maps.Keys(c.tags)) {
		q.Mixins = append(q.Mixins, c.tags[name])
	}
	for i := range q.Mixins {
		q.Mixins[i].Location = mixinPath(q.Mixins[i].Scheme + q.Mixins[i].Term)
	}
	seen := map[string]bool{}
	for _, term := range []string{"compute", "networkinterface", "snapshot"} {
		for _, a := range kindActions[term] {
			if !seen[a] {
				seen[a] = true
				q.Actions = append(q.Actions, wire.Category{Term: a, Scheme: wire.ComputeAction})
			}
		}
	}
	return q
}

// unknown is the first of some mixins that is not offered here; "" if all are. Sizes and images are looked for by who takes them. The lock is held.
func (c *Cloud) unknown(all []string) string {
	for _, m := range all {
		scheme, _ := wire.Parted(m)
		_, tag := c.tags[m]
		if _, is := mixins[m]; !is && !tag && scheme != wire.OwnSizes && scheme != wire.OwnImages && scheme != wire.OwnAppliances {
			return m
		}
	}
	return ""
}
