package tui

import (
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// overlay is drawn over the view and takes what is typed; hear returns what is on top next, nil to go away.
type overlay interface {
	hear(msg tea.Msg) (overlay, tea.Cmd)
	draw(c *part.Canvas, r part.Rect)
	// keys are those that the bar shows while it is on top.
	keys() []view.Key
}

// named is the name of the key that was pressed, "" if something was pasted.
func named(msg tea.Msg) string {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return k.String()
	}
	return ""
}

// leaves is what esc does to everything that lies over a view.
func leaves(says string) view.Key { return view.On("esc", "esc", "go back", says, nil) }

// sheet draws an empty panel in the middle of a part and returns its inside.
func sheet(c *part.Canvas, r part.Rect, title string, w, h int) part.Rect {
	w, h = min(w, r.W-4), min(h, r.H-2)
	box := part.Rect{X: r.X + (r.W-w)/2, Y: r.Y + (r.H-h)/2, W: w, H: h}
	c.Fill(box, part.Panel)
	c.Across(box.X, box.Y, box.W, part.In(part.Ochre).On(part.Panel), c.Look.Glyphs.Rule)
	c.Cut(box.X+2, box.Y, box.W-4, part.In(part.Ochre).On(part.Panel).Strong(), " "+title+" ")
	return part.Rect{X: box.X + 3, Y: box.Y + 2, W: box.W - 6, H: box.H - 3}
}

// note shows text until a key.
type note struct {
	view.Note
	scroll int
}

func (n *note) keys() []view.Key {
	return []view.Key{view.On(view.UpDown, "↑↓", "scroll", "scrolls where there is more than fits", nil), leaves("closes it; any other key does too")}
}

func (n *note) hear(msg tea.Msg) (overlay, tea.Cmd) {
	switch named(msg) {
	case "":
	case "down", "j":
		n.scroll++
	case "up", "k":
		n.scroll = max(n.scroll-1, 0)
	default:
		return nil, nil
	}
	return n, nil
}

func (n *note) draw(c *part.Canvas, r part.Rect) {
	w := min(96, r.W-4)
	var lines []view.Line
	for _, l := range n.Lines {
		for _, piece := range l.Wrap(w - 6) {
			lines = append(lines, view.Line{Text: piece, Strong: l.Strong})
		}
	}
	in := sheet(c, r, n.Title, w, len(lines)+4)
	n.scroll = min(n.scroll, max(len(lines)-in.H, 0))
	for i, l := range lines[n.scroll:] {
		if i >= in.H {
			c.Right(in.X+in.W, in.Y+in.H, part.In(part.Dim).On(part.Panel), "↓ more")
			break
		}
		style := part.In(part.Text)
		if l.Strong {
			style = part.In(part.Steel).Strong()
		}
		c.Text(in.X, in.Y+i, style, l.Text)
	}
}

// menu offers acts by number.
type menu struct {
	acts []view.Action
	at   int
}

func (m *menu) keys() []view.Key {
	return []view.Key{view.On(view.UpDown, "↑↓", "choose", "lights the act before or after", nil), view.On("enter", "enter", "do it", "does the act that is lit; what loses something asks first", nil),
		view.On("", "1 …", "do that one", "does the act of that number", nil), leaves("does nothing")}
}

func (m *menu) hear(msg tea.Msg) (overlay, tea.Cmd) {
	name := named(msg)
	switch name {
	case "":
		return m, nil
	case "down", "j":
		m.at = min(m.at+1, len(m.acts)-1)
		return m, nil
	case "up", "k":
		m.at = max(m.at-1, 0)
		return m, nil
	case "enter":
		return choose(m.acts[m.at])
	}
	if n, err := strconv.Atoi(name); err == nil && n >= 1 && n <= len(m.acts) {
		return choose(m.acts[n-1])
	}
	return nil, nil
}

// choose does an act, or asks first where it must be typed.
func choose(a view.Action) (overlay, tea.Cmd) {
	if a.Ask != "" {
		return newPrompt(a), nil
	}
	if a.Type != "" {
		return ask(a), nil
	}
	return nil, a.Do()
}

func (m *menu) draw(c *part.Canvas, r part.Rect) {
	w := min(menuWidth, r.W-4)
	var effects [][]string
	rows := 0
	for _, a := range m.acts {
		effects = append(effects, part.Wrap(a.Effect, w-9))
		rows += 1 + len(effects[len(effects)-1])
	}
	in := sheet(c, r, "acts", w, rows+4)
	c = c.Clip(part.Rect{X: in.X - 1, Y: in.Y, W: in.W + 2, H: in.H + 1})
	y := in.Y - m.above(effects, in.H)
	for i, a := range m.acts {
		if i == m.at {
			c.Fill(part.Rect{X: in.X - 1, Y: y, W: in.W + 2, H: 1 + len(effects[i])}, part.OnSelected)
		}
		c.Text(in.X, y, part.In(part.Ochre).Strong(), strconv.Itoa(i+1))
		c.Cut(in.X+3, y, in.W-3, part.In(part.Text).Strong(), a.Name)
		for _, l := range effects[i] {
			y++
			c.Text(in.X+3, y, part.In(part.Dim), l)
		}
		y++
	}
}

const menuWidth = 80

