package occi

import (
	"cmp"
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi/wire"
)

// A plain site has none of our mixins. What it offers is told by its query interface alone (GFD.223, section 3.4.1), a machine's mark is kept in the summary that
// every resource has, and what has no place in the standard cannot be asked of it.

// offer is what the query interface of a site tells.
type offer struct {
	mixins map[string]wire.Category
	kinds  map[string]wire.Category
}

// queryPaths are where the query interface is: the short path, and that of RFC 5785.
var queryPaths = []string{wire.PathQuery, wire.PathQueryWellKnown}

// offers asks for the query interface, once. A site that has none knows what we know, and has it where the standard's examples do.
func (d *Driver) offers(ctx context.Context) (*offer, error) {
	d.mu.Lock()
	known := d.offer
	d.mu.Unlock()
	if known != nil {
		return known, nil
	}
	var q wire.Query
	var err error
	for _, where := range queryPaths {
		if err = d.do(ctx, "ask what there is", http.MethodGet, where, nil, nil, &q); site.ClassOf(err) != site.NotFound {
			break
		}
	}
	if site.ClassOf(err) == site.NotFound && err != nil || err == nil && len(q.Kinds) == 0 {
		q.Mixins, err = []wire.Category{{Scheme: ownMarkScheme, Term: ownMarkTerm}}, nil
	}
	if err != nil {
		return nil, err
	}
	found := &offer{map[string]wire.Category{}, map[string]wire.Category{}}
	for _, m := range q.Mixins {
		found.mixins[m.Scheme+m.Term] = m
	}
	for _, k := range q.Kinds {
		found.kinds[k.Scheme+k.Term] = k
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.offer = found
	return found, nil
}

var ownMarkScheme, ownMarkTerm = wire.Parted(wire.OwnMark)

// plain reports that a site has none of our mixins.
func (o *offer) plain() bool {
	_, marks := o.mixins[wire.OwnMark]
	return !marks
}

// collection is where the things of a kind are, after the address of the site; "" if that is not told. It may be told as a path or a URL.
func (o *offer) collection(kind, base string) string {
	where := o.kinds[kind].Location
	if u, err := url.Parse(where); err == nil {
		where = u.Path
	}
	if u, err := url.Parse(base); err == nil {
		where = strings.TrimPrefix(where, u.Path)
	}
	if where = strings.Trim(where, "/"); where == "" {
		return ""
	}
	return "/" + where + "/"
}

// derived are the mixins that depend on another, in the order of their names.
func (o *offer) derived(from string) []wire.Category {
	var out []wire.Category
	for _, m := range o.mixins {
		if slices.Contains(m.Depends, from) && m.Scheme+m.Term != from {
			out = append(out, m)
		}
	}
	slices.SortFunc(out, func(a, b wire.Category) int { return strings.Compare(a.Term+a.Scheme, b.Term+b.Scheme) })
	return out
}

// template is the mixin that depends on another and has a term, "" if there is none.
func (o *offer) template(from, term string) string {
	for _, m := range o.derived(from) {
		if m.Term == term {
			return m.Scheme + m.Term
		}
	}
	return ""
}

// unbounded is the room of a site that does not say how much it has: what does not fit it refuses by itself.
const unbounded = 1 << 20

// describe is what a plain site can be known to offer.
func (o *offer) describe(name string) *estate.Site {
	room := estate.Capacity{Cores: unbounded, MemoryGiB: unbounded, DiskGiB: unbounded}
	s := &estate.Site{Name: name, Network: estate.Address, Pace: 1, Zones: []estate.Zone{{Name: name, Free: room, Total: room}},
		Timings: estate.Timings{Network: 5, Volume: 10, Instance: 60, Interface: 5, Attachment: 5}}
	for _, m := range o.derived(wire.ResourceTpl) {
		z := estate.Size{Name: m.Term, Cores: int(defaultOf(m.Attributes[wire.Cores])), MemoryGiB: defaultOf(m.Attributes[wire.Memory])}
		if z.Cores > 0 && z.MemoryGiB > 0 { // else nobody could tell what fits in it
			s.Sizes = append(s.Sizes, z)
		}
	}
	s.FreeForm = len(s.Sizes) == 0
	for _, m := range o.derived(wire.OSTemplate) {
		s.Images = append(s.Images, estate.Image{Name: m.Term, OS: systemOf(m)})
	}
	if len(s.Images) == 0 { // what its machines start from is not asked for there
		s.Images = []estate.Image{{Name: ownImage, OS: "linux"}}
	}
	return s
}

// ownImage stands for what machines of a site start from that offers no images.
const ownImage = "of-the-site"

// systemOf is the system of an image, by what is said of it: nearly all are of one.
func systemOf(m wire.Category) string {
	if strings.Contains(strings.ToLower(m.Term+" "+m.Title), "windows") {
		return "windows"
	}
	return "linux"
}

// defaultOf is the value of an attribute as the query interface tells it: in its description (GFD.226, section 4.2), or alone.
func defaultOf(v any) float64 {
	if about, ok := v.(map[string]any); ok {
		v = about["default"]
	}
	n, _ := v.(float64)
	return n
}

// fitted is a request in the words that a site knows.
func (d *Driver) fitted(ctx context.Context, r site.Request, w wire.Resource) (wire.Resource, error) {
	o, err := d.offers(ctx)
	switch {
	case err != nil:
		return w, err
	case !o.plain():
		return w, nil
	case r.Asleep:
		return w, d.cannot("build a machine without switching it on")
	case len(r.Tags) > 0:
		return w, d.cannot("tag " + r.Name)
	case r.Kind == kinds.Interface && r.Address != "":
		return w, d.cannot("give an interface the address " + r.Address)
	}
	return o.fit(o.located(w, d.base), r)
}

// cannot refuses what a plain site has no words for.
func (d *Driver) cannot(what string) error {
	return &site.Error{Site: d.name, Doing: what, Class: site.Refused, Detail: "it has no word for that in the standard alone"}
}

// fit leaves out of a request what a plain site does not know, and says by the standard's own words what it can.
func (o *offer) fit(w wire.Resource, r site.Request) (wire.Resource, error) {
	var mixins []string
	for _, m := range w.Mixins {
		scheme, term := wire.Parted(m)
		switch scheme {
		case wire.OwnSizes:
			m = o.template(wire.ResourceTpl, term)
		case wire.OwnImages:
			if m = o.template(wire.OSTemplate, term); m == "" && term != "" && term != ownImage {
				return w, site.Final(fmt.Errorf("%s is to start from the image %s, which is not offered any more", w.Title, term))
			}
		}
		if _, known := o.mixins[m]; known {
			mixins = append(mixins, m)
		}
	}
	w.Mixins = mixins
	if disk, _ := w.Attributes[wire.OwnDisk].(float64); disk > 0 && w.Kind == wire.Compute {
		w.Attributes[wire.EphemeralStorage] = disk
	}
	for name := range w.Attributes {
		mixin := standardMixins[name]
		if _, known := o.mixins[mixin]; strings.HasPrefix(name, wire.OwnAttributes) || mixin != "" && !known {
			delete(w.Attributes, name)
		}
	}
	w.Summary = r.Mark
	if _, lets := o.mixins[wire.SSHKey]; !lets && r.PublicKey != "" {
		o.letIn(&w, r.PublicKey)
	}
	return w, nil
}

// standardMixins are the attributes that come with a mixin of the standard, which a site may be without.
var standardMixins = map[string]string{wire.CIDR: wire.IPNetwork, wire.PublicKey: wire.SSHKey}

// letIn has a machine take our key when it starts for the first time, where that can be said (GFD.224, section 3.5.2).
func (o *offer) letIn(w *wire.Resource, key string) {
	if _, can := o.mixins[wire.UserData]; !can {
		return
	}
	w.Mixins = append(w.Mixins, wire.UserData)
	w.Attributes[wire.UserDataText] = base64.StdEncoding.EncodeToString(fmt.Appendf(nil, "#cloud-config\nssh_authorized_keys:\n  - %s\n", key))
}

// where is the collection of a kind at this site.
func (d *Driver) where(ctx context.Context, kind kinds.Kind) (string, error) {
	o, err := d.offers(ctx)
	if err != nil {
		return "", err
	}
	return cmp.Or(o.collection(kindNames[kind], d.base), "/"+collections[kind]+"/"), nil
}

// kindNames are the kinds as the protocol has them.
var kindNames = map[kinds.Kind]string{kinds.Network: wire.Network, kinds.Volume: wire.Storage, kinds.Instance: wire.Compute, kinds.Interface: wire.NetworkInterface,
	kinds.Attachment: wire.StorageLink, kinds.Object: wire.Object, kinds.Snapshot: wire.Snapshot}

// whole reads what was answered to a change: the thing as it is now, or where it is, or nothing, and then it is asked for.
func (d *Driver) whole(ctx context.Context, kind kinds.Kind, id, at string, out wire.Resource) (site.Resource, error) {
	if out.ID != "" && (out.Kind != "" || len(out.Attributes) > 0) {
		return parse(kind, out), nil
	}
	if id == "" {
		id = idOf(cmp.Or(out.ID, at))
	}
	if id == "" || id == "." || id == "/" {
		return site.Resource{}, &site.Error{Site: d.name, Doing: fmt.Sprintf("create %s", kind), Class: site.Transient, Detail: "it does not say what it made"}
	}
	return d.Read(ctx, kind, id)
}
