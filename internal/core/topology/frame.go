package topology

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/tosca"
)

// frame is a template in its place: the root template, or one that stands for a node of another.
type frame struct {
	tmpl   *tosca.Template
	prefix string
	// outer and stands are the place of the node that it stands for; nil for the root.
	outer  *frame
	stands *tosca.Node
	inputs map[string]any
	// within are the frames of nodes that templates stand for; chosen what requirements were found to be fulfilled by.
	within map[*tosca.Node]*frame
	chosen map[*tosca.Assignment][]*tosca.Node
	taken  map[*tosca.Node]*Existing
}

// place is a node template in its frame.
type place struct {
	f *frame
	n *tosca.Node
}

func (b *builder) frame(t *tosca.Template, inputs map[string]any) *frame {
	return &frame{tmpl: t, inputs: inputs, within: map[*tosca.Node]*frame{}, chosen: map[*tosca.Assignment][]*tosca.Node{},
		taken: map[*tosca.Node]*Existing{}}
}

// maxNesting bounds how deep templates stand within each other.
const maxNesting = 40

// inner is the frame of the template that stands for a node, nil where the node stands for itself.
func (b *builder) inner(f *frame, n *tosca.Node) *frame {
	if !n.Directive("substitute") {
		return nil
	}
	if in, done := f.within[n]; done {
		return in
	}
	f.within[n] = nil
	depth := 0
	for up := f; up != nil; up = up.outer {
		depth++
	}
	t := b.substitute(f, n)
	if t == nil || depth > maxNesting {
		return nil
	}
	in := b.frame(t, map[string]any{})
	in.prefix, in.outer, in.stands = f.prefix+n.Name+".", f, n
	f.within[n] = in
	return in
}

// substitute chooses the template that stands for a node: the first whose substitution filter the node satisfies and
// which satisfies the node's own filter, by order of import.
func (b *builder) substitute(f *frame, n *tosca.Node) *tosca.Template {
	all := b.tmpl.Candidates(n)
	var fit []*tosca.Template
	var misses []string
	for _, t := range all {
		miss := b.misses(place{f, n}, t.Substitution.Filter)
		if miss == "" {
			fit = append(fit, t)
			continue
		}
		misses = append(misses, fmt.Sprintf("for %s %s", t.Name, miss))
	}
	if len(fit) == 0 {
		b.mistake(n.Pos, n.Width(), tosca.CodeSubstitution, fmt.Sprintf("%s satisfies the substitution filter of no template that stands for a %s: %s", n.Name, n.Type.Name, someOf(misses)),
			"change a property, or a filter")
		return nil
	}
	if len(fit) > 1 && !tosca.Shipped(fit[1].Root) { // the one that ships is for where there is no other
		b.design.Notes = append(b.design.Notes, fmt.Sprintf("%s stands for %s%s, the first of %d templates that could", fit[0].Name, f.prefix, n.Name, own(fit)))
	}
	return fit[0]
}

// own are how many of some templates the files bring.
func own(all []*tosca.Template) (many int) {
	for _, t := range all {
		if !tosca.Shipped(t.Root) {
			many++
		}
	}
	return many
}

// someOf is the first of some reasons, and how many more there are.
func someOf(reasons []string) string {
	const shown = 3
	if len(reasons) <= shown {
		return strings.Join(reasons, "; ")
	}
	return fmt.Sprintf("%s; and %d more", strings.Join(reasons[:shown], "; "), len(reasons)-shown)
}

// misses holds a node's values against a filter: "" where it satisfies it, else the first that does not.
func (b *builder) misses(p place, f *tosca.Filter) string {
	if f == nil {
		return ""
	}
	if miss := b.missesOne(p, "", f.Properties); miss != "" {
		return miss
	}
	for _, cf := range f.Capabilities {
		c := p.f.tmpl.FilterCapability(p.n, cf.Name)
		if c == nil {
			return "there is no capability " + cf.Name
		}
		if miss := b.missesOne(p, c.Name, cf.Properties); miss != "" {
			return miss
		}
	}
	return ""
}

