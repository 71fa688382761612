package reconcile

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/alarm"
	"andamio/internal/core/printable"
	"andamio/internal/core/servicemap"
	"andamio/internal/service/reconcile"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// then is the moment at which the map is shown, and what was wrong and what happened around it.
type then struct {
	// past is zero for now.
	past   time.Time
	stride int
	// troubles are what is wrong with the nodes of the map that is shown, recent the alerts and runs of the line of time.
	troubles map[string]servicemap.Trouble
	recent   []alarm.Alert
	runs     []time.Time
	asked    time.Time
}

// steps are how far a key goes back or forth in the map, and over how long the line of time below it is then.
var steps = []struct{ by, line time.Duration }{{15 * time.Second, time.Hour}, {time.Minute, 4 * time.Hour}, {5 * time.Minute, 24 * time.Hour}, {15 * time.Minute, 24 * time.Hour}, {2 * time.Hour, 7 * 24 * time.Hour},
	{12 * time.Hour, 30 * 24 * time.Hour}, {7 * 24 * time.Hour, 366 * 24 * time.Hour}}

// firstStep is the step that is taken where nobody chose another.
const firstStep = 2

// recallWithin is how long reading how it was may take, troubledEvery how often what is wrong now is read anew.
const (
	recallWithin  = 20 * time.Second
	troubledEvery = 5 * time.Second
	mostRecent    = 200
)

// troubled is what was read of a moment.
type troubled struct {
	at       time.Time
	m        *servicemap.Map
	troubles map[string]servicemap.Trouble
	recent   []alarm.Alert
	runs     []time.Time
	err      error
}

// back shows the map so many steps before what is shown; what is not over yet is now.
func (v *View) back(by int) tea.Cmd {
	w := &v.world
	step, at := steps[w.stride].by, w.past
	if at.IsZero() {
		if by < 0 {
			return nil
		}
		at = v.now.Truncate(step)
		if v.now.Sub(at) < step/4 {
			at = at.Add(-step)
		}
	} else {
		at = at.Add(-time.Duration(by) * step)
	}
	if !at.Before(v.now) {
		return v.present()
	}
	w.past = at
	return v.readTroubles()
}

// present goes back to how the map is now.
func (v *View) present() tea.Cmd {
	v.world.past, v.world.troubles, v.stamp = time.Time{}, nil, ""
	if v.app == nil { // a test draws what it is told
		return nil
	}
	return tea.Batch(v.compare(), v.readTroubles())
}

// longer has the steps be longer or shorter.
func (v *View) longer(by int) tea.Cmd {
	v.world.stride = min(max(v.world.stride+by, 0), len(steps)-1)
	return v.readTroubles()
}

// readTroubles reads what is, or was, wrong with what the map shows.
func (v *View) readTroubles() tea.Cmd {
	w := &v.world
	w.asked = time.Now()
	if v.app == nil || v.inv == nil {
		return nil
	}
	at, line, inv, m := w.past, steps[w.stride].line, v.inv, w.m
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, recallWithin)
		defer cancel()
		return v.remember(ctx, inv, m, at, line)
	}
}

// remember reads how the map was at a moment, zero for now, and what happened before.
func (v *View) remember(ctx context.Context, inv *reconcile.Inventory, m *servicemap.Map, at time.Time, line time.Duration) troubled {
	out := troubled{at: at, m: m}
	var alerts []alarm.Alert
	if at.IsZero() {
		alerts, out.err = v.app.Alerts(ctx)
	} else if alerts, out.err = v.app.AlertsAt(ctx, at); out.err == nil {
		out.m, out.err = v.app.ServiceMapAt(ctx, inv, at)
	}
	if out.err != nil || out.m == nil {
		return out
	}
	out.troubles = out.m.Troubles(alerts)
	if at.IsZero() {
		return out
	}
	since := time.Now().Add(-line)
	if at.Before(since) {
		since = at.Add(-line / 4)
	}
	if out.recent, out.err = v.app.AlertsSince(ctx, since, mostRecent); out.err != nil {
		return out
	}
	runs, err := v.app.Runs(ctx)
	for _, r := range runs {
		if r.Created.After(since) {
			out.runs = append(out.runs, r.Created)
		}
	}
	out.err = err
	return out
}

// takeTroubles shows what was read, unless somebody went on meanwhile.
func (v *View) takeTroubles(msg troubled) tea.Cmd {
	w := &v.world
	if !msg.at.Equal(w.past) {
		return nil
	}
	if msg.err != nil {
		if w.past.IsZero() {
			return view.Cmd(view.Failed(msg.err))
		}
		return tea.Batch(view.Cmd(view.Failed(msg.err)), v.present())
	}
	if !w.past.IsZero() && msg.m != nil {
		w.take(msg.m)
	}
	w.troubles, w.recent, w.runs = msg.troubles, msg.recent, msg.runs
	return nil
}

// happened are the marks of a line of time: runs and what went wrong.
func (w *world) happened(from, to time.Time) []part.Mark {
	where := func(at time.Time) float64 { return float64(at.Sub(from)) / float64(to.Sub(from)) }
	var out []part.Mark
	for _, at := range w.runs {
		out = append(out, part.Mark{At: where(at), Glyph: "│", Ink: part.Sky})
	}
	for i := range w.recent {
		out = append(out, part.Mark{At: where(w.recent[i].Since), Glyph: "✕", Ink: part.Coral})
	}
	return out
}

// lookOf is how a node that something is wrong with is shown: a glyph and its colour; "" where nothing is.
func (w *world) lookOf(n *servicemap.Node) (string, part.Style) {
	t, is := w.troubles[n.ID]
	switch {
	case n.Missing && w.past.IsZero(), is && t.Severity >= alarm.Critical:
		return "✕", part.In(part.Coral)
	case is:
		return "◐", part.In(part.Ochre)
	}
	return "", part.Style{}
}

// missing are the names of what was not there any more when it was surveyed last.
func (w *world) missing() (out []string) {
	for i := range w.m.Nodes {
		if n := &w.m.Nodes[i]; n.Missing && w.past.IsZero() {
			out = append(out, n.Name)
		}
	}
	return out
}

// wrong says in a line how much is wrong, and with what first.
func (w *world) wrong() (string, part.Style) {
	if len(w.troubles) == 0 {
		if missing := w.missing(); len(missing) > 0 {
			return printable.Count(len(missing), "thing") + " missing when it was surveyed last: " + strings.Join(missing, ", ") + "; nothing that is measured is wrong", part.In(part.Coral)
		}
		if w.past.IsZero() {
			return "all is well as far as it is measured", part.In(part.Teal)
		}
		return "all was well as far as it was measured", part.In(part.Teal)
	}
	var causes []string
	worst := alarm.Warning
	for i := range w.m.Nodes {
		n := &w.m.Nodes[i]
		if t, is := w.troubles[n.ID]; is {
			worst = max(worst, t.Severity)
			if t.Cause {
				causes = append(causes, n.Name+": "+t.Words)
			}
		}
	}
	slices.Sort(causes)
	ink := part.In(part.Ochre)
	if worst >= alarm.Critical {
		ink = part.In(part.Coral)
	}
	text := fmt.Sprintf("%d of %d not well", len(w.troubles), len(w.m.Nodes))
	if len(causes) > 0 {
		text += " · " + strings.Join(causes, " · ")
	}
	return text, ink
}
