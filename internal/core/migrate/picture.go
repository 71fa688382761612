package migrate

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// Entry is a line of a workload's run-book.
type Entry struct {
	Title  string
	Status run.Status
	// Inner lines belong to the cutover; Waits is the line at which somebody says so.
	Inner, Waits bool
	// Took is how long it took, or has taken so far; Expected how long it is expected to.
	Took, Expected time.Duration
	// Note says what of it matters now, such as the round.
	Note string
}

// Book is the run-book of one workload: what is done for it, in order, those things together that nobody waits for one by
// one. Without a run all is planned.
func Book(p *plan.Plan, s *run.State, instance string, now time.Time) []Entry {
	b := &book{p: p, s: s, id: instance, now: now, mine: mine(p, instance)}
	b.together("reserve size, network and disks", func(st *plan.Step) bool {
		return (st.Op == op.Create || st.Op == op.Attach) && st.Script == nil && b.mine[st.Resource] && !strings.Contains(st.Resource, "@"+b.from())
	})
	b.one(op.Replicate.On(instance))
	b.one(op.Follow.On(instance))
	b.sayWhen()
	for i := range p.Steps {
		st := &p.Steps[i]
		if b.done[st.ID] || !b.mine[st.Resource] || st.Op == op.Carry {
			continue
		}
		b.add(st, true)
	}
	b.keep()
	return b.out
}

type book struct {
	p    *plan.Plan
	s    *run.State
	id   string
	now  time.Time
	mine map[string]bool
	done map[string]bool
	out  []Entry
}

// from is the site that the workload comes from.
func (b *book) from() string {
	for i := range b.p.Steps {
		if c := b.p.Steps[i].Copying; c != nil && b.p.Steps[i].Resource == b.id {
			return c.From
		}
	}
	if _, from, moved := strings.Cut(b.p.Renames[b.id], "@"); moved {
		return from
	}
	return "?"
}

// mine are the resources of a workload: itself, its parts here and there, what runs on it, and where that is reached.
func mine(p *plan.Plan, instance string) map[string]bool {
	out := map[string]bool{instance: true}
	if kept, moved := p.Renames[instance]; moved {
		out[kept] = true
	}
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Op == op.Restore && p.Step(op.Attach.For(instance, s.Resource)) != nil {
			out[s.Resource] = true
		}
		if c := p.Steps[i].Copying; c != nil && p.Steps[i].Resource == instance {
			for _, d := range c.Disks {
				out[d.From], out[d.To] = true, true
			}
		}
	}
	for range 2 { // what belongs to what belongs to it
		for i := range p.Resources {
			r := &p.Resources[i]
			if out[r.On] || out[r.PartOf] || out[r.AsEndpoint().EndpointOf] || out[r.AsInterface().Instance] {
				out[r.ID] = true
			}
		}
	}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Interface && out[r.ID] {
			out[r.AsInterface().Network] = true
		}
	}
	return out
}

func (b *book) state(id string) *run.Step {
	if b.s == nil {
		return nil
	}
	return b.s.Step(id)
}

func (b *book) entry(st *plan.Step) Entry {
	e := Entry{Title: st.Title, Status: run.Planned, Expected: time.Duration(st.Seconds * float64(time.Second))}
	if r := b.p.Resource(st.Resource); r != nil && st.Resource != b.id && r.Kind == kinds.Software {
		e.Title = r.Title + ": " + st.Title
	}
	if now := b.state(st.ID); now != nil {
		e.Status = now.Status
		switch {
		case !now.Ended.IsZero() && !now.Started.IsZero():
			e.Took = now.Ended.Sub(now.Started)
		case !now.Started.IsZero():
			e.Took = b.now.Sub(now.Started)
		}
		if now.Status == run.Failed {
			e.Note = now.Error
		}
	}
	return e
}

func (b *book) add(st *plan.Step, inner bool) {
	if b.done == nil {
		b.done = map[string]bool{}
	}
	b.done[st.ID] = true
	e := b.entry(st)
	e.Inner = inner
	if st.Op == op.Follow && b.s != nil {
		if j := b.s.Judged[b.id]; len(j) > 0 {
			e.Note = fmt.Sprintf("round %d", j[len(j)-1].Round)
		}
	}
	b.out = append(b.out, e)
}

