package operate

import (
	"context"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/watch"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// steps are how far a key goes back or forth, by the span of the curves.
var steps = []time.Duration{15 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, 2 * time.Hour, 12 * time.Hour, 7 * 24 * time.Hour}

// recalledPast is how everything was at a moment.
type recalledPast struct {
	at     time.Time
	all    []deployments.Past
	looked map[int64]deployments.Readings
	of     map[int64][]watch.Overview
	alerts []alarm.Alert
	recent []alarm.Alert
	// done is what was done in the time before.
	done []app.Entry
	span int
	err  error
}

// How long before a moment what was done is told of, and how much of it.
const (
	doneBefore = time.Hour
	mostDone   = 20
)

// back shows how everything was so many steps before what is shown; what is not over yet is now.
func (v *View) back(by int) tea.Cmd {
	at := v.past
	if at.IsZero() {
		if by < 0 {
			return nil
		}
		at = v.clock().Truncate(steps[v.watched.span])
		if v.clock().Sub(at) < steps[v.watched.span]/4 {
			at = at.Add(-steps[v.watched.span])
		}
		return v.goTo(at)
	}
	return v.goTo(at.Add(-time.Duration(by) * steps[v.watched.span]))
}

// clock is the time now.
func (v *View) clock() time.Time {
	if v.app == nil { // a test draws by a time of its own
		return v.today
	}
	return time.Now()
}

// goTo shows how everything was at a moment.
func (v *View) goTo(at time.Time) tea.Cmd {
	if !at.Before(v.clock()) {
		return v.present()
	}
	v.past, v.watched.chosen = at, true
	if v.app == nil {
		return nil
	}
	span, resource, selected := v.watched.span, v.machine(), int64(0)
	if d := v.selected(); d != nil {
		selected = d.ID
	}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, recallWithin)
		defer cancel()
		return v.remember(ctx, at, span, selected, resource)
	}
}

// measuredPast is what was measured of a deployment before a moment.
type measuredPast struct {
	id  int64
	at  time.Time
	of  []watch.Overview
	err error
}

// readPast reads what was measured before the moment that is shown of a deployment of which that is not known yet.
func (v *View) readPast(d *deployments.Deployment) tea.Cmd {
	if _, known := v.watched.of[d.ID]; known {
		return nil
	}
	v.watched.of[d.ID] = nil // it is read once
	id, at, span, resource := d.ID, v.past, v.watched.span, v.machine()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, recallWithin)
		defer cancel()
		of, err := v.app.Overview(ctx, id, resource, spans[span].long, curvePoints, at)
		return measuredPast{id, at, of, err}
	}
}

// takeMeasuredPast shows what was read, unless somebody went on meanwhile.
func (v *View) takeMeasuredPast(msg measuredPast) tea.Cmd {
	if !msg.at.Equal(v.past) {
		return nil
	}
	if msg.err != nil {
		return view.Cmd(view.Failed(msg.err))
	}
	v.watched.of[msg.id] = msg.of
	return nil
}

// remember reads how everything was, and what was measured of one deployment before.
func (v *View) remember(ctx context.Context, at time.Time, span int, selected int64, resource string) recalledPast {
	out := recalledPast{at: at, span: span, looked: map[int64]deployments.Readings{}, of: map[int64][]watch.Overview{}}
	if out.all, out.err = v.app.AsOf(ctx, at); out.err != nil {
		return out
	}
	for i := range out.all {
		id := out.all[i].ID
		said, err := v.app.ReadingsAt(ctx, id, at)
		if out.err = err; err != nil {
			return out
		}
		if len(said.Sites)+len(said.Answers) > 0 { // else nobody asked then
			out.looked[id] = said
		}
		if id != selected {
			continue
		}
		if out.of[id], out.err = v.app.Overview(ctx, id, resource, spans[span].long, curvePoints, at); out.err != nil {
			return out
		}
	}
	if out.alerts, out.err = v.app.AlertsAt(ctx, at); out.err != nil {
		return out
	}
	if out.done, out.err = v.app.TrailBetween(ctx, at.Add(-doneBefore), at, mostDone); out.err != nil {
		return out
	}
	out.recent, out.err = v.app.AlertsSince(ctx, time.Now().Add(-lineOf(span)), mostRecent)
	return out
}

// takePast shows what was read, unless somebody went on meanwhile.
func (v *View) takePast(msg recalledPast) tea.Cmd {
	if !msg.at.Equal(v.past) {
		return nil
	}
	if msg.err != nil {
		return tea.Batch(view.Cmd(view.Failed(msg.err)), v.present())
	}
	g := gathered{states: map[int64]*run.State{}}
	for i := range msg.all {
		g.all = append(g.all, msg.all[i].Deployment)
		g.states[msg.all[i].ID] = msg.all[i].Picture
	}
	v.read, v.looked = nil, msg.looked
	v.watched.of, v.watched.alerts, v.watched.recent, v.done = msg.of, msg.alerts, msg.recent, msg.done
	return v.take(g)
}

// present goes back to how everything is now.
func (v *View) present() tea.Cmd {
	if v.past.IsZero() {
		return nil
	}
	v.past, v.seen = time.Time{}, " " // so that all is worked out anew
	v.read, v.looked = nil, map[int64]deployments.Readings{}
	clear(v.watched.asked)
	return tea.Batch(v.gather(v.runs), v.readMeasures())
}

// mostRecent bounds how many alerts are marked on a line of time.
const mostRecent = 200

// lineOf is how long the line of time is below what was: far enough to step on it.
func lineOf(span int) time.Duration { return min(4*spans[span].long, spans[len(spans)-1].long) }

// pastRows is how many rows the line of time takes.
const pastRows = part.PastRows

// drawLine draws the line of time up to now, with what happened to the deployment and where on it is shown.
func (v *View) drawLine(c *part.Canvas, r part.Rect, d *deployments.Deployment) {
	part.PastLine(c, r, v.past, v.clock(), lineOf(v.watched.span), func(from, to time.Time) []part.Mark { return v.happened(d, from, to) })
}

// drawPast says that what is shown was, and is not.
func (v *View) drawPast(c *part.Canvas, r part.Rect) { part.PastBar(c, r, v.past, v.clock()) }

// doneJustBefore says who did what in the time before the moment that is shown; nothing where now is shown.
func (v *View) doneJustBefore() []view.Line {
	if v.past.IsZero() {
		return nil
	}
	lines := []view.Line{view.Say(""), view.Head("what was done in the hour before")}
	if len(v.done) == 0 {
		return append(lines, view.Say("  nothing, by nobody"))
	}
	for i := range v.done {
		e := &v.done[i]
		lines = append(lines, view.Say("  "+e.At.Local().Format("15:04:05")+"  "+e.Actor.String()+" "+e.Words()))
	}
	if len(v.done) == mostDone {
		lines = append(lines, view.Say("  and more before that: andamio log --from 2h"))
	}
	return lines
}
