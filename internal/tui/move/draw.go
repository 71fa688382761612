package move

import (
	"fmt"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/service/moves"
	"andamio/internal/tui/part"
)

// wideFrom is how wide the screen must be for two banks side by side with the copy between them.
const wideFrom = 110

// page draws the view once.
type page struct {
	v   *View
	c   *part.Canvas
	r   part.Rect
	now time.Time
}

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, now time.Time) {
	v.drawn, v.spots = now, nil
	p := &page{v, c, r, now}
	switch {
	case v.shown() == nil && v.draft == nil:
		p.planning()
	default:
		p.moving()
	}
}

func (p *page) ink(i part.Ink) part.Style { return part.In(i) }

// head draws the first line: what is moved, how it stands, when it will be there, and how it fits its window.
func (p *page) head() {
	v := p.v
	x, y, end := p.r.X+1, p.r.Y, p.r.X+p.r.W
	below := func() { // where there is little room, how long it takes has a line of its own
		if p.r.W < wideFrom {
			x, y = p.r.X+1, y+1
		}
	}
	say := func(style part.Style, text string) {
		if x < end {
			x = p.c.Cut(x, y, end-x, style, text) + 3
		}
	}
	if m := v.shown(); m != nil {
		wave := m.Current()
		state := m.States[wave]
		x = p.c.Cut(x, y, p.r.W/4, p.ink(part.Text).Strong(), m.Name) + 3
		say(p.ink(part.Dim), waveWord(wave, len(m.Waves), m.Request.Mode))
		say(p.ink(inkOf(state)), p.c.Look.Mark(markOf(state))+" "+p.word(state))
		below()
		switch {
		case v.silent:
			say(p.ink(part.Coral), "its worker is silent: what follows is the last that is known")
		case state == moves.WaveMoving:
			say(p.ink(part.Text), p.restWord())
		}
		p.window(x, y, nil)
		return
	}
	d := v.draft
	x = p.c.Cut(x, y, p.r.W/5, p.ink(part.Text).Strong(), d.Move.Name) + 3
	say(p.ink(part.Dim), waveWord(d.Wave, len(d.Move.Waves), d.Move.Request.Mode))
	say(p.ink(part.Ochre), p.c.Look.Mark(run.Planned)+" not begun")
	if p.v.takes != nil && d.Move.Deployment == 0 {
		say(p.ink(part.Text), "taken over first")
	}
	below()
	if text := d.Diverges(); text != "" {
		say(p.ink(part.Coral), text)
	} else {
		say(p.ink(part.Text), fmt.Sprintf("about %s (9 in 10 within %s), not serving %s", span(d.Seconds), span(d.Rehearsed.P90.Seconds()), span(d.Down)))
	}
	p.window(x, y, d)
}

func waveWord(wave, waves int, mode change.Mode) string {
	if waves == 1 {
		return string(mode)
	}
	return fmt.Sprintf("wave %d of %d · %s", wave+1, waves, mode)
}

// restWord says for how long the move goes on yet, as far as that is known.
func (p *page) restWord() string {
	rest, known := p.rest()
	switch {
	case !known:
		return ""
	case rest.Copy <= 0 && p.awaits():
		return "cutting over takes " + span(rest.Down.Seconds())
	case rest.Copy <= 0:
		return "there in " + span(rest.Down.Seconds())
	case p.awaits():
		return fmt.Sprintf("ready in %s, then %s to cut over", span(rest.Copy.Seconds()), span(rest.Down.Seconds()))
	}
	return fmt.Sprintf("there in %s, at %s", span(rest.Whole().Seconds()), p.now.Add(rest.Whole()).Format("15:04:05"))
}

// rest is for how long the slowest workload goes on yet.
func (p *page) rest() (migrate.Rest, bool) {
	m, s := p.v.shown(), p.v.state
	if m == nil || s == nil {
		return migrate.Rest{}, false
	}
	var most migrate.Rest
	for _, id := range p.v.workloads() {
		rest, known := migrate.RestOf(s, id, m.Loads[id], p.now)
		if !known {
			return rest, false
		}
		most.Copy, most.Down = max(most.Copy, rest.Copy), max(most.Down, rest.Down)
	}
	return most, true
}

// awaits reports that rounds go on until somebody says to cut over.
func (p *page) awaits() bool {
	for i := range p.v.state.Steps {
		if st := &p.v.state.Steps[i]; st.Op == op.Follow && st.Copying.Await && !st.Control.Cut {
			return true
		}
	}
	return false
}

