package deploy

import (
	"fmt"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/run"
	"andamio/internal/tui/part"
)

// side writes the panel about the selected resource, line by line.
type side struct {
	v *View
	c *part.Canvas
	r part.Rect
	y int
}

func (v *View) drawSide(c *part.Canvas, r part.Rect) {
	res := v.state.Resource(v.elevation.Selected)
	s := &side{v: v, c: c.Clip(r), r: r, y: r.Y}
	if res != nil {
		s.head(res)
		s.readings(res)
		s.neighbours(res)
		s.steps(res)
		s.log(res)
	}
	s.foot()
}

// left is how many rows are left above the foot.
func (s *side) left() int { return s.r.Y + s.r.H - s.y - s.footRows() }

func (s *side) title(text string) {
	s.y++
	s.c.Text(s.r.X, s.y, part.In(part.Steel).Strong(), text)
	s.y++
}

func (s *side) head(r *run.Resource) {
	x := s.c.Cut(s.r.X, s.y, s.r.W, part.In(part.Text).Strong(), r.Title)
	where := r.Site
	if r.Zone != "" {
		where += " · zone " + r.Zone
	}
	s.c.Cut(x+3, s.y, s.r.X+s.r.W-x-3, part.In(part.Dim), where)
	s.y++
	about := r.Description
	if about == "" {
		about = string(r.Kind)
	}
	if r.Detail != "" {
		about += " · " + r.Detail
	}
	s.c.Cut(s.r.X, s.y, s.r.W, part.In(part.Dim), about)
	s.y++
}

// readings shows the three: what we think, what the site says, what the endpoint answers.
func (s *side) readings(r *run.Resource) {
	s.y++
	s.reading("we", part.InkOf(r.Status), s.ours(r), s.oursAge(r))
	on := r
	if r.On != "" {
		on = s.v.state.Resource(r.On)
	}
	if r.AsEndpoint().EndpointOf != "" {
		on = s.v.state.Resource(s.v.state.Resource(r.AsEndpoint().EndpointOf).On)
	}
	said := on.SiteSaid
	if id := on.Attributes["site.id"]; said.Text == "" && id != "" {
		said.Text = "has it as " + id
	}
	s.reading("site", readingInk(said), orDash(said.Text), part.Age(said.At, s.v.now))
	answer := r.Answer
	if answer.Text == "" {
		answer.Text = "not asked yet"
		if r.Kind != kinds.Software && r.Kind != kinds.Endpoint {
			answer.Text = "has none"
		}
	}
	s.reading("endpoint", readingInk(answer), answer.Text, part.Age(answer.At, s.v.now))
}

func readingInk(r run.Reading) part.Ink {
	switch {
	case r.At.IsZero():
		return part.Dim
	case r.Good:
		return part.Teal
	}
	return part.Ochre
}

func orDash(text string) string {
	if text == "" {
		return "nothing yet"
	}
	return text
}

func (s *side) reading(who string, ink part.Ink, text, age string) {
	s.c.Text(s.r.X, s.y, part.In(part.Dim), who)
	s.c.Cut(s.r.X+10, s.y, s.r.W-11-part.Width(age), part.In(ink), text)
	s.c.Right(s.r.X+s.r.W, s.y, part.In(part.Dim), age)
	s.y++
}

// ours is our own view of a resource, in words that never say more than is known.
func (s *side) ours(r *run.Resource) string {
	for _, st := range s.v.steps(r) {
		switch st.Status {
		case run.UnderWay:
			if st.Awaits != "" {
				return "waiting for a worker"
			}
			if st.Check.Kind == plan.CheckSite {
				return "waiting for active"
			}
			return st.Title + " under way"
		case run.Failed, run.Stopped:
			return string(st.Status) + " at " + string(st.Op)
		}
	}
	switch {
	case r.Change == plan.Keep:
		return "kept as it stands"
	case s.v.order != nil && r.Change != "":
		return "to " + changeWord(r.Change)
	case r.Status == run.Standing:
		if stage := s.v.state.Stage(r.ID); stage != run.NotBegun {
			return string(stage)
		}
	case r.Status == run.UnderWay:
		return "part done, next waits"
	}
	return string(r.Status)
}