// above is how many rows are scrolled away so that the lit act is in sight.
func (m *menu) above(effects [][]string, rows int) int {
	end := 0
	for i := range m.at + 1 {
		end += 1 + len(effects[i])
	}
	return max(end-rows, 0)
}

// mostTyped is how long a typed text may get.
const mostTyped = 400

// effect opens the sheet of an act with what it will do, and some lines more; it returns the inside and the first free line.
func effect(c *part.Canvas, r part.Rect, act view.Action, more int) (part.Rect, int) {
	var lines []string
	for _, l := range strings.Split(act.Effect, "\n") {
		lines = append(lines, part.Wrap(l, min(70, r.W-10))...)
	}
	in := sheet(c, r, act.Name, 76, len(lines)+more)
	for i, l := range lines {
		c.Text(in.X, in.Y+i, part.In(part.Text), l)
	}
	return in, in.Y + len(lines) + 1
}

// prompt asks for a text, and says what is wrong with it as it is typed.
type prompt struct {
	act   view.Action
	field *view.Field
}

func newPrompt(a view.Action) *prompt {
	f := view.NewField("", mostTyped)
	if a.Hide {
		f.Hide()
	}
	return &prompt{a, f}
}

func (p *prompt) wrong() string {
	if p.field.Text() == "" || p.act.Wrong == nil {
		return ""
	}
	return p.act.Wrong(p.field.Text())
}

func (p *prompt) keys() []view.Key {
	return view.FieldKeys(view.On("enter", "enter", "take it", "takes what is typed, if nothing is wrong with it", nil), leaves("leaves everything as it is"))
}

func (p *prompt) hear(msg tea.Msg) (overlay, tea.Cmd) {
	switch named(msg) {
	case "esc":
		return nil, nil
	case "enter":
		if p.field.Text() != "" && p.wrong() == "" {
			return nil, p.act.Answer(p.field.Text())
		}
		return p, nil
	}
	p.field.Update(msg)
	return p, nil
}

func (p *prompt) draw(c *part.Canvas, r part.Rect) {
	in, y := effect(c, r, p.act, 8)
	c.Cut(in.X, y, in.W, part.In(part.Dim), p.act.Ask+"; enter takes it, esc goes back")
	p.field.Draw(c, in.X, y+1, in.W)
	if wrong := p.wrong(); wrong != "" {
		c.Cut(in.X+1, y+2, in.W-1, part.In(part.Coral), c.Look.Mark("failed")+" "+wrong)
	}
}

// question asks before an act: enter for one from which nothing is lost, the typed name for others.
type question struct {
	act   view.Action
	field *view.Field
}

func ask(a view.Action) overlay { return &question{a, view.NewField("", mostTyped)} }

func (q *question) keys() []view.Key {
	does := view.On("enter", "enter", "do it", "does what is said, once the name is typed where one is asked for", nil)
	if q.act.Type == "" {
		return []view.Key{does, leaves("changes nothing")}
	}
	return view.FieldKeys(does, leaves("changes nothing"))
}

func (q *question) hear(msg tea.Msg) (overlay, tea.Cmd) {
	switch named(msg) {
	case "esc":
		return nil, nil
	case "enter":
		if q.field.Text() == q.act.Type {
			return nil, q.act.Do()
		}
		return q, nil
	}
	if q.act.Type != "" {
		q.field.Update(msg)
	}
	return q, nil
}

func (q *question) draw(c *part.Canvas, r part.Rect) {
	in, y := effect(c, r, q.act, 7)
	if q.act.Type == "" {
		x := c.Text(in.X, y, part.In(part.Ochre).Strong(), "enter")
		x = c.Text(x+1, y, part.In(part.Dim), "do it") + 3
		x = c.Text(x, y, part.In(part.Ochre).Strong(), "esc")
		c.Text(x+1, y, part.In(part.Dim), "go back")
		return
	}
	x := c.Text(in.X, y, part.In(part.Dim), "type ")
	x = c.Text(x, y, part.In(part.Text).Strong(), q.act.Type)
	c.Text(x, y, part.In(part.Dim), " and press enter; esc goes back")
	q.field.Draw(c, in.X, y+1, in.W)
}

// find reads a text and looks for it in the view, as it is typed.
type find struct {
	in     view.View
	field  *view.Field
	missed bool
}

func newFind(v view.View) *find { return &find{in: v, field: view.NewField("", mostTyped)} }

func (q *find) keys() []view.Key { return nil } // it is drawn where the bar is

func (q *find) hear(msg tea.Msg) (overlay, tea.Cmd) {
	switch named(msg) {
	case "esc", "enter":
		return nil, nil
	}
	q.field.Update(msg)
	q.missed = q.field.Text() != "" && !q.in.Find(q.field.Text())
	return q, nil
}

func (q *find) draw(c *part.Canvas, r part.Rect) {
	y := r.Y + r.H - 1
	c.Fill(part.Rect{X: 0, Y: y, W: c.W, H: 1}, part.OnSelected)
	x := c.Text(1, y, part.In(part.Ochre).Strong(), "find ")
	x = c.Text(x, y, part.In(part.Text), q.field.Show())
	if q.missed {
		c.Text(x+3, y, part.In(part.Coral), "nothing here has that; ctrl+f looks everywhere")
		return
	}
	c.Text(x+3, y, part.In(part.Dim), "enter keeps the selection")
}
