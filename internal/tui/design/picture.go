package design

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/run"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// aboutRows is the room below the elevation for what is known of the selected node.
const aboutRows = 13

func (v *View) drawPicture(c *part.Canvas, r part.Rect) {
	v.areas[panePicture] = r
	c = c.Clip(r)
	style := part.In(part.Steel).Strong()
	if v.focus == panePicture {
		style = part.In(part.Ochre).Strong()
	}
	by := "by service"
	if v.pic.By == 0 {
		by = "by site"
	}
	x := c.Text(r.X+1, r.Y, style, "what it would build")
	x = c.Text(x+3, r.Y, part.In(part.Dim), by)
	if line := v.changesLine(); line != "" && v.state != nil {
		c.Cut(x+3, r.Y, r.X+r.W-x-4, part.In(part.Ochre), line)
	}
	if v.state == nil {
		v.drawNoPlan(c, part.Rect{X: r.X + 1, Y: r.Y + 2, W: r.W - 3, H: r.H - 2})
		return
	}
	about := 0
	if r.H >= 34 {
		about = aboutRows
	}
	v.pic.Draw(c, part.Rect{X: r.X, Y: r.Y + 1, W: r.W - 1, H: r.H - 1 - about}, v.state)
	if about > 0 {
		v.drawAbout(c, part.Rect{X: r.X + 1, Y: r.Y + r.H - about + 1, W: r.W - 3, H: about - 1})
	}
}

// drawNoPlan says what keeps the plan from being made, over a rough picture of what the template would build.
func (v *View) drawNoPlan(c *part.Canvas, r part.Rect) {
	y := r.Y
	for _, text := range v.noPlan() {
		for _, l := range part.Wrap(text, r.W) {
			c.Text(r.X, y, part.In(part.Text), l)
			y++
		}
	}
	if v.draft == nil {
		return
	}
	y++
	shown := r
	if r.H >= 24 && v.sketch != nil && len(v.template.Nodes) > 0 {
		shown.H = max(r.H/3, y-r.Y+3)
		v.pic.Draw(c, part.Rect{X: r.X - 1, Y: r.Y + shown.H + 1, W: r.W + 2, H: r.H - shown.H - 1}, v.sketch)
	}
	v.listDiagnostics(c.Clip(shown), shown, y)
}

// listDiagnostics lists what was found, as far as there is room.
func (v *View) listDiagnostics(c *part.Canvas, r part.Rect, y int) {
	for _, d := range v.draft.Diagnostics {
		for i, l := range part.Wrap(fmt.Sprintf("line %d: %s", d.Line, d.Message), r.W-2) {
			if i == 0 && d.Severity == tosca.Doubt {
				c.Text(r.X, y, part.In(part.Ochre), "?")
			} else if i == 0 {
				c.Text(r.X, y, part.In(part.Coral), c.Look.Mark(run.Failed))
			}
			c.Text(r.X+2, y, part.In(part.Text), l)
			y++
		}
		for _, l := range part.Wrap(d.Hint, r.W-2) {
			c.Text(r.X+2, y, part.In(part.Dim), l)
			y++
		}
	}
}

// drawAbout says what the selected node is, what it is tied to, where it goes and why, and in which order it is built.
func (v *View) drawAbout(c *part.Canvas, r part.Rect) {
	res := v.state.Resource(v.pic.Selected)
	if res == nil || v.draft.Design == nil {
		return
	}
	y := r.Y
	say := func(word, text string) {
		if y < r.Y+r.H && text != "" {
			c.Text(r.X, y, part.In(part.Dim), word)
			c.Cut(r.X+14, y, r.W-14, part.In(part.Text), text)
			y++
		}
	}
	n := v.draft.Design.Node(res.Node)
	x := c.Text(r.X, y, part.In(part.Text).Strong(), res.Node)
	if n != nil {
		c.Cut(x+3, y, r.W-part.Width(res.Node)-3, part.In(part.Dim), strings.Trim(n.Description+" · "+n.TypeName, " ·"))
	}
	y++
	if n != nil {
		v.relations(n, say)
	}
	say("placed", v.placed(res.Node))
	if len(res.Why) > 0 {
		say("because", res.Why[0])
	}
	say("cost", v.cost(res.Node))
	y++
	c.Text(r.X, y, part.In(part.Steel).Strong(), "order")
	y++
	for i, l := range v.order(res) {
		if y >= r.Y+r.H {
			return
		}
		at := c.Text(r.X, y, part.In(part.Ochre), fmt.Sprint(i+1))
		c.Cut(at+2, y, r.W-4, part.In(part.Text), l)
		y++
	}
}