// changeWord is a change as something that is to be done.
func changeWord(c plan.Change) string {
	return "be " + map[plan.Change]string{plan.Build: "built", plan.Amend: "changed in place",
		plan.Rebuild: "rebuilt", plan.Retire: "retired"}[c]
}

func (s *side) oursAge(r *run.Resource) string {
	var last time.Time
	for _, st := range s.v.steps(r) {
		if st.Status == run.UnderWay {
			return part.Clock(max(s.v.now.Sub(st.Started), 0))
		}
		if st.Ended.After(last) {
			last = st.Ended
		}
	}
	return part.Age(last, s.v.now)
}

func (s *side) neighbours(r *run.Resource) {
	var on, over []*run.Resource
	for _, id := range r.StandsOn {
		on = append(on, s.v.state.Resource(id))
	}
	for _, x := range s.v.state.Carries(r.ID) {
		if x.PartOf != r.ID {
			over = append(over, x)
		}
	}
	s.y++
	s.list("stands on", s.c.Look.Glyphs.Under, on)
	s.list("carries", s.c.Look.Glyphs.Over, over)
}

// listed bounds how many neighbours are named.
const listed = 4

func (s *side) list(word string, mark rune, rs []*run.Resource) {
	s.c.Text(s.r.X, s.y, part.In(part.Dim), word)
	if len(rs) == 0 {
		s.c.Text(s.r.X+12, s.y, part.In(part.Dim), "nothing")
		s.y++
		return
	}
	s.c.Rune(s.r.X+10, s.y, part.In(part.Ochre), mark)
	for i, x := range rs {
		if i == listed && len(rs) > listed+1 {
			s.c.Text(s.r.X+12, s.y, part.In(part.Dim), fmt.Sprintf("and %d more", len(rs)-i))
			s.y++
			return
		}
		at := s.c.Text(s.r.X+12, s.y, part.In(part.InkOf(x.Status)), s.c.Look.Mark(x.Status))
		s.c.Cut(at+1, s.y, s.r.X+s.r.W-at-1, part.In(part.Text), x.Title)
		s.y++
	}
}

func (s *side) steps(r *run.Resource) {
	steps := s.v.steps(r)
	s.title("steps")
	for _, st := range steps {
		if s.left() < 2 {
			return
		}
		at := s.c.Text(s.r.X, s.y, part.In(part.InkOf(st.Status)), s.c.Look.Mark(st.Status))
		ink := part.In(part.Text)
		if st.Status == run.Planned {
			ink = part.In(part.Dim)
		}
		took := s.took(st)
		room := s.r.X + s.r.W - part.Width(took) - 1 - at
		at = s.c.Cut(at+1, s.y, room-1, ink, st.Title)
		if left := s.r.X + s.r.W - part.Width(took) - 1 - at; st.Critical && left > len("critical") {
			s.c.Text(at+1, s.y, part.In(part.Ochre), "critical")
		}
		s.c.Right(s.r.X+s.r.W, s.y, part.In(part.Dim), took)
		s.y++
	}
}

func (s *side) took(st *run.Step) string {
	switch st.Status {
	case run.Planned, run.Held:
		return "~" + short(seconds(st.Seconds))
	case run.UnderWay:
		return fmt.Sprintf("%s of ~%s", short(max(s.v.now.Sub(st.Started), 0)), short(seconds(st.Seconds)))
	}
	return short(st.Ended.Sub(st.Started))
}

// short shows tenths below ten seconds.
func short(d time.Duration) string {
	if d < 10*time.Second {
		return fmt.Sprintf("%.1fs", d.Seconds())
	}
	return part.Clock(d)
}

// log shows the last lines that the plank's steps printed.
func (s *side) log(r *run.Resource) {
	var lines []run.Line
	for _, st := range s.v.steps(r) {
		lines = append(lines, st.Log...)
	}
	if len(lines) == 0 || s.left() < 4 {
		return
	}
	s.title("log")
	var rows []string
	for _, l := range lines {
		for i, piece := range part.Wrap(l.Text, s.r.W-10) {
			stamp := l.At.Local().Format("15:04:05")
			if i > 0 {
				stamp = "        "
			}
			rows = append(rows, stamp+"  "+piece)
		}
	}
	for _, row := range rows[max(0, len(rows)-s.left()):] {
		x := s.c.Text(s.r.X, s.y, part.In(part.Dim), row[:8])
		s.c.Text(x, s.y, part.In(part.Text), row[8:])
		s.y++
	}
}

