package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/service/reconcile"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// finder finds anything anywhere: what is typed is looked for in all that has a name, and enter goes there.
type finder struct {
	field *view.Field
	// all is nil until it was gathered; found are those that fit, the likeliest first.
	all    []reconcile.Thing
	known  bool
	failed string
	found  []reconcile.Thing
	at     int
}

// gathered are the things that can be found, for the finder that asked.
type gathered struct {
	to  *finder
	all []reconcile.Thing
	err error
}

// finder opens the finder, and gathers beside the screen what there is to find.
func (f *frame) finder() tea.Cmd {
	q := &finder{field: view.NewField("", mostTyped)}
	f.over = q
	inv, t := f.inv, f.template
	return func() tea.Msg {
		all, err := f.app.Things(f.ctx, inv, t)
		return gathered{q, all, err}
	}
}

func (q *finder) take(msg gathered) {
	q.all, q.known = msg.all, true
	if msg.err != nil {
		q.failed = msg.err.Error()
	}
	q.look()
}

func (q *finder) look() { q.found, q.at = reconcile.Find(q.field.Text(), q.all), 0 }

func (q *finder) keys() []view.Key {
	return view.FieldKeys(view.On("enter", "enter", "go there", "shows what is lit, in the view that it belongs to", nil),
		view.On("up down", "↑↓", "choose", "lights the one before or after", nil), leaves("stays where you are"))
}

func (q *finder) hear(msg tea.Msg) (overlay, tea.Cmd) {
	switch named(msg) {
	case "esc", "ctrl+f":
		return nil, nil
	case "up":
		q.at = max(q.at-1, 0)
	case "down":
		q.at = min(q.at+1, max(len(q.found)-1, 0))
	case "pgup", "pgdown":
		_, dy := view.Way(named(msg))
		q.at = min(max(q.at+dy, 0), max(len(q.found)-1, 0))
	case "enter":
		if q.at < len(q.found) {
			return nil, view.Cmd(view.Show{Thing: q.found[q.at]})
		}
	default:
		before := q.field.Text()
		if q.field.Update(msg); q.field.Text() != before {
			q.look()
		}
	}
	return q, nil
}

func (q *finder) draw(c *part.Canvas, r part.Rect) {
	in := sheet(c, r, "find anywhere", 92, r.H-4)
	q.field.Draw(c, in.X, in.Y, in.W)
	list := part.Rect{X: in.X, Y: in.Y + 2, W: in.W, H: in.H - 2}
	if said := q.said(); said != "" {
		for i, l := range part.Wrap(said, list.W-1) {
			c.Text(list.X+1, list.Y+i, part.In(part.Dim), l)
		}
		return
	}
	c.Right(in.X+in.W-1, in.Y+1, part.In(part.Dim), fmt.Sprintf("%d found", len(q.found)))
	first := max(0, q.at-list.H+1)
	for i := first; i < len(q.found) && i-first < list.H; i++ {
		q.row(c, part.Rect{X: list.X, Y: list.Y + i - first, W: list.W, H: 1}, &q.found[i], i == q.at)
	}
}

// said is what is said in place of a list.
func (q *finder) said() string {
	switch {
	case q.failed != "":
		return q.failed
	case !q.known:
		return "gathering what there is to find"
	case strings.TrimSpace(q.field.Text()) == "":
		return fmt.Sprintf("Type a part of a name or address, or several with spaces between. There are %d to find: sites, deployments, what stands of them with its addresses and names, runs, findings, records, and the nodes of the template.", len(q.all))
	case len(q.found) == 0:
		return "nothing has that"
	}
	return ""
}

func (q *finder) row(c *part.Canvas, r part.Rect, t *reconcile.Thing, lit bool) {
	style := part.In(part.Text)
	if lit {
		c.Fill(part.Rect{X: r.X, Y: r.Y, W: r.W, H: 1}, part.OnSelected)
		c.Rune(r.X, r.Y, part.In(part.Ochre).On(part.OnSelected).Strong(), c.Look.Glyphs.PickLeft)
		style = style.Strong()
	}
	what, name := 14, r.W*2/5
	c.Cut(r.X+2, r.Y, what, part.In(part.Steel), t.What)
	end := c.Cut(r.X+2+what, r.Y, name, style, t.Name)
	rest := t.Where
	if len(t.Addresses) > 0 {
		rest = strings.Join(t.Addresses, " ") + "  " + rest
	}
	at := max(end+2, r.X+2+what+name/2)
	c.Cut(at, r.Y, r.X+r.W-at-1, part.In(part.Dim), rest)
}