func span(seconds float64) string {
	switch {
	case seconds < 10:
		return fmt.Sprintf("%.1f s", seconds)
	case seconds < 120:
		return fmt.Sprintf("%.0f s", seconds)
	case seconds < 120*60:
		return fmt.Sprintf("%.0f min", seconds/60)
	case seconds < 48*3600:
		return fmt.Sprintf("%.1f h", seconds/3600)
	}
	return fmt.Sprintf("%.0f days", seconds/86400)
}

// word is the state of a wave, or the phase of its workloads while it goes on.
func (p *page) word(s moves.WaveState) string {
	if s != moves.WaveMoving || p.v.state == nil {
		return string(s)
	}
	if p.v.paused() {
		return "paused"
	}
	least := migrate.Phase("")
	for _, id := range p.v.workloads() {
		if ph := migrate.PhaseOf(p.v.state, id); least == "" || order[ph] < order[least] {
			least = ph
		}
	}
	return string(least)
}

var order = map[migrate.Phase]int{migrate.Broken: 0, migrate.Waiting: 1, migrate.Preparing: 2, migrate.Copying: 3, migrate.Following: 4, migrate.Ready: 5, migrate.Cutting: 6, migrate.There: 7}

func inkOf(s moves.WaveState) part.Ink {
	return map[moves.WaveState]part.Ink{moves.WavePlanned: part.Dim, moves.WaveMoving: part.Sky, moves.WaveBroken: part.Coral, moves.WaveMoved: part.Violet,
		moves.WaveReturning: part.Sky, moves.WaveBack: part.Dim, moves.WaveLeaving: part.Sky, moves.WaveDone: part.Teal}[s]
}

func markOf(s moves.WaveState) run.Status {
	return map[moves.WaveState]run.Status{moves.WavePlanned: run.Planned, moves.WaveMoving: run.UnderWay, moves.WaveBroken: run.Failed, moves.WaveMoved: run.Held,
		moves.WaveReturning: run.UnderWay, moves.WaveBack: run.Retired, moves.WaveLeaving: run.UnderWay, moves.WaveDone: run.Standing}[s]
}

// window draws how much of the window is used.
func (p *page) window(x, y int, d *moves.Draft) {
	var windows []plan.Window
	if d != nil {
		windows = d.Windows
	} else if p.v.state != nil {
		for i := range p.v.state.Plan.Steps {
			if c := p.v.state.Plan.Steps[i].Copying; c != nil && len(c.Windows) > 0 {
				windows = c.Windows
			}
		}
	}
	if len(windows) == 0 {
		if x+16 < p.r.X+p.r.W {
			p.c.Text(x, y, p.ink(part.Dim), "any time")
		}
		return
	}
	if p.r.W >= wideFrom { // it has a line of its own
		x, y = p.r.X+1, y+1
	}
	left := 0.0
	if d != nil {
		left = d.Seconds
	} else if rest, known := p.rest(); known {
		left = rest.Whole().Seconds()
	}
	fit := migrate.FitInto(windows, p.now, left)
	w := windows[0]
	cells := min(24, p.r.W/5)
	if x+30 > p.r.X+p.r.W {
		return
	}
	x = p.c.Text(x, y, p.ink(part.Text), fmt.Sprintf("window %s–%s ", w.From.Format("Mon 15:04"), w.To.Format("15:04")))
	p.c.Across(x, y, cells, p.ink(part.Dim), p.c.Look.Glyphs.Forecast)
	if fit.End.IsZero() {
		p.c.Across(x, y, cells, p.ink(part.Coral), p.c.Look.Glyphs.Bar)
		p.c.Text(x+cells+1, y, p.ink(part.Coral), "does not fit")
		return
	}
	p.c.Across(x, y, max(int(fit.Share*float64(cells)), min(1, cells)), p.ink(part.Teal), p.c.Look.Glyphs.Bar)
	text := fmt.Sprintf("fits, %.0f %%  ends %s", 100*fit.Share, fit.End.Format("15:04"))
	if fit.Windows > 1 {
		text = fmt.Sprintf("in %d windows, ends %s", fit.Windows, fit.End.Format("Mon 15:04"))
	}
	p.c.Cut(x+cells+1, y, p.r.X+p.r.W-x-cells-1, p.ink(part.Teal), text)
}

