package operate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/watch"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// watched is what is measured of deployments, and what is wrong.
type watched struct {
	// of are the things that are measured, by deployment, over the span that is chosen.
	of     map[int64][]watch.Overview
	asked  map[int64]time.Time
	alerts []alarm.Alert
	// recent are those of the span that is shown, also such as are over.
	recent []alarm.Alert
	// shown says that curves are in the place of the picture; span is over how long, of spans.
	shown bool
	span  int
	// chosen says that somebody chose the span; otherwise it is as long as is known, up to six hours.
	chosen bool
	// line and column are what is selected there.
	line, column int
}

// spans are over how long curves are shown.
var spans = []struct {
	long  time.Duration
	words string
}{{15 * time.Minute, "15 minutes"}, {time.Hour, "hour"}, {6 * time.Hour, "6 hours"}, {24 * time.Hour, "24 hours"}, {7 * 24 * time.Hour, "7 days"}, {30 * 24 * time.Hour, "30 days"}, {365 * 24 * time.Hour, "year"}}

// curvePoints is how many points a curve has, measureEvery how often it is read anew.
const (
	curvePoints  = 160
	measureEvery = 15 * time.Second
)

// measured is what was read of a deployment.
type measured struct {
	id     int64
	span   int
	of     []watch.Overview
	alerts []alarm.Alert
	recent []alarm.Alert
	err    error
}

// readMeasures reads what was measured of the selected deployment, if that was long ago.
func (v *View) readMeasures() tea.Cmd {
	d := v.selected()
	if d != nil && v.app != nil && !v.past.IsZero() {
		return v.readPast(d)
	}
	if d == nil || v.app == nil || time.Since(v.watched.asked[d.ID]) < measureEvery {
		return nil
	}
	if v.watched.asked == nil {
		v.watched.asked, v.watched.of = map[int64]time.Time{}, map[int64][]watch.Overview{}
	}
	v.watched.asked[d.ID] = time.Now()
	id, span, resource := d.ID, v.watched.span, v.machine()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, recallWithin)
		defer cancel()
		of, err := v.app.Overview(ctx, id, resource, spans[span].long, curvePoints, time.Now())
		if err != nil {
			return measured{id: id, span: span, err: err}
		}
		alerts, err := v.app.Alerts(ctx)
		recent, errRecent := v.app.AlertsSince(ctx, time.Now().Add(-spans[span].long), mostRecent)
		return measured{id, span, of, alerts, recent, errors.Join(err, errRecent)}
	}
}

// machine is the machine of what is selected, whose measures are read however many there are.
func (v *View) machine() string {
	s := v.state()
	if s == nil {
		return ""
	}
	res := s.Resource(v.elevation.Selected)
	if res == nil {
		return ""
	}
	if of := s.Resource(res.AsEndpoint().EndpointOf); of != nil {
		res = of
	}
	return cmp.Or(res.On, res.ID)
}

func (v *View) takeMeasured(msg measured) {
	if msg.err != nil || msg.span != v.watched.span || !v.past.IsZero() {
		return
	}
	v.watched.of[msg.id], v.watched.alerts, v.watched.recent = msg.of, msg.alerts, msg.recent
	if !v.watched.chosen && v.watched.span < mostUnasked && reachesBack(msg.of) {
		v.watched.span++
		clear(v.watched.asked)
	}
}

// mostUnasked is the longest span that is shown without being asked for.
const mostUnasked = 2

// reachesBack reports that something was measured all over the span.
func reachesBack(of []watch.Overview) bool {
	for i := range of {
		for k := range of[i].Lines {
			if points := of[i].Lines[k].Points; len(points) > 0 && points[0].N > 0 {
				return true
			}
		}
	}
	return false
}

// alertsOf are the alerts that hit a deployment.
func (v *View) alertsOf(d *deployments.Deployment) []alarm.Alert {
	var out []alarm.Alert
	for i := range v.watched.alerts {
		if a := &v.watched.alerts[i]; slices.Contains(a.Deployments, d.ID) {
			out = append(out, *a)
		}
	}
	return out
}

