package reconcile

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/servicemap"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// world is the map of what serves what, in columns from the services to the sites. There are no lines between: what is
// selected lights what it needs and what needs it, and the loss of it is spelt out below.
type world struct {
	open   bool
	m      *servicemap.Map
	layer  servicemap.Layer
	at     [servicemap.Layers]int
	spots  []mapSpot
	lost   bool
	lossOf servicemap.Loss
	loss   string
	then
	// hangs says of each host and site how many services its loss takes down, and how many it weakens.
	hangs map[string][2]int
}

type mapSpot struct {
	r     part.Rect
	layer servicemap.Layer
	i     int
}

func (w *world) take(m *servicemap.Map) {
	w.m, w.loss, w.hangs = m, "", map[string][2]int{}
	for _, n := range slices.Concat(m.On(servicemap.Hosts), m.On(servicemap.Sites)) {
		if len(w.hangs) == mostHangs {
			break
		}
		loss := m.Losing(n.ID)
		w.hangs[n.ID] = [2]int{len(loss.Down), len(loss.Weakened)}
	}
	for l := range w.at {
		w.at[l] = min(w.at[l], max(len(m.On(servicemap.Layer(l)))-1, 0))
	}
	for int(w.layer) < servicemap.Layers-1 && len(m.On(w.layer)) == 0 {
		w.layer++
	}
}

// mostHangs bounds of how many hosts and sites that is worked out ahead.
const mostHangs = 400

func (w *world) selected() *servicemap.Node {
	if w.m == nil {
		return nil
	}
	on := w.m.On(w.layer)
	if len(on) == 0 {
		return nil
	}
	return on[min(w.at[w.layer], len(on)-1)]
}

// show selects a node; false if it is not in the map.
func (w *world) show(id string) bool {
	for l := range servicemap.Layers {
		for i, n := range w.m.On(servicemap.Layer(l)) {
			if n.ID == id {
				w.layer, w.at[l] = servicemap.Layer(l), i
				return true
			}
		}
	}
	return false
}

// step goes to another layer, to what is lit there first.
func (w *world) step(by int) {
	from := w.selected()
	if from == nil {
		return
	}
	lit := w.m.Under(from.ID)
	if by < 0 {
		lit = w.m.Over(from.ID)
	}
	for l := int(w.layer) + by; l >= 0 && l < servicemap.Layers; l += by {
		on := w.m.On(servicemap.Layer(l))
		if len(on) == 0 {
			continue
		}
		w.layer = servicemap.Layer(l)
		if i := slices.IndexFunc(on, func(n *servicemap.Node) bool { return lit[n.ID] }); i >= 0 && !lit[on[w.at[l]].ID] {
			w.at[l] = i
		}
		return
	}
}

// acts are what can be done with the selected node: all instances that carry it, or that it carries, can be moved.
func (w *world) acts() []view.Action {
	n, names := w.selected(), w.instances()
	if n == nil || len(names) == 0 {
		return nil
	}
	return []view.Action{{Name: "move " + n.Name, Effect: fmt.Sprintf("plans a move of %s; nothing is done before you have seen it", strings.Join(names, ", ")), Do: func() tea.Cmd {
		return tea.Batch(view.Cmd(view.PlanMove{Instances: names}), view.Cmd(view.Goto{Digit: "6"}))
	}}}
}

// instances are the names of the instances that the selected node stands on or that stand on it.
func (w *world) instances() []string {
	n := w.selected()
	if n == nil {
		return nil
	}
	lit := w.m.Under(n.ID)
	if n.Layer > servicemap.Instances {
		lit = w.m.Over(n.ID)
	}
	var out []string
	for _, i := range w.m.On(servicemap.Instances) {
		if (lit[i.ID] || i.ID == n.ID) && !i.Missing {
			out = append(out, i.Name)
		}
	}
	return out
}

// losing is what the loss of the selected node takes down, worked out once for each.
func (w *world) losing() servicemap.Loss {
	if n := w.selected(); n != nil && w.loss != n.ID {
		w.loss, w.lossOf = n.ID, w.m.Losing(n.ID)
	}
	return w.lossOf
}

// legendRows are below the columns.
const legendRows = 5