// moving draws a move that goes on, or one that was worked out and has not begun.
func (p *page) moving() {
	p.head()
	lower := p.r.H * 46 / 100
	if p.r.H < 28 {
		lower = p.r.H / 2
	}
	top := part.Rect{X: p.r.X, Y: p.r.Y + 2, W: p.r.W, H: p.r.H - lower - 2}
	bottom := part.Rect{X: p.r.X, Y: p.r.Y + p.r.H - lower + 1, W: p.r.W, H: lower - 1}
	if p.r.W >= wideFrom {
		p.banks(top)
		half := bottom.W/2 - 2
		if p.v.calm || p.waves() > 1 && p.v.shown() == nil {
			p.calendar(part.Rect{X: bottom.X + 1, Y: bottom.Y, W: half - 2, H: bottom.H})
		} else {
			p.chart(part.Rect{X: bottom.X + 1, Y: bottom.Y, W: half - 2, H: bottom.H})
		}
		p.c.Downward(bottom.X+half+1, bottom.Y, bottom.H, p.ink(part.Steel), p.c.Look.Glyphs.Down)
		p.book(part.Rect{X: bottom.X + half + 3, Y: bottom.Y, W: bottom.W - half - 4, H: bottom.H})
		return
	}
	p.lanes(top)
	p.book(bottom)
}

func (p *page) waves() int {
	if m := p.v.shown(); m != nil {
		return len(m.Waves)
	}
	return len(p.v.draft.Move.Waves)
}

// lane is a workload between the banks.
type lane struct {
	id               string
	from, to         string
	here, there      string
	hereMark, thMark run.Status
	hereWord, thWord string
	disks            []disk
}

// disk is one disk of a lane.
type disk struct {
	title string
	size  string
	note  string
	share float64
	rate  float64
	left  int64
	known bool
	going bool
}

// planOf is the plan that is shown.
func (v *View) planOf() *plan.Plan {
	if v.shown() != nil {
		if v.state == nil {
			return nil
		}
		return v.state.Plan
	}
	return v.draft.Order.Plan
}

func (p *page) lanesOf() []lane {
	pl := p.v.planOf()
	if pl == nil {
		return nil
	}
	var out []lane
	for _, id := range p.v.workloads() {
		r := pl.Resource(id)
		st := pl.Step(op.Finish.On(id))
		if r == nil || st == nil && pl.Step(op.Restore.On(id)) == nil {
			continue
		}
		l := lane{id: id, from: p.v.origin(id), to: r.Site, there: strings.TrimSpace(r.AsInstance().Size), thMark: run.Planned, thWord: "not yet", hereMark: run.Standing, hereWord: "running"}
		if l.there == "" {
			l.there = r.Detail
		}
		if was := pl.Resource(id + "@" + l.from); was != nil {
			l.here = was.Detail
		}
		if s := p.v.state; s != nil && p.v.shown() != nil {
			p.states(&l, s)
		}
		if st == nil {
			l.disks = p.begun(pl, id)
		} else {
			for _, d := range st.Copying.Disks {
				l.disks = append(l.disks, p.disk(d, st))
			}
		}
		out = append(out, l)
	}
	return out
}

// origin is where a workload was.
func (v *View) origin(id string) string {
	if m := v.shown(); m != nil {
		return m.From[id]
	}
	return v.draft.Move.From[id]
}

// begun are the disks of a workload that begin with what copies hold.
func (p *page) begun(pl *plan.Plan, id string) []disk {
	var out []disk
	for i := range pl.Steps {
		s := &pl.Steps[i]
		if s.Op != op.Restore || s.Resource != id && pl.Step(op.Attach.For(id, s.Resource)) == nil {
			continue
		}
		title := s.Resource
		if s.Resource == id {
			title = "system"
		}
		d := disk{title: title, size: estate.GiB(pl.Resource(s.Resource).DiskGiB()), note: "from its copy"}
		if p.v.shown() != nil && p.v.state != nil {
			if st := p.v.state.Step(s.ID); st != nil && st.Status == run.Standing {
				d.note, d.share, d.known = "as the copy was", 1, true
			}
		}
		out = append(out, d)
	}
	return out
}

