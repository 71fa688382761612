package operate

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/service/watch"
	"andamio/internal/service/workspace"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// beside are curves of whatever deployments that somebody marked, to see them beside each other.
type beside struct {
	picks []watch.Pick
	shown bool
	// name is what they are kept under, "" if they are not as they were kept.
	name  string
	of    []watch.Overview
	asked time.Time
	// names are the overviews that are kept, by their names.
	names []string
}

// picked is what was read of them.
type picked struct {
	picks []watch.Pick
	span  int
	at    time.Time
	of    []watch.Overview
	names []string
	err   error
}

// mark has the selected curve be one of those beside each other, or not any more.
func (v *View) mark() tea.Cmd {
	p, is := v.selectedPick()
	if !is {
		return nil
	}
	b := &v.beside
	b.name = ""
	if i := slices.Index(b.picks, p); i >= 0 {
		b.picks = slices.Delete(b.picks, i, i+1)
		return v.readBeside()
	}
	if len(b.picks) == watch.MostPicks {
		return view.Cmd(view.Notice{Text: fmt.Sprintf("%d curves are as many as stand beside each other: take the mark off another with space", watch.MostPicks), Bad: true})
	}
	b.picks = append(b.picks, p)
	return v.readBeside()
}

// selectedPick is the curve that is selected on the page of measures.
func (v *View) selectedPick() (watch.Pick, bool) {
	d := v.selected()
	if d == nil {
		return watch.Pick{}, false
	}
	all := v.page(d)
	if len(all) == 0 {
		return watch.Pick{}, false
	}
	o := all[min(max(v.watched.line, 0), len(all)-1)]
	names := columnsOf(o)
	return watch.Pick{Thing: o.Key, Measure: names[min(max(v.watched.column, 0), len(names)-1)]}, true
}

// marked reports that a curve is one of those beside each other.
func (v *View) marked(thing, name string) bool {
	return slices.Contains(v.beside.picks, watch.Pick{Thing: thing, Measure: name})
}

// showBeside shows the marked curves beside each other, and the page of measures again.
func (v *View) showBeside() tea.Cmd {
	b := &v.beside
	if !b.shown && len(b.picks) == 0 {
		return view.Cmd(view.Notice{Text: "nothing is marked: space marks the selected curve, here and in other deployments"})
	}
	b.shown = !b.shown
	return v.readBeside()
}

// readBeside reads the marked curves, and what is kept.
func (v *View) readBeside() tea.Cmd {
	b := &v.beside
	b.asked = time.Now()
	if v.app == nil {
		return nil
	}
	picks, span, at := slices.Clone(b.picks), v.watched.span, v.past
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, recallWithin)
		defer cancel()
		when := at
		if when.IsZero() {
			when = time.Now()
		}
		out := picked{picks: picks, span: span, at: at}
		if out.of, out.err = v.app.Picked(ctx, picks, spans[span].long, curvePoints, when); out.err == nil {
			out.names, out.err = v.app.Overviews(ctx)
		}
		return out
	}
}

// refreshBeside reads the curves anew that are shown beside each other, if that was long ago.
func (v *View) refreshBeside() tea.Cmd {
	if !v.beside.shown || time.Since(v.beside.asked) < measureEvery {
		return nil
	}
	return v.readBeside()
}

// takeBeside shows what was read, unless something else is wanted by now.
func (v *View) takeBeside(msg picked) tea.Cmd {
	b := &v.beside
	if msg.err != nil {
		return view.Cmd(view.Failed(msg.err))
	}
	b.names = msg.names
	if slices.Equal(msg.picks, b.picks) && msg.span == v.watched.span && msg.at.Equal(v.past) {
		b.of = msg.of
	}
	return nil
}

// besideKeys are those by which curves are marked, and shown beside each other.
func (v *View) besideKeys() []view.Key {
	word := "side by side"
	if v.beside.shown {
		word = "measures"
	}
	keys := []view.Key{view.On("v", "v", word, "shows the marked curves beside each other, and back", view.Run(v.showBeside))}
	if v.beside.shown {
		return keys
	}
	return append(keys, view.On("space", "space", "mark", "marks the selected curve, to see it beside others", view.Run(v.mark)))
}

// besideActs keep what is marked as an overview of one's own, and lead to those that are kept.
func (v *View) besideActs() []view.Action {
	b := &v.beside
	var out []view.Action
	if n := len(b.picks); n > 0 && b.name == "" {
		out = append(out, view.Action{Name: fmt.Sprintf("keep the marked curves (%d)", n), Effect: "as an overview that is there again whenever it is wanted", Ask: "a name",
			Answer: func(text string) tea.Cmd { return v.keepBeside(strings.TrimSpace(text)) },
			Wrong: func(text string) string {
				if err := workspace.CheckOverviewName(strings.TrimSpace(text)); err != nil {
					return err.Error()
				}
				return ""
			}})
	}
	for _, name := range b.names {
		out = append(out, view.Action{Name: "see " + name, Effect: "shows its curves beside each other", Do: func() tea.Cmd { return v.openBeside(name) }})
	}
	if b.name != "" {
		name := b.name
		out = append(out, view.Action{Name: "drop the overview " + name, Effect: "its curves stay marked", Do: func() tea.Cmd {
			if err := v.app.DropOverview(v.ctx, name); err != nil {
				return view.Cmd(view.Failed(err))
			}
			b.name = ""
			return v.readBeside()
		}})
	}
	return out
}