func (b *book) one(id string) {
	if st := b.p.Step(id); st != nil {
		b.add(st, false)
	}
}

// together adds one line for several steps.
func (b *book) together(title string, which func(*plan.Step) bool) {
	sum := Entry{Title: title, Status: run.Standing}
	var first, last time.Time
	n := 0
	for i := range b.p.Steps {
		st := &b.p.Steps[i]
		if !which(st) {
			continue
		}
		n++
		if b.done == nil {
			b.done = map[string]bool{}
		}
		b.done[st.ID] = true
		sum.Expected = max(sum.Expected, time.Duration((st.Start+st.Seconds)*float64(time.Second)))
		e := b.entry(st)
		sum.Status = heavier(sum.Status, e.Status)
		if now := b.state(st.ID); now != nil {
			if first.IsZero() || !now.Started.IsZero() && now.Started.Before(first) {
				first = now.Started
			}
			if now.Ended.After(last) {
				last = now.Ended
			}
		}
	}
	if n == 0 {
		return
	}
	if sum.Status == run.Standing && !first.IsZero() {
		sum.Took = last.Sub(first)
	}
	b.out = append(b.out, sum)
}

// heavier is which of two statuses counts for both together.
func heavier(a, b run.Status) run.Status {
	for _, s := range []run.Status{run.Failed, run.Stopped, run.UnderWay, run.Held, run.Planned} {
		if a == s || b == s {
			if s == run.Planned && (a == run.Standing && b == run.Planned || b == run.Standing && a == run.Planned) {
				return run.Planned
			}
			return s
		}
	}
	return a
}

// keep adds the last line: what is kept where it was, until somebody commits.
func (b *book) keep() {
	e := Entry{Title: "kept at " + b.from() + ", to go back to", Status: run.Planned, Note: "until you commit"}
	if b.s != nil && b.s.Status == run.Standing {
		e.Status, e.Waits = run.Held, true
	}
	b.out = append(b.out, e)
}

// sayWhen adds the line at which somebody says to cut over.
func (b *book) sayWhen() {
	st := b.p.Step(op.Follow.On(b.id))
	if st == nil {
		title := "stop, copy, start there"
		if b.p.Step(op.Restore.On(b.id)) != nil {
			title = "stop where it answers, begin with the copy, start there"
		}
		e := Entry{Title: title, Status: run.Planned}
		for _, last := range []op.Op{op.Finish, op.Restore} {
			if now := b.state(last.On(b.id)); now != nil && now.Status == run.Standing {
				e.Status = run.Standing
			}
		}
		b.out = append(b.out, e)
		return
	}
	e := Entry{Title: "cut over", Status: run.Planned, Waits: st.Copying.Await, Note: "as soon as it can be"}
	if st.Copying.Await {
		e.Note = "when you say"
		e.Status = run.Held
	}
	if now := b.state(st.ID); now != nil {
		switch {
		case now.Status == run.Standing:
			e.Status, e.Note = run.Standing, ""
		case now.Control.Cut:
			e.Note = "said; ends with this round"
		}
	}
	b.out = append(b.out, e)
}

// Stretch is a time during which so many bytes were left to copy, from and to since the copying began.
type Stretch struct {
	From, To time.Duration
	// Left is what was to be copied when the stretch began, Then what was left when it ended.
	Left, Then float64
	Forecast   bool
}

// Curve is what was left to copy of a workload's disks over time, and what is expected to be.
type Curve struct {
	Stretches []Stretch
	// Now is how long copying goes on, Whole the whole width with what is expected.
	Now, Whole time.Duration
	Most       float64
	// Pause is for how many seconds it would stand still if it were cut over now; negative if that is not known.
	Pause float64
}