func (b *builder) missesOne(p place, capability string, cs []tosca.Condition) string {
	for _, c := range cs {
		defs, given := b.declared(p.n, capability)
		i := slices.IndexFunc(defs, func(d *tosca.Property) bool { return d.Name == c.Name })
		if i < 0 || given[c.Name] == nil && defs[i].Default == nil {
			return c.Name + " has no value"
		}
		x, ok := b.property(nil, p, capability, c.Name)
		switch {
		case !ok || isDeferred(x):
			return c.Name + " is not known before the run"
		case !c.Match(b.tmpl.Types, x, defs[i]):
			return fmt.Sprintf("%s is %s, and must be: %s", c.Name, tosca.Show(x), c)
		}
	}
	return ""
}

// targets are the node templates of the frame that fulfil a requirement: the one named, or those found by search.
func (b *builder) targets(f *frame, from *tosca.Node, a *tosca.Assignment) []*tosca.Node {
	if a.Target != "" {
		return []*tosca.Node{f.tmpl.Node(a.Target)}
	}
	if found, done := f.chosen[a]; done {
		return found
	}
	f.chosen[a] = nil
	var fit []*tosca.Node
	var misses []string
	for _, name := range a.Candidates {
		n := f.tmpl.Node(name)
		miss := b.misses(place{f, n}, a.Filter)
		if miss == "" {
			fit = append(fit, n)
			continue
		}
		misses = append(misses, fmt.Sprintf("of %s %s", name, miss))
	}
	if len(fit) < a.Count && !a.Outside {
		at, width := a.TargetPos()
		b.mistake(at, width, tosca.CodeUnfulfilled,
			fmt.Sprintf("%q of %s needs %d nodes that satisfy its filter, and %d of %s do: %s", a.Name, from.Name, a.Count, len(fit), strings.Join(a.Candidates, ", "), someOf(misses)),
			"change the filter, or the properties of one of them")
		return nil
	}
	if len(fit) > a.Count {
		b.design.Notes = append(b.design.Notes, fmt.Sprintf("%s%s: %s is fulfilled by %s, the first of %d nodes that could", f.prefix, from.Name, a.Name, fit[0].Name, len(fit)))
	}
	f.chosen[a] = fit[:min(a.Count, len(fit))]
	return f.chosen[a]
}

// landing is where a requirement leads in the end, with the assignment and the place it was made at.
type landing struct {
	place
	capability string
	by         *tosca.Assignment
	at         place
}

// lands follows a requirement to the nodes that fulfil it: into templates that stand for the target, and out of the
// frame where substitution maps the requirement.
func (b *builder) lands(p place, a *tosca.Assignment) []landing {
	if a.Outside {
		return b.landsOutside(p, a.Name)
	}
	var out []landing
	for _, t := range b.targets(p.f, p.n, a) {
		if t == nil {
			continue
		}
		capability := a.Capability
		if capability == "" {
			capability = p.f.tmpl.Offered(p.n, a, t)
		}
		for _, l := range b.enter(place{p.f, t}, capability) {
			l.by, l.at = a, p
			out = append(out, l)
		}
	}
	return out
}

// enter follows a capability into the template that stands for its node. A capability that is not mapped, such as that
// of every node, belongs to all of its parts.
func (b *builder) enter(p place, capability string) []landing {
	in := b.inner(p.f, p.n)
	if in == nil {
		return []landing{{place: p, capability: capability}}
	}
	if m, ok := in.tmpl.Substitution.Capabilities[capability]; ok {
		return b.enter(place{in, in.tmpl.Node(m.Node)}, m.Name)
	}
	var out []landing
	for _, n := range in.tmpl.Nodes {
		out = append(out, b.enter(place{in, n}, "feature")...)
	}
	return out
}

// landsOutside follows a requirement that substitution maps to one of the node that is stood for.
func (b *builder) landsOutside(p place, name string) []landing {
	var out []landing
	mapped := p.f.tmpl.Substitution.Requirements
	for _, outerName := range slices.Sorted(maps.Keys(mapped)) {
		m := mapped[outerName]
		if m.Node != p.n.Name || m.Name != name || p.f.outer == nil {
			continue
		}
		outer := place{p.f.outer, p.f.stands}
		for _, a := range outer.n.Requirements {
			if a.Name == outerName {
				out = append(out, b.lands(outer, a)...)
			}
		}
		if outer.f.tmpl.Substitution != nil && len(out) == 0 {
			out = append(out, b.landsOutside(outer, outerName)...)
		}
	}
	return out
}
