package move

import (
	"fmt"
	"strings"
	"time"

	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/service/moves"
	"andamio/internal/tui/part"
)

// calendar draws the waves over the hours of the days on which they go on: what is open for copying, and which wave takes
// which part of it. Below it says of each wave what is in it.
func (p *page) calendar(r part.Rect) {
	waves, states, windows := p.wavesOf()
	slots := migrate.Schedule(waves, windows, p.now)
	x := p.c.Text(r.X, r.Y, p.ink(part.Dim).Strong(), "waves")
	p.c.Cut(x+2, r.Y, r.W-10, p.ink(part.Dim), "what is needed moves first; pale: the window")
	days := daysOf(slots, windows)
	y := r.Y + 1
	if len(windows) > 0 && len(days) > 0 && r.H > 2*len(waves)+6 {
		y = p.days(part.Rect{X: r.X, Y: y, W: r.W, H: min(len(days), max(r.H-2*len(waves)-4, 1)) + 1}, days, slots, windows)
	}
	y++
	for i, w := range waves {
		if y+1 > r.Y+r.H {
			p.c.Text(r.X, y-1, p.ink(part.Dim), fmt.Sprintf("and %d more", len(waves)-i))
			return
		}
		p.wave(part.Rect{X: r.X, Y: y, W: r.W, H: 2}, i, w, states[i], slots[i])
		y += 2
	}
}

func (p *page) wavesOf() ([]migrate.Wave, []moves.WaveState, []plan.Window) {
	if m := p.v.shown(); m != nil {
		windows, _ := m.Request.Windows(p.now)
		return m.Waves, m.States, windows
	}
	d := p.v.draft
	return d.Move.Waves, d.Move.States, d.Windows
}

// wave says of one wave when it is, how long it takes, and what is in it.
func (p *page) wave(r part.Rect, i int, w migrate.Wave, state moves.WaveState, slot migrate.Slot) {
	p.c.Text(r.X, r.Y, p.ink(inkOf(state)), p.c.Look.Mark(markOf(state)))
	at := p.c.Text(r.X+2, r.Y, p.ink(part.Text).Strong(), fmt.Sprintf("wave %d", i+1))
	at = p.c.Text(at+2, r.Y, p.ink(inkOf(state)), string(state))
	switch {
	case w.TooLong:
		p.c.Text(at+2, r.Y, p.ink(part.Coral), "longer than a window")
	case !slot.Fits:
		p.c.Text(at+2, r.Y, p.ink(part.Coral), "no window ahead has room")
	}
	if w.Seconds > 0 {
		when := "about " + span(w.Seconds)
		if slot.Fits && (state == moves.WavePlanned || state == moves.WaveBack) {
			when = slot.From.Format("Mon 2 Jan 15:04") + ", " + when
		}
		p.c.Right(r.X+r.W, r.Y, p.ink(part.Dim), when)
	}
	p.c.Cut(r.X+2, r.Y+1, r.W-3, p.ink(part.Dim), strings.Join(w.Instances, ", "))
}

// daysOf are the days on which something goes on, and those between them that a window opens on.
func daysOf(slots []migrate.Slot, windows []plan.Window) []time.Time {
	var last time.Time
	for _, s := range slots {
		if s.Fits && s.To.After(last) {
			last = s.To
		}
	}
	seen := map[time.Time]bool{}
	var out []time.Time
	for _, w := range windows {
		for day := midnight(w.From); day.Before(w.To) && !day.After(last); day = day.AddDate(0, 0, 1) {
			if !seen[day] {
				seen[day] = true
				out = append(out, day)
			}
		}
	}
	return out
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

func midnight(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, t.Location())
}

// days draws one line a day, from midnight to midnight.
func (p *page) days(r part.Rect, days []time.Time, slots []migrate.Slot, windows []plan.Window) int {
	const label = 11
	hours := part.Rect{X: r.X + label, Y: r.Y, W: r.W - label - 1, H: r.H}
	for h := 0; h < 24; h += 4 {
		p.c.Text(hours.X+h*hours.W/24, r.Y, p.ink(part.Dim), fmt.Sprintf("%02d", h))
	}
	y := r.Y
	for i, day := range days {
		if y++; y >= r.Y+r.H {
			p.c.Cut(r.X, y-1, r.W, p.ink(part.Dim), fmt.Sprintf("and %d days more", len(days)-i+1))
			break
		}
		col := func(t time.Time) int {
			share := min(max(t.Sub(day).Hours()/24, 0), 1)
			return hours.X + int(share*float64(hours.W))
		}
		p.c.Text(r.X, y, p.ink(part.Steel), day.Format("Mon 2 Jan"))
		p.c.Across(hours.X, y, hours.W, p.ink(part.Dim), p.c.Look.Glyphs.Thin)
		end := day.AddDate(0, 0, 1)
		for _, w := range windows {
			if w.From.Before(end) && w.To.After(day) {
				p.c.Across(col(w.From), y, max(col(w.To)-col(w.From), 1), p.ink(part.Steel), p.c.Look.Glyphs.Forecast)
			}
		}
		for k, s := range slots {
			if !s.Fits || !s.From.Before(end) || !s.To.After(day) {
				continue
			}
			for _, w := range windows { // between two of them it rests
				from, to := later(s.From, w.From), earlier(s.To, w.To)
				if !from.Before(to) || !from.Before(end) || !to.After(day) {
					continue
				}
				x, n := col(from), max(col(to)-col(from), 1)
				p.c.Across(x, y, n, p.ink(part.Sky), p.c.Look.Glyphs.Bar)
				p.c.Cut(x, y, n, p.ink(part.Text).On(part.OnDone).Strong(), fmt.Sprint(k+1))
			}
		}
		if !p.now.Before(day) && p.now.Before(end) {
			p.c.Rune(col(p.now), y, p.ink(part.Text), p.c.Look.Glyphs.Now)
		}
	}
	return y + 1
}
