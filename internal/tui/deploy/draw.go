package deploy

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/elevation"
	"andamio/internal/core/kinds"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/core/timeline"
	"andamio/internal/service/runs"
	"andamio/internal/tui/part"
)

// Sizes: the side panel appears from wideFrom columns on; the timeline takes at most timelineRows rows, and a third
// of the height.
const (
	wideFrom     = 110
	sideWidth    = 42
	timelineRows = 12
)

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, now time.Time) {
	v.now = now
	if v.state == nil {
		v.drawEmpty(c, r)
		return
	}
	main := r
	if r.W >= wideFrom {
		main.W = r.W - sideWidth - 1
		c.Downward(main.X+main.W, r.Y+1, r.H-1, part.In(part.Dim), c.Look.Glyphs.Down)
		v.drawSide(c, part.Rect{X: main.X + main.W + 2, Y: r.Y + 1, W: sideWidth - 2, H: r.H - 1})
	}
	v.lanes = min(timelineRows, (main.H-1)*3/10) - 1
	v.drawTitle(c, r)
	main.Y, main.H = main.Y+1, main.H-1
	if v.detail && r.W < wideFrom {
		v.drawSide(c, part.Rect{X: main.X + 2, Y: main.Y + 1, W: main.W - 4, H: main.H - 1})
		return
	}
	if v.timeline && main.H >= 30 {
		rows := v.lanes + 1
		v.drawTimeline(c, part.Rect{X: main.X, Y: main.Y + main.H - rows - 1, W: main.W, H: rows + 1})
		main.H -= rows + 2
	} else if v.timeline && main.H >= 15 && v.elevation.Zoom == part.ZoomDensity {
		v.drawTimeline(c, part.Rect{X: main.X, Y: main.Y + main.H - 6, W: main.W, H: 6})
		main.H -= 7
	}
	if r.W < wideFrom {
		v.drawBrief(c, main)
		main.Y, main.H = main.Y+1, main.H-1
	}
	if v.log.open {
		v.log.draw(c, part.Rect{X: main.X, Y: main.Y + 1, W: main.W, H: main.H - 1}, v.state)
		return
	}
	v.elevation.Draw(c, main, v.state)
}

// drawBrief is the side panel's most important line, where there is no room for the panel.
func (v *View) drawBrief(c *part.Canvas, r part.Rect) {
	res := v.state.Resource(v.elevation.Selected)
	if res == nil {
		return
	}
	s := &side{v: v, c: c, r: r}
	x := c.Text(r.X+1, r.Y, part.In(part.InkOf(res.Status)), c.Look.Mark(res.Status))
	x = c.Cut(x+1, r.Y, r.W/2, part.In(part.Text).Strong(), res.Title) + 2
	text := s.ours(res)
	if said := res.SiteSaid; said.Text != "" {
		text += fmt.Sprintf(" · %s says %s", res.Site, said.Text)
	}
	if res.Answer.Text != "" {
		text += " · " + res.Answer.Text
	}
	c.Cut(x, r.Y, r.X+r.W-x-1, part.In(part.Dim), text)
}

func (v *View) drawEmpty(c *part.Canvas, r part.Rect) {
	c.Text(r.X+2, r.Y+2, part.In(part.Text).Strong(), "nothing is being built")
	c.Text(r.X+2, r.Y+4, part.In(part.Dim), "2 Design makes a plan from the template; its elevation and timeline stand here before it runs")
}