// widen has curves be over a longer or shorter span.
func (v *View) widen(by int) tea.Cmd {
	v.watched.span, v.watched.chosen = min(max(v.watched.span+by, 0), len(spans)-1), true
	clear(v.watched.asked)
	var also tea.Cmd
	if v.beside.shown {
		also = v.readBeside()
	}
	if !v.past.IsZero() {
		return tea.Batch(v.goTo(v.past), also)
	}
	return tea.Batch(v.readMeasures(), also)
}

// showMeasures puts curves in the place of the picture, and back.
func (v *View) showMeasures() tea.Cmd {
	v.watched.shown = !v.watched.shown
	v.inElevation, v.beside.shown = v.watched.shown, false
	return tea.Batch(v.readMeasures(), v.readBeside())
}

// deploymentOf is the deployment of a number, if it is among those that are shown.
func (v *View) deploymentOf(id int64) *deployments.Deployment {
	for i := range v.all {
		if v.all[i].ID == id {
			return &v.all[i]
		}
	}
	return nil
}

// overview is what is measured of a resource, a machine or what answers on it; nil if nothing is.
func (v *View) overview(d *deployments.Deployment, match func(*watch.Overview) bool) *watch.Overview {
	of := v.watched.of[d.ID]
	if i := slices.IndexFunc(of, func(o watch.Overview) bool { return match(&o) }); i >= 0 {
		return &of[i]
	}
	return nil
}

// stepOf is the time between two points.
func stepOf(l *watch.Line) time.Duration {
	if len(l.Points) < 2 {
		return 0
	}
	return l.Points[1].At.Sub(l.Points[0].At)
}

// drawBars draws a measure as bars of one row.
func drawBars(c *part.Canvas, x, y, w int, l *watch.Line) {
	part.Measured(c, x, y, w, l.Name, l.Points, l.Limit)
}

// sideMeasures are those that are shown beside of a machine and what answers on it, in their order.
var sideMeasures = []string{measure.Answers, measure.AnswerTime, measure.CoresUsed, measure.MemoryUsed, measure.DiskUsed, measure.NetSent}

// drawMeasures shows what is measured of the selected plank.
func (v *View) drawMeasures(c *part.Canvas, r part.Rect, s *run.State, d *deployments.Deployment, res *run.Resource) int {
	host := res
	if x := s.Resource(res.On); x != nil {
		host = x
	}
	of := res
	if x := s.Resource(res.AsEndpoint().EndpointOf); x != nil {
		of = x
		if y := s.Resource(x.On); y != nil {
			host = y
		}
	}
	machine := v.overview(d, func(o *watch.Overview) bool { return o.Kind == measure.OfInstance && o.Resource == host.ID })
	answers := v.overview(d, func(o *watch.Overview) bool { return o.Kind == measure.OfEndpoint && o.Resource == res.ID })
	if answers == nil {
		answers = v.overview(d, func(o *watch.Overview) bool { return o.Kind == measure.OfEndpoint && o.Resource == of.ID })
	}
	y := r.Y
	for _, name := range sideMeasures {
		o := machine
		if measure.Of(name).Of == measure.OfEndpoint {
			o = answers
		}
		if o == nil || o.Line(name) == nil || y+3 > r.Y+r.H {
			continue
		}
		l := o.Line(name)
		m := measure.Of(name)
		if y == r.Y {
			c.Text(r.X, y, part.In(part.Steel).Strong(), "measures")
			c.Right(r.X+r.W, y, part.In(part.Dim), "the last "+spans[v.watched.span].words)
			y++
		}
		c.Text(r.X, y, part.In(part.Dim), m.Words)
		c.Right(r.X+r.W, y, part.In(part.Text), nowOf(&m, l, v.now))
		drawBars(c, r.X, y+1, r.W, l)
		y += 2
	}
	if answers != nil {
		y = v.drawOwn(c, part.Rect{X: r.X, Y: y, W: r.W, H: r.Y + r.H - y}, answers)
	}
	if y > r.Y {
		y++
	}
	return y
}