// states says how a workload is on either bank.
func (p *page) states(l *lane, s *run.State) {
	has := func(id string) bool { st := s.Step(id); return st != nil && st.Status == run.Standing }
	begun := func(id string) bool {
		st := s.Step(id)
		return st != nil && st.Status != run.Planned && st.Status != run.Held
	}
	kept := l.id + "@" + l.from
	m := p.v.shown()
	switch state := m.States[m.Current()]; {
	case state == moves.WaveDone:
		l.hereMark, l.hereWord = run.Retired, "gone"
	case state == moves.WaveBack:
		l.hereMark, l.hereWord = run.Standing, "running"
	case has(op.Suspend.On(kept)):
		l.hereMark, l.hereWord = run.Held, "suspended, kept"
	case has(op.Halt.On(kept)):
		l.hereMark, l.hereWord = run.Held, "off, kept"
	}
	switch {
	case m.States[m.Current()] == moves.WaveBack:
		l.thMark, l.thWord = run.Retired, "gone"
	case has(op.Carry.On(l.id)):
		l.thMark, l.thWord = run.Standing, "running"
	case begun(op.Boot.On(l.id)):
		l.thMark, l.thWord = run.UnderWay, "starting"
	case has(op.Create.On(l.id)):
		l.thMark, l.thWord = run.Planned, "built, asleep"
	}
}

func (p *page) disk(d plan.DiskCopy, st *plan.Step) disk {
	out := disk{title: d.Title, size: estate.GiB(d.GiB), note: "not begun"}
	if p.v.shown() == nil || p.v.state == nil {
		return out
	}
	k := p.v.state.Disks[d.To]
	if k == nil {
		return out
	}
	if k.Round == 0 { // how much it holds is known, and nothing has been copied yet
		out.left = k.Whole
		return out
	}
	out.known = true
	out.share, out.rate, out.left, out.going = 1, k.Rate(), k.Total-k.Done, k.Running
	if k.Total > 0 {
		out.share = float64(k.Done) / float64(k.Total)
	}
	finish := p.v.state.Step(st.ID)
	switch {
	case finish != nil && finish.Status == run.Standing:
		out.note, out.share, out.left = "even, verified", 1, 0
	case k.Round <= 1 && k.Running:
		out.note = "first copy"
	default:
		out.note = fmt.Sprintf("round %d", k.Round)
	}
	return out
}

// banks draws where the workloads are, where they go, and the copy between.
func (p *page) banks(r part.Rect) {
	lanes := p.lanesOf()
	side := r.W * 33 / 100
	left := part.Rect{X: r.X, Y: r.Y, W: side, H: r.H}
	right := part.Rect{X: r.X + r.W - side, Y: r.Y, W: side, H: r.H}
	mid := part.Rect{X: left.X + side + 1, Y: r.Y, W: r.W - 2*side - 2, H: r.H}
	for _, b := range []part.Rect{left, right} {
		p.c.Fill(b, part.Panel)
	}
	p.c.Downward(left.X+side, r.Y, r.H, p.ink(part.Steel), p.c.Look.Glyphs.Post)
	p.c.Downward(right.X-1, r.Y, r.H, p.ink(part.Steel), p.c.Look.Glyphs.Post)
	if len(lanes) == 0 {
		p.c.Text(left.X+2, left.Y+1, p.ink(part.Dim).On(part.Panel), "reading the plan of the move")
		return
	}
	sel := lanes[min(p.v.pick, len(lanes)-1)]
	p.bankHead(left, sel.from)
	p.bankHead(right, sel.to)
	p.c.Text(mid.X+(mid.W-8)/2, mid.Y+1, p.ink(part.Dim).Strong(), "the copy")
	needed := 0
	for _, l := range lanes {
		needed += 2 + len(l.disks)
	}
	facts := p.factRows(sel, max(r.H-4-needed, 6))
	room := r.H - 4 - facts
	y := r.Y + 3
	for i, l := range p.fitting(lanes, room) {
		if l.id == "" {
			p.c.Text(left.X+3, y, p.ink(part.Dim).On(part.Panel), fmt.Sprintf("and %d more", i))
			break
		}
		p.v.spots = append(p.v.spots, spot{part.Rect{X: r.X, Y: y, W: r.W, H: 1 + len(l.disks)}, p.picks(lanes, l.id)})
		if l.from != sel.from {
			l.hereWord += " at " + l.from
		}
		if l.to != sel.to {
			l.thWord += " at " + l.to
		}
		y = p.lane(l, l.id == sel.id, left, mid, right, y) + 1
	}
	p.differences(part.Rect{X: r.X, Y: r.Y + r.H - facts, W: r.W, H: facts}, left, mid, right, sel)
}