// drawTitle says in one line what is shown, how far it is, and when it is done.
func (v *View) drawTitle(c *part.Canvas, r part.Rect) {
	s, p := v.state, v.state.Plan
	x := c.Cut(r.X+1, r.Y, 30, part.In(part.Text).Strong(), p.Name) + 2
	if v.order != nil {
		what := words(p.Preset, "plan")
		if p.Purpose != "" {
			what = p.Purpose
		}
		x = c.Cut(x, r.Y, 40, part.In(part.Dim), what) + 3
		state := " not begun"
		if v.proposal != nil {
			state = " proposed by " + v.proposal.By.Name
		}
		x = c.Text(x, r.Y, part.In(part.Steel), c.Look.Mark(run.Planned)+state) + 3
		x = c.Whole(x, r.Y, r.W-x, part.In(part.Text), v.extent(r.W < wideTitle)+"   ")
		x = c.Whole(x, r.Y, r.W-x, part.In(part.Text), "about "+v.expected()) + 2
		x = c.Whole(x, r.Y, r.W-x, part.In(part.Dim), v.band()) + 3
		c.Whole(x, r.Y, r.W-x, part.In(part.Text), fmt.Sprintf("%.3f %s/h", p.CostPerHour, p.Currency))
		return
	}
	what := fmt.Sprintf("run %d", v.runID)
	if p.Purpose != "" {
		what += " · " + p.Purpose
	}
	if r.W >= wideTitle {
		what = words(p.Preset, what)
	}
	x = c.Cut(x, r.Y, 44, part.In(part.Dim), what) + 3
	status := s.Status
	word := string(status)
	if status == run.Standing && s.Retiring() {
		status, word = run.Retired, "everything is gone"
	}
	if v.silent {
		status, word = run.Failed, "its worker is silent: what follows is the last that is known"
	}
	x = c.Text(x, r.Y, part.In(part.InkOf(status)), c.Look.Mark(status)+" "+word) + 3
	x = c.Text(x, r.Y, part.In(part.Text), fmt.Sprintf("%d of %d steps", s.Done, len(s.Steps))) + 3
	x = c.Cut(x, r.Y, r.W-x, part.In(part.Text), v.timeText()) + 2
	x = c.Whole(x, r.Y, r.W-x, part.In(part.Dim), v.band())
	if others := v.others(); others != "" {
		c.Whole(x+2, r.Y, r.W-x-2, part.In(part.Sky), others)
	}
}