// ownShown is how many of the figures that software tells of itself are shown beside.
const ownShown = 5

// drawOwn shows what software tells of itself.
func (v *View) drawOwn(c *part.Canvas, r part.Rect, o *watch.Overview) int {
	y, names := r.Y, ownFigures(o)
	for i, name := range names {
		if y+2 > r.Y+r.H {
			break
		}
		if i == ownShown {
			c.Text(r.X, y, part.In(part.Dim), fmt.Sprintf("and %d more that it tells of itself", len(names)-i))
			y++
			break
		}
		l := o.Line(name)
		m := measure.Of(name)
		text := nowOf(&m, l, v.now)
		c.Cut(r.X, y, max(r.W-part.Width(text)-1, 0), part.In(part.Dim), name)
		c.Right(r.X+r.W, y, part.In(part.Text), text)
		y++
	}
	return y
}

// nowOf is what a measure is now, with its age if it was measured long ago.
func nowOf(m *measure.Measure, l *watch.Line, now time.Time) string {
	text := alarm.Figure(m, l.Now, 0)
	switch {
	case now.Sub(l.At) > staleAfter+stepOf(l):
		return text + " · " + part.Age(l.At, now)
	case l.Limit > 0:
		return fmt.Sprintf("%s  %.0f %%", text, 100*l.Now/l.Limit)
	}
	return text
}

// causeRows is how many rows a cause takes.
const causeRows = 4

// drawCauses shows what is wrong with the selected deployment, the worst first, and returns how many rows that took.
func (v *View) drawCauses(c *part.Canvas, r part.Rect, d *deployments.Deployment) int {
	all := v.alertsOf(d)
	if len(all) == 0 || r.H < causeRows+6 {
		return 0
	}
	a := &all[0]
	ink, ground := part.Coral, part.OnFailed
	if a.Severity == alarm.Warning {
		ink, ground = part.Ochre, part.OnSelected
	}
	c.Fill(part.Rect{X: r.X, Y: r.Y, W: r.W, H: causeRows - 1}, ground)
	x := c.Text(r.X+1, r.Y, part.In(ink).Strong(), c.Look.Mark(run.Failed)+" "+a.Severity.String())
	c.Cut(x+2, r.Y, r.X+r.W-x-24, part.In(part.Text).Strong(), a.Title())
	c.Right(r.X+r.W-1, r.Y, part.In(part.Dim), "since "+a.Since.Local().Format("15:04")+" · "+part.Age(a.Since, v.now))
	c.Cut(r.X+3, r.Y+1, r.W-4, part.In(part.Text), a.Words)
	state := "nobody sees to it"
	switch {
	case a.Waits:
		state = "a run works on it"
	case a.Quiet(v.now):
		state = "silenced by " + a.Muted.By + " until " + a.Muted.Until.Local().Format("2 Jan 15:04")
	case a.Known != nil:
		state = a.Known.By + " sees to it"
	}
	if more := len(all) - 1; more > 0 {
		state += fmt.Sprintf(" · %d more", more)
	}
	c.Right(r.X+r.W-1, r.Y+2, part.In(part.Ochre), state)
	c.Cut(r.X+3, r.Y+2, r.W-part.Width(state)-6, part.In(part.Dim), a.Hits())
	return causeRows
}

// seeing are the acts on the alerts of a deployment.
func (v *View) seeing(d *deployments.Deployment, first func(name, effect string, make func() (deployments.Order, error)) view.Action) []view.Action {
	var out []view.Action
	for _, a := range v.alertsOf(d) {
		id := a.ID
		if help := watch.Helps(&a); help != "" {
			out = append(out, first(help, "raises what fell of "+a.Title(), func() (deployments.Order, error) { return v.app.Helping(v.ctx, id) }))
		}
		out = append(out, AlertActs(v.ctx, v.app, a)...)
	}
	return out
}

