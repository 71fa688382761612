package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/naming"
	"andamio/internal/core/placement"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

// Offers holds a design against the estate and rules of its placement problem before anything is placed: what no site that a node may use offers, at the
// line that asks for it. A size, an image, an option that needs a feature (metadata "andamio.needs.PROPERTY" of the
// type), and names that the naming rule of every such site forbids.
func Offers(d *topology.Design, p placement.Problem) tosca.Diagnostics {
	e := p.Estate
	o := &offers{design: d, estate: e, rules: p.Rules}
	for _, n := range d.Nodes {
		base := n.Base
		if n.Builds == kinds.Instance {
			base = n
		}
		switch {
		case n.Builds == kinds.Instance:
			o.instance(n)
		case n.Builds == kinds.Network:
			o.options(n, e.Sites)
			o.vlan(n)
		case base != nil:
			o.options(n, o.allowed(base))
		}
	}
	o.named()
	o.diags.Sort()
	return o.diags
}

// named finds sites that policies name and that there are not. One that is nearly another's name is a mistake, and so is a policy of which no site is there;
// any other may be of another estate that the template is for too.
func (o *offers) named() {
	var known []string
	for _, s := range o.estate.Sites {
		known = append(known, s.Name)
	}
	for _, r := range o.design.Rules {
		all := texts(r.Properties["sites"])
		missing := slices.DeleteFunc(slices.Clone(all), func(name string) bool { return slices.Contains(known, name) })
		for _, name := range missing {
			severity, hint := tosca.Doubt, "there are "+strings.Join(known, ", ")
			if near := tosca.Nearest(name, known); near != "" {
				severity, hint = tosca.Mistake, fmt.Sprintf("did you mean %q?", near)
			} else if len(missing) == len(all) {
				severity = tosca.Mistake
			}
			o.add(r.Pos, len(r.Name), severity, tosca.CodeNotOffered, fmt.Sprintf("policy %s names the site %q, which there is not", r.Name, name), hint)
		}
	}
}

// vlan finds a VLAN that is in no range of any site.
func (o *offers) vlan(n *topology.Node) {
	v := n.Source.Properties["segmentation_id"]
	number, err := strconv.Atoi(fmt.Sprint(n.Properties["segmentation_id"]))
	if v == nil || err != nil {
		return
	}
	var ranges []string
	for _, s := range o.estate.Sites {
		for _, network := range s.Networks {
			if r := network.VLANs; r != nil {
				if number >= r.From && number <= r.To {
					return
				}
				ranges = append(ranges, fmt.Sprintf("%s has %d to %d", s.Name, r.From, r.To))
			}
		}
	}
	if ranges != nil { // else no site says which it has
		o.mistake(v.Pos(), v.Width(), fmt.Sprintf("no site has the VLAN %d, which %s asks for", number, n.Name), strings.Join(ranges, "; "))
	}
}

type offers struct {
	design *topology.Design
	estate *estate.Estate
	rules  []placement.Rule
	diags  tosca.Diagnostics
}

// allowed are the sites that no rule keeps a node from.
func (o *offers) allowed(n *topology.Node) []*estate.Site {
	sites, _ := placement.Allowed(o.estate, o.rules, n.Name)
	return sites
}

func (o *offers) add(at tosca.Pos, width int, s tosca.Severity, code tosca.Code, message, hint string) {
	o.diags = append(o.diags, tosca.Diagnostic{Pos: at, Width: max(width, 1), Code: code, Severity: s, Message: message, Hint: hint})
}

func (o *offers) mistake(at tosca.Pos, width int, message, hint string) {
	o.add(at, width, tosca.Mistake, tosca.CodeNotOffered, message, hint)
}

func (o *offers) instance(n *topology.Node) {
	sites, why := placement.Allowed(o.estate, o.rules, n.Name)
	if len(sites) == 0 {
		o.mistake(n.Pos, n.Source.Width(), fmt.Sprintf("no site may take %s", n.Name), strings.Join(why, "; "))
		return
	}
	o.image(n, sites)
	o.size(n, sites)
	o.name(n, sites)
	o.options(n, sites)
}

// image finds an image, or a system, that none of the sites offers.
func (o *offers) image(n *topology.Node, sites []*estate.Site) {
	if n.Image != "" {
		if !slices.ContainsFunc(sites, func(s *estate.Site) bool { return s.ImageNamed(n.Image) }) {
			at, width := n.Pos, n.Source.Width()
			for _, a := range n.Source.Artifacts {
				if a.File == n.Image {
					at, width = a.Pos, len(a.File)
				}
			}
			o.mistake(at, width, fmt.Sprintf("no site that %s may use has the image %s", n.Name, n.Image), offered(sites, imagesOf))
		}
		return
	}
	os, whole := osOf(n), releaseOf(n)
	has := func(r estate.Release) bool {
		return slices.ContainsFunc(sites, func(s *estate.Site) bool { return s.Image(os, r) != nil })
	}
	if !has(estate.Release{}) {
		at, width := placeOf(n, "type")
		o.mistake(at, width, fmt.Sprintf("no site that %s may use has an image of %s", n.Name, os), offered(sites, imagesOf))
		return
	}
	for _, part := range []struct {
		property string
		upTo     estate.Release
	}{
		{"architecture", estate.Release{Architecture: whole.Architecture}},
		{"distribution", estate.Release{Architecture: whole.Architecture, Distribution: whole.Distribution}},
		{"version", whole},
	} {
		if !has(part.upTo) {
			at, width := placeOf(n, part.property)
			o.mistake(at, width, fmt.Sprintf("no site that %s may use has an image of %s", n.Name, strings.TrimSpace(os+" "+part.upTo.String())), offered(sites, imagesOf))
			return
		}
	}
}