// others says what else is under way.
func (v *View) others() string {
	n := 0
	for _, r := range v.runs {
		if r.ID != v.runID && r.State == run.UnderWay && runs.Alive(r) {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("and %d more under way [ ]", n)
}

// wideTitle is from which width on the title has all that there is to say, of which when it is done is the last.
const wideTitle = 100

// extent is how much an order does.
func (v *View) extent(narrow bool) string {
	p := v.order.Plan
	if p.Purpose != "" {
		return fmt.Sprintf("%s: %s", printable.Count(len(p.Steps), "step"), counted(p))
	}
	if narrow {
		return printable.Count(len(p.Steps), "step")
	}
	return fmt.Sprintf("%s on %s", printable.Count(len(p.Steps), "step"), printable.Count(len(p.Resources), "resource"))
}

// expected is the median that was rehearsed, or the plan's own expectation until it is.
func (v *View) expected() string {
	if v.answer.P50 > 0 {
		return part.Clock(v.answer.P50)
	}
	return part.Clock(seconds(v.state.Plan.Seconds))
}

// band is what nine in ten rehearsed runs stay under, and after the end what was expected before the beginning.
func (v *View) band() string {
	switch {
	case v.state.Over() && v.state.Rehearsed.P90 > 0:
		return fmt.Sprintf("(rehearsed: half under %s, 9 in 10 under %s)", part.Clock(v.state.Rehearsed.P50), part.Clock(v.state.Rehearsed.P90))
	case v.state.Over() || v.answer.P90 == 0:
		return ""
	}
	return fmt.Sprintf("(9 in 10: under %s)", part.Clock(v.answer.P90))
}

func words(preset, kind string) string {
	if preset == "" {
		return kind
	}
	return preset + " · " + kind
}

func seconds(x float64) time.Duration { return time.Duration(x * float64(time.Second)) }

func (v *View) timeText() string {
	s := v.state
	if s.Started.IsZero() {
		return "about to begin"
	}
	if s.Over() {
		return fmt.Sprintf("took %s", part.Clock(s.Ended.Sub(s.Started)))
	}
	if v.silent {
		return ""
	}
	gone := v.now.Sub(s.Started)
	left := v.times(v.lanes).End - gone
	if v.answer.P50 > 0 {
		left = v.answer.P50 - gone
	}
	if n := v.awaiting(); n > 0 {
		verb := "await"
		if n == 1 {
			verb = "awaits"
		}
		return fmt.Sprintf("%s gone · %d %s a worker", part.Clock(gone), n, verb) // as short as 80 columns have it
	}
	return fmt.Sprintf("%s gone · about %s to go", part.Clock(gone), part.Clock(max(left, 0)))
}

// awaiting is how many steps wait for somebody through whom their site is reached: how long that takes nobody can say.
func (v *View) awaiting() (n int) {
	for i := range v.state.Steps {
		if v.state.Steps[i].Awaits != "" {
			n++
		}
	}
	return n
}

// keptTimes is a timeline with what it was made from.
type keptTimes struct {
	state *run.State
	now   time.Time
	most  int
	line  *timeline.Timeline
}

// largeFrom is from how many steps on a run is arranged over time beside the screen, arrangeEvery how often.
const (
	largeFrom    = 3000
	arrangeEvery = 500 * time.Millisecond
)

func (v *View) large() bool { return len(v.state.Steps) >= largeFrom }

// arranged is a timeline that was made beside the screen.
type arranged struct{ keptTimes }

// arrange makes the timeline of a large run anew, now and again, without a frame waiting for it.
func (v *View) arrange() tea.Cmd {
	if !v.large() || v.kept.line == nil || v.arranging || time.Since(v.kept.now) < arrangeEvery {
		return nil
	}
	v.arranging = true
	state, snap, now, most := v.state, v.state.Snapshot(), time.Now(), v.kept.most
	return func() tea.Msg { return arranged{keptTimes{state, now, most, timeline.New(snap, now, most)}} }
}

// times arranges the state over time, once for each tick of the clock: events between two ticks show at the next.
func (v *View) times(most int) *timeline.Timeline {
	k := &v.kept
	if k.line != nil && k.state == v.state && k.most == most && v.large() {
		return k.line // another is made beside the screen
	}
	if k.line == nil || k.state != v.state || !k.now.Equal(v.now) || k.most != most {
		*k = keptTimes{v.state, v.now, most, timeline.New(v.state, v.now, most)}
	}
	return k.line
}

func (v *View) drawTimeline(c *part.Canvas, r part.Rect) {
	x := c.Text(r.X+1, r.Y, part.In(part.Steel).Strong(), "timeline") + 3
	legend := []struct {
		ink  part.Ink
		text string
	}{{part.Ochre, "critical path"}, {part.Teal, "done"}, {part.Sky, "under way"}, {part.Dim, "forecast"}, {part.Steel, "end, half to 9 in 10"}}
	if v.answer.P90 == 0 {
		legend = legend[:len(legend)-1]
	}
	for _, l := range legend {
		if x+2+part.Width(l.text) > r.X+r.W {
			break
		}
		g := c.Look.Glyphs.Bar
		if l.ink == part.Dim {
			g = c.Look.Glyphs.Forecast
		}
		c.Rune(x, r.Y, part.In(l.ink), g)
		x = c.Text(x+2, r.Y, part.In(part.Dim), l.text) + 3
	}
	part.Timeline(c, part.Rect{X: r.X, Y: r.Y + 1, W: r.W, H: r.H - 1}, v.times(r.H-2), part.Band{From: v.answer.P50, To: v.answer.P90})
}

// plankNotes are texts for the right end of a plank, what matters most in its state first, shorter ones after.
func (v *View) plankNotes(p *elevation.Plank) []string {
	r := v.state.Resource(p.IDs[0])
	if len(p.IDs) > 1 {
		if p.Status == run.Planned {
			return nil
		}
		return []string{fmt.Sprintf("%d of %d", p.Counts[run.Standing], len(p.IDs)), fmt.Sprintf("%d/%d", p.Counts[run.Standing], len(p.IDs))}
	}
	switch p.Status {
	case run.UnderWay:
		return v.underWay(r)
	case run.Standing:
		return []string{v.standing(r)}
	case run.Failed, run.Stopped:
		for _, st := range v.steps(r) {
			if st.Error != "" {
				return []string{st.Error}
			}
		}
	case run.Held:
		return []string{"waits"}
	}
	return []string{p.Note}
}

// underWay names the step under way on a plank, and how long it has been.
func (v *View) underWay(r *run.Resource) []string {
	for _, st := range v.steps(r) {
		if st.Status == run.UnderWay {
			gone := part.Clock(max(v.now.Sub(st.Started), 0))
			if st.Awaits != "" {
				return []string{"no worker there " + gone, "no worker", gone}
			}
			return []string{fmt.Sprintf("%s %s", st.Op, gone), gone}
		}
	}
	return []string{"next"}
}

func (v *View) standing(r *run.Resource) string {
	switch {
	case r.Kind == kinds.Instance:
		for _, part := range v.parts(r.ID) {
			if a := part.Attributes["address"]; a != "" {
				return a
			}
		}
	case r.Kind == kinds.Endpoint && r.Answer.Good:
		return "answers"
	case r.Kind == kinds.Software && r.Answer.Good:
		return "open"
	}
	return r.Detail
}

// parts are the resources drawn on the plank of another.
func (v *View) parts(id string) []*run.Resource {
	var out []*run.Resource
	for _, r := range v.state.Carries(id) {
		if r.PartOf == id {
			out = append(out, r)
		}
	}
	return out
}

// steps are those of a plank: the resource's own and those of its parts.
func (v *View) steps(r *run.Resource) []*run.Step {
	out := v.state.StepsOf(r.ID)
	for _, p := range v.parts(r.ID) {
		out = append(out, v.state.StepsOf(p.ID)...)
	}
	return out
}