// failed are the steps that failed.
func (s *side) failed() []*run.Step {
	var out []*run.Step
	if s.v.state.Failures == 0 {
		return nil
	}
	for i := range s.v.state.Steps {
		if st := &s.v.state.Steps[i]; st.Status == run.Failed {
			out = append(out, st)
		}
	}
	return out
}

const failedShown = 2

func (s *side) footRows() int {
	rows := 3
	if f := s.failed(); len(f) > 0 {
		rows += 3 + 3*min(len(f), failedShown)
	}
	if n := len(s.decisive()); n > 0 {
		rows += n + 1
	}
	return rows
}

// foot stands at the bottom: what failed, and the cost.
func (s *side) foot() {
	s.y = s.r.Y + s.r.H - s.footRows()
	if failed := s.failed(); len(failed) > 0 {
		waits := len(s.v.waiting()) > 0
		at := min(s.v.held, len(failed)-1)
		word := fmt.Sprintf("failed: %d", len(failed))
		if waits {
			word = fmt.Sprintf("waits for you: %d of %d", at+1, len(failed))
		}
		s.c.Text(s.r.X, s.y, part.In(part.Violet).Strong(), word)
		s.y++
		for _, st := range failed[min(at, max(len(failed)-failedShown, 0)):][:min(len(failed), failedShown)] {
			x := s.c.Text(s.r.X, s.y, part.In(part.Coral), s.c.Look.Mark(run.Failed)+" ")
			s.c.Cut(x, s.y, s.r.W-2, part.In(part.Text), st.ID)
			for i, l := range part.Wrap(st.Error, s.r.W-2) {
				if i < 2 {
					s.c.Text(x, s.y+1+i, part.In(part.Dim), l)
				}
			}
			s.y += 3
		}
		if waits {
			s.choices()
		}
		s.y += 2
	}
	for i, d := range s.decisive() {
		if i == 0 {
			s.c.Text(s.r.X, s.y, part.In(part.Steel).Strong(), "most likely to decide it")
		} else {
			x := s.c.Text(s.r.X, s.y, part.In(part.Ochre), fmt.Sprintf("%3.0f %% ", d.Share*100))
			s.c.Cut(x+1, s.y, s.r.X+s.r.W-x-1, part.In(part.Text), d.Step)
		}
		s.y++
		if i == len(s.decisive())-1 {
			s.y++
		}
	}
	p := s.v.state.Plan
	then := "when all stands"
	if p.Purpose != "" {
		then = "then"
	}
	s.c.Text(s.r.X, s.y, part.In(part.Steel).Strong(), "cost")
	s.y++
	x := s.c.Text(s.r.X, s.y, part.In(part.Text).Strong(), fmt.Sprintf("%.3f", s.v.costNow()))
	s.c.Cut(x+1, s.y, s.r.X+s.r.W-x-1, part.In(part.Dim), fmt.Sprintf("%s/h now · %.3f %s", p.Currency, p.CostPerHour, then))
}

// choices are the keys that settle a failed step.
func (s *side) choices() {
	x := s.r.X + 2
	for _, k := range [][2]string{{"r", "retry"}, {"s", "skip"}, {"a", "more"}, {"n", "next"}} {
		x = s.c.Text(x, s.y, part.In(part.Ochre), k[0])
		x = s.c.Text(x+1, s.y, part.In(part.Dim), k[1]) + 2
	}
}

// decisiveShown is how many of the steps are shown that most likely decide the duration.
const decisiveShown = 3

// decisive are those steps, with an empty one in front for the title; none where there is no room or no rehearsal.
func (s *side) decisive() []rehearse.Decisive {
	all := s.v.answer.Decisive
	if len(all) == 0 || s.v.order == nil || s.r.H < 34 {
		return nil
	}
	return append([]rehearse.Decisive{{}}, all[:min(len(all), decisiveShown)]...)
}

// costNow is the cost of what has been created.
func (v *View) costNow() money.Amount {
	var sum money.Amount
	for i := range v.state.Resources {
		if r := &v.state.Resources[i]; r.Attributes["site.id"] != "" {
			sum += r.Costs()
		}
	}
	return sum
}