func (w *world) draw(c *part.Canvas, r part.Rect, now time.Time) {
	w.spots = w.spots[:0]
	n := w.selected()
	if n == nil {
		c.Text(r.X+2, r.Y+1, part.In(part.Dim), "nothing is recorded yet: a survey or a run fills the map")
		return
	}
	if !w.past.IsZero() {
		part.PastBar(c, r, w.past, now)
		r.Y, r.H = r.Y+1, r.H-1-part.PastRows
		part.PastLine(c, part.Rect{X: r.X, Y: r.Y + r.H, W: r.W, H: part.PastRows}, w.past, now, steps[w.stride].line, w.happened)
	}
	x := c.Text(r.X+1, r.Y, part.In(part.Text).Strong(), "what serves what")
	text := "the selected one lights what it needs → and what needs it ←; beside hosts and sites: services their loss takes down ✕ or weakens ◐"
	if w.lost {
		text = "what would be lost with the selected one; x shows what it needs again"
	}
	c.Cut(x+3, r.Y, r.X+r.W-x-4, part.In(part.Dim), text)
	how, ink := w.wrong()
	c.Cut(r.X+1, r.Y+1, r.W-2, ink, how)
	under, over, loss := w.m.Under(n.ID), w.m.Over(n.ID), w.losing()
	to, from := w.m.Peers(n.ID)
	peers := map[string]bool{}
	for _, l := range slices.Concat(to, from) {
		peers[l.From], peers[l.To] = true, true
	}
	width := r.W / servicemap.Layers
	for l := range servicemap.Layer(servicemap.Layers) {
		col := part.Rect{X: r.X + int(l)*width + 1, Y: r.Y + 3, W: width - 2, H: r.H - 3 - legendRows}
		w.column(c, col, l, func(x *servicemap.Node) (string, part.Style) {
			switch {
			case w.lost && loss.Lost[x.ID]:
				return "✕", part.In(part.Coral)
			case w.lost && loss.Cut[x.ID]:
				return "◐", part.In(part.Ochre)
			case w.lost && x.Layer == servicemap.Services && slices.Contains(loss.Weakened, x.Name):
				return "◐", part.In(part.Ochre)
			case w.lost:
				return "·", part.In(part.Dim)
			case x.ID == n.ID:
				return "■", part.In(part.Text).Strong()
			case under[x.ID] && l > w.layer:
				return "→", part.In(part.Teal)
			case over[x.ID] && l < w.layer:
				return "←", part.In(part.Sky)
			case peers[x.ID]:
				return "~", part.In(part.Violet)
			}
			return "·", part.In(part.Dim)
		})
	}
	w.legend(c, part.Rect{X: r.X + 1, Y: r.Y + r.H - legendRows, W: r.W - 2, H: legendRows}, n, to, from)
}

// column draws a layer, scrolled to what is selected in it, or to what is lit first.
func (w *world) column(c *part.Canvas, r part.Rect, l servicemap.Layer, look func(*servicemap.Node) (string, part.Style)) {
	on := w.m.On(l)
	head := part.In(part.Steel)
	if l == w.layer {
		head = part.In(part.Ochre)
	}
	c.Cut(r.X, r.Y, r.W, head.Strong(), fmt.Sprintf("%s %d", l.Word(), len(on)))
	c.Across(r.X, r.Y+1, r.W, head, c.Look.Glyphs.Thin)
	rows := r.H - 2
	top := 0
	if len(on) > rows {
		at := w.at[l]
		if l != w.layer {
			at = max(slices.IndexFunc(on, func(n *servicemap.Node) bool { mark, _ := look(n); return mark != "·" }), 0)
		}
		top = min(max(at-rows/2, 0), len(on)-rows)
	}
	for i := top; i < len(on) && i-top < rows; i++ {
		y := r.Y + 2 + i - top
		n := on[i]
		mark, style := look(n)
		if l == w.layer && i == w.at[l] {
			c.Fill(part.Rect{X: r.X - 1, Y: y, W: r.W + 1, H: 1}, part.OnSelected)
			c.Rune(r.X-1, y, part.In(part.Ochre).Strong(), c.Look.Glyphs.PickLeft)
		}
		c.Text(r.X, y, style, mark)
		name := n.Name
		if n.Layer == servicemap.Hosts {
			name += " · " + n.Site
		}
		w.hanging(c, r, y, n)
		if glyph, ill := w.lookOf(n); glyph != "" {
			name, style = glyph+" "+name, ill
		}
		room := r.W - 2
		if h := w.hangs[n.ID]; h[0]+h[1] > 0 {
			room = r.W - 8
		}
		c.Cut(r.X+2, y, room, style, name)
		w.spots = append(w.spots, mapSpot{part.Rect{X: r.X - 1, Y: y, W: r.W + 1, H: 1}, l, i})
	}
	if more := len(on) - top - rows; more > 0 {
		c.Right(r.X+r.W, r.Y+r.H-1, part.In(part.Dim), fmt.Sprintf(" ↓ %d", more))
	}
}