// CurveOf works the curve out from what was copied, and goes on with what is expected.
func CurveOf(s *run.State, instance string, load Load, now time.Time) Curve {
	c := Curve{Pause: -1}
	if s == nil {
		c.forecast(Predict(load), 0)
		return c
	}
	var began time.Time
	disks := disksOf(s, instance)
	for _, d := range disks {
		for _, r := range rounds(d) {
			if began.IsZero() || r.Began.Before(began) {
				began = r.Began
			}
		}
	}
	if began.IsZero() {
		c.forecast(Predict(load), 0)
		return c
	}
	for _, d := range disks {
		c.past(d, began, now)
	}
	c.Now = now.Sub(began)
	m := measured(s, instance)
	slowest := load.Bandwidth * leastOfBefore
	load = m.told(load)
	changed := load.Rate * m.since // during the first copy, of which nothing was copied since
	if j := s.Judged[instance]; len(j) > 0 {
		last := j[len(j)-1]
		c.Pause = last.Pause
		load.Bandwidth = max(load.Bandwidth, slowest) // little is copied slowly, for what comes with each call
		changed = float64(last.Bytes)
	}
	if load.Used == 0 {
		load.Used = max(int64(changed), 1)
	}
	if st := s.Step(op.Finish.On(instance)); st != nil && st.Status == run.Standing {
		c.Now = st.Ended.Sub(began)
		c.Whole = c.Now
		return c
	}
	c.forecast(Predict(load), c.Now)
	return c
}

// Scale is the range of a curve in whole powers of ten, in bytes: two of them at least, and none below a kilobyte.
func (c Curve) Scale() (low, high float64) {
	low, high = math.MaxFloat64, 1e3
	for _, s := range c.Stretches {
		low, high = min(low, max(s.Left, 1e3)), max(high, s.Left)
	}
	high = math.Pow(10, math.Ceil(math.Log10(high)))
	low = math.Pow(10, math.Floor(math.Log10(min(low, high))))
	return min(low, high/100), high
}

// Bytes says how many bytes, in the unit that fits.
func Bytes(n float64) string {
	for _, u := range []struct {
		of   float64
		word string
	}{{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if n >= u.of*0.9995 {
			return strconv.FormatFloat(n/u.of, 'f', map[bool]int{true: 1, false: 0}[n < 9.95*u.of && n/u.of != math.Trunc(n/u.of)], 64) + " " + u.word
		}
	}
	return strconv.FormatFloat(n, 'f', 0, 64)
}

func disksOf(s *run.State, instance string) []*run.Disk {
	var out []*run.Disk
	for i := range s.Plan.Steps {
		st := &s.Plan.Steps[i]
		if st.Resource != instance || st.Copying == nil || st.Op != op.Finish {
			continue
		}
		for _, x := range st.Copying.Disks {
			if d := s.Disks[x.To]; d != nil {
				out = append(out, d)
			}
		}
	}
	return out
}

func rounds(d *run.Disk) []run.Round {
	out := slices.Clone(d.Past)
	if d.Running {
		out = append(out, run.Round{Round: d.Round, Began: d.Began, At: d.Seen, Bytes: d.Done})
	}
	return slices.DeleteFunc(out, func(r run.Round) bool { return r.Began.IsZero() })
}

func (c *Curve) past(d *run.Disk, began, now time.Time) {
	for _, r := range d.Past {
		if r.Bytes > 0 && !r.Began.IsZero() {
			c.add(Stretch{From: r.Began.Sub(began), To: r.At.Sub(began), Left: float64(r.Bytes)})
		}
	}
	if d.Running && d.Total > 0 {
		c.add(Stretch{From: d.Began.Sub(began), To: now.Sub(began), Left: float64(d.Total), Then: float64(d.Total - d.Done)})
	}
}

func (c *Curve) add(s Stretch) {
	c.Stretches = append(c.Stretches, s)
	c.Most, c.Whole = max(c.Most, s.Left), max(c.Whole, s.To)
}

// leastOfBefore is the part of the bandwidth measured before the move below which rounds do not count as telling it.
const leastOfBefore = 0.1

// leastShown is the least that is drawn as left: one page of a disk.
const leastShown = 4096

// mostAhead bounds how many rounds are drawn ahead.
const mostAhead = 6

func (c *Curve) forecast(f Forecast, from time.Duration) {
	if c.Pause < 0 && f.Last.Seconds > 0 {
		c.Pause = f.Last.Seconds
	}
	at := from
	for i, r := range f.Rounds {
		if i == mostAhead {
			break
		}
		to := at + time.Duration(r.Seconds*float64(time.Second))
		c.add(Stretch{From: at, To: to, Left: float64(r.Bytes), Forecast: true})
		at = to
	}
	to := at + time.Duration(max(f.Last.Seconds, 0.2)*float64(time.Second))
	c.add(Stretch{From: at, To: to, Left: float64(max(f.Last.Bytes, leastShown)), Forecast: true})
}
