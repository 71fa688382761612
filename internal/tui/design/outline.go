package design

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/printable"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
	"andamio/internal/tui/part"
)

// outlineRow is a row of the outline: a tier, a node that a template stands for, or a node.
type outlineRow struct {
	tier  string
	name  string
	note  string
	depth int
	pos   tosca.Pos
	wrong bool
}

// outlineRows lists the tiers with their nodes. A node that a template stands for has its parts below it.
func (v *View) outlineRows() []outlineRow {
	if v.draft == nil || v.draft.Design == nil {
		return v.plainOutline()
	}
	d := v.draft.Design
	byTier := map[string][]*topology.Node{}
	for _, n := range d.Nodes {
		byTier[n.Service] = append(byTier[n.Service], n)
	}
	tiers := make([]topology.Service, 0, len(d.Services)+1)
	tiers = append(append(tiers, d.Services...), topology.Service{Title: "in no tier"})
	var out []outlineRow
	for _, tier := range tiers {
		nodes := byTier[tier.Name]
		if len(nodes) == 0 {
			continue
		}
		out = append(out, outlineRow{tier: tier.Title, note: printable.Count(len(nodes), "node")})
		told := map[string]bool{}
		for _, n := range nodes {
			out = append(out, v.substitutedRows(n, told)...)
			out = append(out, outlineRow{name: n.Name, note: v.nodeNote(n), depth: strings.Count(n.Name, "."), pos: n.Pos, wrong: v.isWrong(n.Pos)})
		}
	}
	return out
}

// substitutedRows are rows for the substituted nodes that n is a part of, each told once.
func (v *View) substitutedRows(n *topology.Node, told map[string]bool) []outlineRow {
	var out []outlineRow
	for _, s := range v.draft.Design.Substituted {
		if strings.HasPrefix(n.Name, s.Node+".") && !told[s.Node] {
			told[s.Node] = true
			out = append(out, outlineRow{name: s.Node, note: "template " + s.Template + " stands for it", depth: strings.Count(s.Node, "."), pos: s.Pos})
		}
	}
	return sortedByDepth(out)
}

func sortedByDepth(rows []outlineRow) []outlineRow {
	for i := 1; i < len(rows); i++ {
		for k := i; k > 0 && rows[k].depth < rows[k-1].depth; k-- {
			rows[k], rows[k-1] = rows[k-1], rows[k]
		}
	}
	return rows
}

// plainOutline lists the node templates as they are, while mistakes keep the design from being made.
func (v *View) plainOutline() []outlineRow {
	var out []outlineRow
	for _, n := range v.template.Nodes {
		note := ""
		if n.Type != nil {
			note = short(n.Type.Name)
		}
		out = append(out, outlineRow{name: n.Name, note: note, pos: n.Pos, wrong: v.isWrong(n.Pos)})
	}
	return out
}

// nodeNote says what a node is, how many there are and where they go.
func (v *View) nodeNote(n *topology.Node) string {
	note := short(n.TypeName)
	if n.Count > 1 {
		note += fmt.Sprintf(" ×%d", n.Count)
	}
	if v.state != nil {
		if where := v.placed(n.Name); where != "" {
			note += " · " + where
		}
	}
	return note
}

// short is a type's name without where it is from.
func short(name string) string { return name[strings.LastIndexAny(name, ".:")+1:] }

// isWrong reports whether a mistake stands in the node template that begins at a place.
func (v *View) isWrong(at tosca.Pos) bool { return v.wrongAt[at] }

// markWrong finds the node templates that mistakes stand in: of each file the last that begins at or before the mistake.
func (v *View) markWrong() {
	v.wrongAt = map[tosca.Pos]bool{}
	starts := map[string][]tosca.Pos{}
	for _, t := range append([]*tosca.Template{v.template.Template}, v.template.Substitutes...) {
		for _, n := range t.Nodes {
			starts[n.Pos.File] = append(starts[n.Pos.File], n.Pos)
		}
	}
	for _, d := range v.draft.Diagnostics {
		in := starts[d.File]
		i, found := slices.BinarySearchFunc(in, d.Line, func(p tosca.Pos, line int) int { return p.Line - line })
		if !found {
			i--
		}
		if d.Severity == tosca.Mistake && i >= 0 {
			v.wrongAt[in[i]] = true
		}
	}
}

// outlineAt is the row that the cursor's line belongs to.
func (v *View) outlineAt(rows []outlineRow) int {
	best, line := -1, 0
	for i, r := range rows {
		if r.name != "" && r.pos.File == v.file && r.pos.Line <= v.line+1 && r.pos.Line > line {
			best, line = i, r.pos.Line
		}
	}
	return max(best, 0)
}

// moveOutline moves to another node of the outline.
func (v *View) moveOutline(dy int) {
	rows := v.outlineRows()
	at := min(max(v.picked(rows)+dy, 0), len(rows)-1)
	step := 1
	if dy < 0 {
		step = -1
	}
	for at >= 0 && at < len(rows) && rows[at].name == "" {
		at += step
	}
	if at >= 0 && at < len(rows) {
		v.pickOutline(at)
	}
}

// picked is the selected row: that of the node picked last, else of the cursor's line.
func (v *View) picked(rows []outlineRow) int {
	for i, r := range rows {
		if r.name != "" && r.name == v.node {
			return i
		}
	}
	return v.outlineAt(rows)
}

func (v *View) pickOutline(at int) {
	rows := v.outlineRows()
	if at < 0 || at >= len(rows) || rows[at].name == "" {
		return
	}
	r := rows[at]
	v.node = r.name
	if v.template.Sources[r.pos.File] != nil {
		v.file, v.line = r.pos.File, r.pos.Line-1
	}
	v.selectNode(r.name)
}

// findNode picks the next node whose name has the text.
func (v *View) findNode(text string) bool {
	rows := v.outlineRows()
	from := v.picked(rows)
	for i := range rows {
		at := (from + i) % len(rows)
		if rows[at].name != "" && strings.Contains(strings.ToLower(rows[at].name), strings.ToLower(text)) {
			v.pickOutline(at)
			return true
		}
	}
	return false
}

func (v *View) drawOutline(c *part.Canvas, r part.Rect) {
	v.areas[paneSource] = r
	c = c.Clip(r)
	rows := v.outlineRows()
	at := v.picked(rows)
	first := max(0, min(at-r.H/2, len(rows)-r.H))
	for i := first; i < len(rows) && i-first < r.H; i++ {
		y := r.Y + i - first
		row := rows[i]
		if row.tier != "" {
			x := c.Cut(r.X+2, y, r.W-4, part.In(part.Text).Strong(), row.tier)
			c.Cut(x+2, y, r.X+r.W-x-3, part.In(part.Dim), row.note)
			continue
		}
		v.spots = append(v.spots, rowSpot{y, i, paneSource})
		if i == at {
			c.Fill(part.Rect{X: r.X + 1, Y: y, W: r.W - 1, H: 1}, part.OnSelected)
			c.Rune(r.X, y, part.In(part.Ochre).Strong(), c.Look.Glyphs.PickLeft)
		}
		x := r.X + 4 + 2*row.depth
		if row.wrong {
			c.Text(x-2, y, part.In(part.Coral), c.Look.Mark("failed"))
		}
		name := row.name[strings.LastIndexByte(row.name, '.')+1:]
		end := c.Cut(x, y, min(28, r.W-6), part.In(part.Text), name)
		note := max(end+2, r.X+30)
		c.Cut(note, y, r.X+r.W-note-1, part.In(part.Dim), row.note)
	}
}