// The columns of the parts of the page of curves: of all together, of machines, and of what answers on them.
var (
	wholeColumns    = []string{measure.WholeCores, measure.WholeMemory, measure.WholeAnswers, measure.WholeSlowest, measure.WholeDisk, measure.WholeSent, measure.WholeReceived, measure.WholeOn}
	machineColumns  = []string{measure.CoresUsed, measure.MemoryUsed, measure.DiskUsed, measure.NetSent, measure.Load, measure.Fullest, measure.ServicesDown}
	endpointColumns = []string{measure.Answers, measure.AnswerTime}
)

// columnsShown is how many columns stand beside each other at most.
const columnsShown = 4

// page are the lines of the page of curves: all of what is selected together, its machines, then what answers on them.
func (v *View) page(d *deployments.Deployment) []*watch.Overview {
	tier := ""
	if v.at < len(v.rows) {
		tier = v.rows[v.at].tier
	}
	var out []*watch.Overview
	for _, kind := range []measure.Kind{measure.OfWhole, measure.OfInstance, measure.OfEndpoint} {
		for i := range v.watched.of[d.ID] {
			if o := &v.watched.of[d.ID][i]; o.Kind == kind && (tier == "" || o.Tier == tier) {
				out = append(out, o)
			}
		}
	}
	return out
}

// columnsOf are the measures of a line: of what answers also those that it tells of itself.
func columnsOf(o *watch.Overview) []string {
	switch o.Kind {
	case measure.OfWhole:
		return wholeColumns
	case measure.OfInstance:
		return machineColumns
	}
	return append(slices.Clone(endpointColumns), ownFigures(o)...)
}

// ownFigures are the measures that software tells of itself.
func ownFigures(o *watch.Overview) []string {
	var out []string
	for i := range o.Lines {
		if name := o.Lines[i].Name; !measure.Known(name) {
			out = append(out, name)
		}
	}
	return out
}

// drawPage draws the page of curves: a line for every machine and endpoint, and what is selected as a curve below.
func (v *View) drawPage(c *part.Canvas, r part.Rect, d *deployments.Deployment) {
	all := v.page(d)
	x := c.Text(r.X+1, r.Y, part.In(part.Steel).Strong(), "measures")
	x = c.Text(x+2, r.Y, part.In(part.Dim), "the last "+spans[v.watched.span].words)
	c.Text(x+2, r.Y, part.In(part.Ochre), "- +")
	if len(all) == 0 {
		c.Text(r.X+2, r.Y+2, part.In(part.Dim), "nothing was measured of it in that time")
		return
	}
	v.watched.line = min(max(v.watched.line, 0), len(all)-1)
	lines := min(len(all)+3, max(r.H*11/20, 6))
	rest := r.H - lines - 3
	if rest < selectedLeast { // all of the room is for lines then
		lines = r.H - 1
	}
	v.drawLines(c, part.Rect{X: r.X, Y: r.Y + 1, W: r.W, H: lines}, all)
	if rest >= selectedLeast {
		v.drawSelected(c, part.Rect{X: r.X, Y: r.Y + lines + 2, W: r.W, H: rest}, d, all[v.watched.line])
	}
}

// selectedLeast is how many rows a curve takes at least that is drawn large.
const selectedLeast = 4

// columnLeast is how wide a column is at least: a figure, and as much of a curve.
const columnLeast = 21