// hanging says beside a host or site how many services hang on it.
func (w *world) hanging(c *part.Canvas, r part.Rect, y int, n *servicemap.Node) {
	h := w.hangs[n.ID]
	if h[1] > 0 {
		c.Right(r.X+r.W, y, part.In(part.Ochre), fmt.Sprintf("◐%d", h[1]))
	}
	if h[0] > 0 {
		c.Right(r.X+r.W-3, y, part.In(part.Coral), fmt.Sprintf("✕%d", h[0]))
	}
}

// legend says in words what the selected node is to the others, and what its loss takes down.
func (w *world) legend(c *part.Canvas, r part.Rect, n *servicemap.Node, to, from []servicemap.Link) {
	c.Across(r.X, r.Y, r.W, part.In(part.Steel), c.Look.Glyphs.Ground)
	x := c.Text(r.X, r.Y+1, part.In(part.Text).Strong(), n.Name)
	if n.Site != "" && n.Site != n.Name {
		x = c.Text(x+2, r.Y+1, part.In(part.Dim), "at "+n.Site)
	}
	if t, is := w.troubles[n.ID]; is {
		glyph, ill := w.lookOf(n)
		x = c.Cut(x+2, r.Y+1, r.X+r.W-x-2, ill, fmt.Sprintf("%s %s: %s", glyph, t.Severity, t.Words))
	}
	if len(to)+len(from) > 0 {
		c.Cut(x+3, r.Y+1, r.X+r.W-x-3, part.In(part.Violet), strings.TrimSpace(w.talks("talks to", to, func(l servicemap.Link) string { return l.To })+"   "+
			w.talks("is asked by", from, func(l servicemap.Link) string { return l.From })))
	}
	loss := w.losing()
	x = c.Text(r.X, r.Y+2, part.In(part.Steel).Strong(), "its loss")
	switch {
	case len(loss.Down)+len(loss.Weakened) == 0:
		c.Text(x+2, r.Y+2, part.In(part.Teal), "takes no service down")
	default:
		if len(loss.Down) > 0 {
			x = c.Cut(x+2, r.Y+2, r.X+r.W-x-2, part.In(part.Coral).Strong(), "✕ takes down "+strings.Join(loss.Down, ", "))
		}
		if len(loss.Weakened) > 0 {
			c.Cut(x+2, r.Y+2, r.X+r.W-x-2, part.In(part.Ochre), "◐ weakens "+strings.Join(loss.Weakened, ", "))
		}
	}
	counts := map[servicemap.Layer]int{}
	for id := range loss.Lost {
		if x := w.m.Node(id); x != nil && id != n.ID {
			counts[x.Layer]++
		}
	}
	var words []string
	for l := range servicemap.Layer(servicemap.Layers) {
		if counts[l] > 0 {
			words = append(words, plural(counts[l], one(l)))
		}
	}
	x = r.X + 10
	if len(words) > 0 {
		x = c.Cut(x, r.Y+3, r.X+r.W-x, part.In(part.Dim), "with it go "+strings.Join(words, ", ")) + 2
	}
	if len(loss.Cut) > 0 {
		c.Cut(x, r.Y+3, r.X+r.W-x, part.In(part.Ochre), "◐ lose what they connect to: "+strings.Join(w.names(loss.Cut), ", "))
	}
}

// names are those of nodes, in order.
func (w *world) names(ids map[string]bool) []string {
	var out []string
	for id := range ids {
		if n := w.m.Node(id); n != nil {
			out = append(out, n.Name)
		}
	}
	slices.Sort(out)
	return out
}

func (w *world) talks(verb string, links []servicemap.Link, other func(servicemap.Link) string) string {
	var names []string
	for _, l := range links {
		if n := w.m.Node(other(l)); n != nil {
			names = append(names, fmt.Sprintf("%s (%s)", n.Name, l.Basis))
		}
	}
	if len(names) == 0 {
		return ""
	}
	return verb + " " + strings.Join(names, ", ")
}