// wordOf says a relation in the trade's words.
var wordOf = map[topology.Ordering]string{topology.Hosted: "hosted on", topology.Connects: "connects to", topology.Depends: "depends on",
	topology.Attaches: "attaches to", topology.Links: "links to", topology.Binds: "binds to"}

func (v *View) relations(n *topology.Node, say func(word, text string)) {
	by := map[string][]string{}
	var order []string
	for _, rel := range n.Relations {
		word := wordOf[rel.Order]
		if by[word] == nil {
			order = append(order, word)
		}
		by[word] = append(by[word], rel.Target.Name)
	}
	for _, word := range order {
		say(word, strings.Join(by[word], ", "))
	}
}

// placed says where the node's instances go.
func (v *View) placed(node string) string {
	count := map[string]int{}
	for i := range v.state.Resources {
		if r := &v.state.Resources[i]; r.Node == node && r.Kind != kinds.Endpoint && !strings.HasSuffix(r.ID, ".if") {
			count[r.Site]++
		}
	}
	var words []string
	for _, s := range v.state.Plan.Sites {
		switch n := count[s.Name]; n {
		case 0:
		case 1:
			words = append(words, s.Name)
		default:
			words = append(words, fmt.Sprintf("%s ×%d", s.Name, n))
		}
	}
	return strings.Join(words, ", ")
}

func (v *View) cost(node string) string {
	var sum money.Amount
	for i := range v.state.Resources {
		if r := &v.state.Resources[i]; r.Node == node {
			sum += r.Costs()
		}
	}
	if sum == 0 {
		return ""
	}
	return fmt.Sprintf("%.3f %s/h", sum, v.state.Plan.Currency)
}

// order lists the steps that raise a resource, each with what it waits for.
func (v *View) order(r *run.Resource) []string {
	var out []string
	for _, st := range v.state.StepsOf(r.ID) {
		line := st.Title
		if st.Script != nil {
			line += " · " + st.Script.Path
		}
		var on []string
		for _, a := range st.After {
			if before := v.state.Step(a); before.Resource != r.ID && !slices.Contains(on, v.state.Resource(before.Resource).Title) {
				on = append(on, v.state.Resource(before.Resource).Title)
			}
		}
		if len(on) > 0 {
			line += " · after " + strings.Join(on[:min(len(on), 3)], ", ")
		}
		out = append(out, line)
	}
	return out
}

// Why explains the selected node: where it goes and what rules out the other sites, or why there is no plan.
func (v *View) Why() view.Note {
	if v.template == nil || v.state == nil {
		var lines []view.Line
		for _, l := range v.noPlan() {
			lines = append(lines, view.Say(l))
		}
		return view.Note{Title: "why there is no plan", Lines: lines}
	}
	r := v.state.Resource(v.pic.Selected)
	if r == nil {
		return view.Note{Title: "why", Lines: []view.Line{view.Say("nothing is selected")}}
	}
	if on := v.state.Resource(r.On); on != nil {
		r = on
	}
	lines := []view.Line{view.Head("why at " + r.Site)}
	for _, w := range r.Why {
		lines = append(lines, view.Say("  "+w))
	}
	lines = append(lines, view.Listed("what the template's policies changed", v.draft.Effects(r.ID))...)
	if len(r.Elsewhere) > 0 {
		lines = append(lines, view.Say(""), view.Head("elsewhere"))
	}
	for _, e := range r.Elsewhere {
		lines = append(lines, view.Say(fmt.Sprintf("  %-14s %s", e.Site, e.Reason)))
	}
	return view.Note{Title: "why " + r.Title, Lines: lines}
}