func (v *View) drawLines(c *part.Canvas, r part.Rect, all []*watch.Overview) {
	name := min(28, r.W/4)
	shown := min(max((r.W-name-2)/columnLeast, 1), columnsShown) // where there is little room the first say the most
	y, first := r.Y, max(0, v.watched.line-(r.H-4))
	kind := measure.Kind("")
	for i := first; i < len(all) && y < r.Y+r.H; i++ {
		o := all[i]
		names := columnsOf(o)
		left := 0 // the columns before those that are shown
		if i == v.watched.line || o.Kind != measure.OfEndpoint && all[v.watched.line].Kind == o.Kind {
			left = min(max(v.watched.column-shown+1, 0), max(len(names)-shown, 0))
		}
		names = names[left:min(left+shown, len(names))]
		w := (r.W - name - 2) / shown
		if o.Kind != kind {
			if y+1 >= r.Y+r.H { // a heading alone heads nothing
				break
			}
			kind = o.Kind
			for k, n := range names {
				if measure.Known(n) {
					m := measure.Of(n)
					c.Cut(r.X+name+2+k*w, y, w-2, part.In(part.Dim), m.Words)
				}
			}
			y++
		}
		if y >= r.Y+r.H {
			break
		}
		if i == v.watched.line {
			c.Fill(part.Rect{X: r.X, Y: y, W: r.W, H: 1}, part.OnSelected)
			if v.inElevation {
				c.Rune(r.X, y, part.In(part.Ochre).Strong(), c.Look.Glyphs.PickLeft)
			}
		}
		at := c.Cut(r.X+2, y, name-1, part.In(part.Text), o.Name)
		c.Cut(at+1, y, r.X+name-at, part.In(part.Dim), o.Site) // one that was moved is there twice
		for k, n := range names {
			if l := o.Line(n); l != nil {
				cell := part.Rect{X: r.X + name + 2 + k*w, Y: y, W: w - 2, H: 1}
				v.drawCell(c, cell, l, i == v.watched.line && left+k == v.watched.column)
				if v.marked(o.Key, n) {
					c.Rune(cell.X-1, y, part.In(part.Ochre).Strong(), c.Look.Glyphs.Bar)
				}
			}
		}
		y++
	}
	if n := len(all) - first; n > 0 && y >= r.Y+r.H {
		c.Right(r.X+r.W-1, r.Y-1, part.In(part.Dim), fmt.Sprintf("%d lines", len(all)))
	}
}

// staleAfter is how long after it was measured a figure is shown as what was known last.
const staleAfter = time.Minute

// drawCell draws a figure with its curve behind.
func (v *View) drawCell(c *part.Canvas, r part.Rect, l *watch.Line, selected bool) {
	m := measure.Of(l.Name)
	text := alarm.Figure(&m, l.Now, 0)
	if l.Limit > 0 {
		text = fmt.Sprintf("%.0f %%", 100*l.Now/l.Limit)
	}
	style := part.In(part.Text)
	if v.now.Sub(l.At) > staleAfter+stepOf(l) { // it is what was known last
		style = part.In(part.Dim)
	}
	if selected {
		style = part.In(part.Ochre).Strong()
	}
	if !measure.Known(l.Name) { // what software tells of itself stands under no heading: each tells something else
		words := part.In(part.Dim)
		if selected {
			words = style
		}
		at := c.Cut(r.X, r.Y, max(r.W-part.Width(text)-1, 0), words, l.Name)
		c.Text(at+1, r.Y, style, text)
		return
	}
	const figure = 10
	c.Right(r.X+figure-1, r.Y, style, text)
	drawBars(c, r.X+figure, r.Y, max(r.W-figure, 0), l)
}

// drawSelected draws the measure that is selected, large, with what happened to the deployment below it.
func (v *View) drawSelected(c *part.Canvas, r part.Rect, d *deployments.Deployment, o *watch.Overview) {
	names := columnsOf(o)
	v.watched.column = min(max(v.watched.column, 0), len(names)-1)
	name := names[v.watched.column]
	m := measure.Of(name)
	at := c.Cut(r.X+2, r.Y, r.W-4, part.In(part.Text).Strong(), o.Name)
	c.Cut(at+2, r.Y, r.X+r.W-at-3, part.In(part.Dim), strings.TrimSuffix(m.Words+" · "+o.Site, " · "))
	l := o.Line(name)
	if l == nil {
		c.Text(r.X+2, r.Y+1, part.In(part.Dim), "it was not measured in that time")
		return
	}
	plot := v.drawCurve(c, part.Rect{X: r.X, Y: r.Y + 1, W: r.W, H: r.H - 1}, l)
	v.drawHappened(c, plot, d, l.Points[0].At, l.Points[len(l.Points)-1].At)
}