// imagesOf names a site's images, with what is said of their releases.
func imagesOf(s *estate.Site) []string {
	var out []string
	for _, i := range s.Images {
		name := i.Name
		if release := i.Release.String(); release != "" {
			name += " (" + release + ")"
		}
		out = append(out, name)
	}
	return out
}

func sizesOf(s *estate.Site) []string {
	if s.FreeForm {
		return []string{"any size that fits"}
	}
	var out []string
	for _, z := range s.Sizes {
		out = append(out, fmt.Sprintf("%s (%s %s)", z.Name, estate.Cores(z.Cores), estate.GiB(z.MemoryGiB)))
	}
	return out
}

// offered says what each site has.
func offered(sites []*estate.Site, of func(*estate.Site) []string) string {
	var out []string
	for _, s := range sites {
		out = append(out, s.Name+" has "+strings.Join(of(s), ", "))
	}
	return strings.Join(out, "; ")
}

// size finds a need of cores or memory that no size, and no host, of the sites holds.
func (o *offers) size(n *topology.Node, sites []*estate.Site) {
	need, volumes := needOf(n)
	need.DiskGiB -= volumes
	if slices.ContainsFunc(sites, func(s *estate.Site) bool { return placement.Offers(s, need) }) {
		return
	}
	asked := "mem_size"
	lesser := need
	lesser.MemoryGiB = 0
	if !slices.ContainsFunc(sites, func(s *estate.Site) bool { return placement.Offers(s, lesser) }) {
		asked = "num_cpus"
	}
	at, width := placeOf(n, asked)
	o.mistake(at, width, fmt.Sprintf("no site that %s may use has a size with %s and %s", n.Name, estate.Cores(need.Cores), estate.GiB(need.MemoryGiB)), offered(sites, sizesOf))
}

// placeOf is where a capability's property is assigned, or the node.
func placeOf(n *topology.Node, property string) (tosca.Pos, int) {
	for _, c := range n.Capabilities {
		if v := n.Source.Capabilities[c.Name][property]; v != nil {
			return v.Pos(), v.Width()
		}
	}
	return n.Pos, n.Source.Width()
}

// name holds the names of a node's instances against the naming rules of the sites. A strict rule of every site makes a
// mistake, any other a doubt.
func (o *offers) name(n *topology.Node, sites []*estate.Site) {
	var against []*estate.Site
	strict, name := 0, ""
	for _, s := range sites {
		made, err := naming.Name(s.Naming, naming.Values{Deployment: o.design.Name, Service: n.Service, Node: n.Name, Index: "1", Site: s.Name})
		if err != nil || !naming.Fits(s.Naming, made) {
			against, name = append(against, s), made
			if !s.Naming.Advisory {
				strict++
			}
		}
	}
	if len(against) == 0 {
		return
	}
	severity := tosca.Doubt
	if strict == len(sites) {
		severity = tosca.Mistake
	}
	rule := against[0].Naming
	hint := "names there match " + rule.Pattern
	if rule.Example != "" {
		hint += ", for example " + rule.Example
	}
	var names []string
	for _, s := range against {
		names = append(names, s.Name)
	}
	o.add(n.Pos, n.Source.Width(), severity, tosca.CodeNaming, fmt.Sprintf("the name %s is not one that %s takes", name, strings.Join(names, ", ")), hint)
}

// needsPrefix begins the metadata that name the feature which a property needs of a site.
const needsPrefix = "andamio.needs."

// options finds properties that are set and need a feature that none of the sites has.
func (o *offers) options(n *topology.Node, sites []*estate.Site) {
	o.needs(n, n.Source.Type.Metadata, n.Source.Properties, n.Properties, sites)
	for _, c := range n.Capabilities {
		given := n.Source.Capabilities[c.Name]
		if len(given) == 0 {
			continue
		}
		if t := o.design.Types.Find(tosca.CapabilityTypes, c.TypeName); t != nil {
			o.needs(n, t.Metadata, given, c.Properties, sites)
		}
	}
}

func (o *offers) needs(n *topology.Node, meta map[string]string, given map[string]*tosca.Value, values map[string]any, sites []*estate.Site) {
	for property, v := range given {
		feature := meta[needsPrefix+property]
		if feature == "" || values[property] == nil || values[property] == false {
			continue
		}
		if slices.ContainsFunc(sites, func(s *estate.Site) bool { return s.Has(feature) }) {
			continue
		}
		var names []string
		for _, s := range sites {
			names = append(names, s.Name)
		}
		o.mistake(v.Pos(), v.Width(), fmt.Sprintf("%s of %s needs a site with %s, and it may use only %s", property, n.Name, feature, strings.Join(names, ", ")),
			"remove it, or allow a site that has "+feature)
	}
}
