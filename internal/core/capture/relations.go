package capture

import (
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/plan"
)

// relation is what a relationship of one node to another does, beside that it is there.
type relation struct{ source, target string }

// Operations of the interface Configure of a relationship that run on its source; the others run on its target. See TOSCA
// 1.3, section 5.8.5.
var onSource = []string{"pre_configure_source", "post_configure_source", "add_target", "remove_target", "target_changed"}

// relate takes a script of a relationship over, of the first instances of both its ends.
func (c *capturer) relate(s *plan.Step) {
	op, other, both := strings.Cut(s.Title, " ")
	here := c.plan.Resource(s.Resource)
	if !both || here == nil || s.Script == nil || c.nodes[here.Node] == nil || c.nodes[here.Node].first.ID != s.Resource {
		return
	}
	r := relation{here.Node, other}
	if !slices.Contains(onSource, op) {
		r = relation{other, here.Node}
	}
	if c.nodes[r.source] == nil || c.nodes[r.target] == nil {
		return
	}
	if c.relations[r] == nil {
		c.relations[r] = map[string]any{}
	}
	if c.relations[r][op] != nil {
		return // of another instance of its source
	}
	c.relations[r][op] = c.within(r, func() map[string]any { return c.operation(here.Node, s.Script) })
	if undo := plan.TakenBackBy[op]; undo != "" && s.Undo != nil {
		c.relations[r][undo] = c.within(r, func() map[string]any { return c.operation(here.Node, s.Undo) })
	}
}

// within does something while values are those of a relationship: its ends go by their keywords, so that each instance has
// its own.
func (c *capturer) within(r relation, do func() map[string]any) map[string]any {
	c.ends = map[string]string{r.source: "SOURCE", r.target: "TARGET"}
	defer func() { c.ends = nil }()
	return do()
}

// end is how a node is named in a value: by its keyword in a relationship that it is an end of.
func (c *capturer) end(node string) string {
	if word := c.ends[node]; word != "" {
		return word
	}
	return c.named(node)
}

// literal is a plain value: the name of an end's first instance is that of every one.
func (c *capturer) literal(v any) any {
	id, isText := v.(string)
	if r := c.plan.Resource(id); isText && r != nil && c.ends[r.Node] != "" {
		return map[string]any{"get_attribute": []any{c.ends[r.Node], "tosca_id"}}
	}
	return v
}

// uses is the requirement of one node for another that it connects to, with what their relationship does.
func (c *capturer) uses(from, to string) any {
	operations := c.relations[relation{from, to}]
	if len(operations) == 0 {
		return to
	}
	return map[string]any{"node": to, "relationship": map[string]any{"type": "tosca.relationships.ConnectsTo",
		"interfaces": map[string]any{"Configure": maps.Clone(operations)}}}
}