// drawCurve draws a measure large, with what is usual behind it, and returns where: two rows are left below it for the times.
func (v *View) drawCurve(c *part.Canvas, r part.Rect, l *watch.Line) part.Rect {
	m := measure.Of(l.Name)
	most := part.MostOf(&m, l.Points, l.Limit)
	const axis = 11
	plot := part.Rect{X: r.X + axis, Y: r.Y, W: r.W - axis - 1, H: r.H - 2}
	c.Right(plot.X-1, plot.Y, part.In(part.Dim), alarm.Figure(&m, most, 0))
	c.Right(plot.X-1, plot.Y+plot.H-1, part.In(part.Dim), "0")
	points := stretched(l.Points, plot.W*2)
	spans3 := make([]part.Span3, len(points))
	for i, p := range points {
		spans3[i] = part.Span3{Low: p.Min, Mid: p.Mean, High: p.Max, Is: p.N > 0}
		if at := i * len(l.Points) / max(len(points), 1); at < len(l.Usual) && l.Usual[at] != nil {
			spans3[i].From, spans3[i].To = l.Usual[at].Middle-l.Usual[at].Spread, l.Usual[at].Middle+l.Usual[at].Spread
		}
	}
	part.Curve(c, plot, spans3, most, func(i int) part.Ink { return part.InkAt(&m, &points[i], l.Limit) })
	return plot
}

// stretched are points as so many, each as often as it takes.
func stretched(points []measure.Point, n int) []measure.Point {
	if len(points) >= n {
		return measure.Squeeze(points, n)
	}
	out := make([]measure.Point, n)
	for i := range out {
		out[i] = points[i*len(points)/n]
	}
	return out
}

// drawHappened draws the line of time below a curve, with the runs of the deployment and what went wrong.
func (v *View) drawHappened(c *part.Canvas, plot part.Rect, d *deployments.Deployment, from, to time.Time) {
	if to.After(from) {
		part.Times(c, part.Rect{X: plot.X, Y: plot.Y + plot.H, W: plot.W, H: 2}, v.happened(d, from, to), from, to, v.clock())
	}
}

// happened are marks of the runs of a deployment, and of what went wrong with it, between two moments.
func (v *View) happened(d *deployments.Deployment, from, to time.Time) []part.Mark {
	where := func(at time.Time) float64 { return float64(at.Sub(from)) / float64(to.Sub(from)) }
	var out []part.Mark
	for _, r := range d.Runs {
		out = append(out, part.Mark{At: where(r.Created), Glyph: "│", Ink: part.Sky})
	}
	for i := range v.watched.recent {
		if a := &v.watched.recent[i]; slices.Contains(a.Deployments, d.ID) {
			out = append(out, part.Mark{At: where(a.Since), Glyph: "✕", Ink: part.Coral})
		}
	}
	return out
}

// movePage moves in the page of curves.
func (v *View) movePage(dx, dy int) {
	d := v.selected()
	if d == nil {
		return
	}
	all := v.page(d)
	if len(all) == 0 {
		return
	}
	v.watched.line = min(max(v.watched.line+dy, 0), len(all)-1)
	o := all[v.watched.line]
	v.watched.column = min(max(v.watched.column+dx, 0), len(columnsOf(o))-1)
	if s := v.state(); s != nil && s.Resource(o.Resource) != nil { // beside is what is selected
		v.elevation.Selected = s.Plan.Plank(o.Resource)
	}
}