func (v *View) keepBeside(name string) tea.Cmd {
	b := &v.beside
	if err := v.app.KeepOverview(v.ctx, watch.Kept{Name: name, Picks: b.picks, Over: int64(spans[v.watched.span].long.Seconds())}); err != nil {
		return view.Cmd(view.Failed(err))
	}
	b.name = name
	return tea.Batch(v.readBeside(), view.Cmd(view.Notice{Text: fmt.Sprintf("kept as %s: a leads to it here, andamio measure overview elsewhere", name)}))
}

// openBeside shows an overview that is kept.
func (v *View) openBeside(name string) tea.Cmd {
	k, err := v.app.KeptOverview(v.ctx, name)
	if err != nil {
		return view.Cmd(view.Failed(err))
	}
	b := &v.beside
	b.name, b.picks, b.shown, b.of = name, k.Picks, true, nil
	v.watched.span, v.watched.chosen = spanOf(time.Duration(k.Over)*time.Second), true
	return v.readBeside()
}

// spanOf is the shortest span that is as long.
func spanOf(over time.Duration) int {
	for i := range spans {
		if spans[i].long >= over {
			return i
		}
	}
	return len(spans) - 1
}

// Sizes of curves beside each other.
const (
	besideWidth = 52
	besideRows  = 9
)

// drawBeside draws the marked curves beside each other, all over the same time.
func (v *View) drawBeside(c *part.Canvas, r part.Rect) {
	b := &v.beside
	title := "side by side"
	if b.name != "" {
		title = b.name
	}
	x := c.Text(r.X+1, r.Y, part.In(part.Steel).Strong(), title)
	x = c.Text(x+2, r.Y, part.In(part.Dim), "the last "+spans[v.watched.span].words)
	c.Text(x+2, r.Y, part.In(part.Ochre), "- +")
	if len(b.of) == 0 {
		c.Text(r.X+2, r.Y+2, part.In(part.Dim), "reading what is marked")
		return
	}
	across := max(min(r.W/besideWidth, 3), 1)
	rows := (len(b.of) + across - 1) / across
	w, h := r.W/across, min(max((r.H-2)/max(rows, 1), besideRows), 2*besideRows)
	shown := max((r.H-2)/h, 1) * across
	for i := range b.of[:min(len(b.of), shown)] {
		v.drawPick(c, part.Rect{X: r.X + i%across*w, Y: r.Y + 2 + i/across*h, W: w - 1, H: h - 1}, b.picks[i], &b.of[i])
	}
	if more := len(b.of) - shown; more > 0 {
		c.Right(r.X+r.W-1, r.Y, part.In(part.Dim), fmt.Sprintf("%d more have no room here", more))
	}
}

// drawPick draws one of the curves that are beside each other.
func (v *View) drawPick(c *part.Canvas, r part.Rect, p watch.Pick, o *watch.Overview) {
	if o.Name == "" {
		c.Cut(r.X+1, r.Y, r.W-2, part.In(part.Dim), p.Thing+" is not known any more")
		return
	}
	m := measure.Of(p.Measure)
	where := m.Words
	for _, word := range []string{o.Site, o.Of} {
		if word != "" && !strings.HasSuffix(o.Name, " "+word) { // all of it is called so already
			where += " · " + word
		}
	}
	l := o.Line(p.Measure)
	now := ""
	if l != nil {
		now = alarm.Figure(&m, l.Now, l.Limit)
	}
	at := c.Cut(r.X+1, r.Y, r.W-part.Width(now)-3, part.In(part.Text).Strong(), o.Name)
	c.Cut(at+2, r.Y, r.X+r.W-at-part.Width(now)-4, part.In(part.Dim), where)
	c.Right(r.X+r.W-1, r.Y, part.In(part.Text), now)
	if l == nil {
		c.Text(r.X+1, r.Y+1, part.In(part.Dim), "it was not measured in that time")
		return
	}
	plot := v.drawCurve(c, part.Rect{X: r.X, Y: r.Y + 1, W: r.W, H: r.H - 1}, l)
	from, to := l.Points[0].At, l.Points[len(l.Points)-1].At
	if d := v.deploymentOf(o.Deployment); d != nil {
		v.drawHappened(c, plot, d, from, to)
	} else if to.After(from) {
		part.Times(c, part.Rect{X: plot.X, Y: plot.Y + plot.H, W: plot.W, H: 2}, nil, from, to, v.clock())
	}
}