func (p *page) picks(lanes []lane, id string) func() {
	return func() {
		for i := range lanes {
			if lanes[i].id == id {
				p.v.pick = i
			}
		}
	}
}

// fitting are the lanes that there is room for, from the selected one on where not all fit; an empty one stands for the
// rest, at the place that counts them.
func (p *page) fitting(lanes []lane, room int) []lane {
	from, used := 0, 0
	for i := min(p.v.pick, len(lanes)-1); i >= 0; i-- {
		if used += 2 + len(lanes[i].disks); used > room {
			break
		}
		from = i
	}
	used = 0
	out := []lane{}
	for _, l := range lanes[from:] {
		if used += 2 + len(l.disks); used > room+1 {
			break
		}
		out = append(out, l)
	}
	return out
}

func (p *page) bankHead(b part.Rect, name string) {
	x := p.c.Text(b.X+2, b.Y+1, p.ink(part.Text).Strong().On(part.Panel), name)
	if p.v.estate != nil {
		if s := p.v.estate.Site(name); s != nil {
			p.c.Cut(x+2, b.Y+1, b.W-(x+2-b.X)-1, p.ink(part.Dim).On(part.Panel), string(s.Kind)+" · "+s.Title)
		}
	}
}

// lane draws one workload over both banks, and returns the line after it.
func (p *page) lane(l lane, picked bool, left, mid, right part.Rect, y int) int {
	on := func(i part.Ink) part.Style { return p.ink(i).On(part.Panel) }
	if picked {
		p.c.Rune(left.X+1, y, on(part.Ochre).Strong(), p.c.Look.Glyphs.PickLeft)
	}
	p.c.Text(left.X+2, y, on(part.InkOf(l.hereMark)), p.c.Look.Mark(l.hereMark))
	x := p.c.Cut(left.X+4, y, 22, on(part.Text).Strong(), l.id)
	x = p.c.Text(x+2, y, on(part.Dim), l.hereWord)
	p.c.Cut(x+2, y, left.X+left.W-x-3, on(part.Dim), l.here)
	p.c.Text(right.X+1, y, on(part.InkOf(l.thMark)), p.c.Look.Mark(l.thMark))
	x = p.c.Cut(right.X+3, y, 22, on(part.Text).Strong(), l.id)
	x = p.c.Text(x+2, y, on(part.Dim), l.there)
	p.c.Cut(x+2, y, right.X+right.W-x-3, on(part.InkOf(l.thMark)), l.thWord)
	for _, d := range l.disks {
		y++
		p.c.Cut(left.X+4, y, left.W-20, on(part.Steel), d.title+"  "+d.size)
		p.c.Right(left.X+left.W-2, y, on(part.Dim), d.note)
		p.copy(mid, y, d)
		p.c.Cut(right.X+3, y, right.W-18, on(part.Steel), d.title+"  "+d.size)
		if d.known || d.left > 0 {
			p.c.Right(right.X+right.W-2, y, on(part.Dim), leftWord(d.left))
		}
	}
	return y + 1
}

func leftWord(n int64) string {
	if n <= 0 {
		return "nothing left"
	}
	return migrate.Bytes(float64(n)) + " left"
}

// copy draws how far a disk has come on its way from bank to bank.
func (p *page) copy(mid part.Rect, y int, d disk) {
	w := mid.W - 22
	x := mid.X + 2
	p.c.Across(x, y, w, p.ink(part.Dim), p.c.Look.Glyphs.Thin)
	if !d.known {
		return
	}
	ink := part.Sky
	if d.share >= 1 && !d.going {
		ink = part.Teal
	}
	n := max(int(d.share*float64(w)), 1)
	p.c.Across(x, y, n, p.ink(ink), p.c.Look.Glyphs.Rule)
	if d.share < 1 {
		p.c.Rune(x+n, y, p.ink(ink), p.c.Look.Glyphs.PickLeft)
	}
	p.c.Right(x+w+5, y, p.ink(part.Text), fmt.Sprintf("%.0f%%", 100*d.share))
	if d.rate > 0 && d.left > 0 {
		p.c.Right(mid.X+mid.W-1, y, p.ink(part.Dim), fmt.Sprintf("%.0f MB/s", d.rate/1e6))
	}
}
