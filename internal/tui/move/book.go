package move

import (
	"strings"

	"andamio/internal/core/change"
	"andamio/internal/core/migrate"
	"andamio/internal/core/run"
	"andamio/internal/service/moves"
	"andamio/internal/tui/part"
)

// book draws the run-book of the selected workload.
func (p *page) book(r part.Rect) {
	pl := p.v.planOf()
	id := p.v.selected()
	if pl == nil || id == "" {
		return
	}
	var s *run.State
	if p.v.shown() != nil {
		s = p.v.state
	}
	x := p.c.Text(r.X, r.Y, p.ink(part.Dim).Strong(), "run-book")
	p.c.Cut(x+3, r.Y, r.W-12, p.ink(part.Dim), id)
	lines := migrate.Book(pl, s, id, p.now)
	room := r.H - 4
	from := 0
	for i, e := range lines { // the present line is always to be seen
		if e.Status == run.UnderWay || e.Status == run.Failed {
			from = max(min(i-room/2, len(lines)-room), 0)
		}
	}
	y := r.Y + 1
	for _, e := range lines[min(from, len(lines)):] {
		if y >= r.Y+1+room {
			break
		}
		p.line(r, y, e)
		y++
	}
	p.ends(r, y+1)
}

func (p *page) line(r part.Rect, y int, e migrate.Entry) {
	x := r.X
	if e.Inner {
		x += 2
	}
	p.c.Text(x, y, p.ink(part.InkOf(e.Status)), p.c.Look.Mark(e.Status))
	right, ink := "", part.Dim
	switch {
	case e.Note != "" && e.Status == run.Failed:
		right, ink = "failed", part.Coral
	case e.Note != "":
		right, ink = e.Note, part.InkOf(e.Status)
	case e.Took > 0:
		right, ink = span(e.Took.Seconds()), part.Teal
		if e.Status == run.UnderWay {
			ink = part.Sky
		}
	case e.Expected > 0 && e.Status != run.Standing:
		right = "~" + span(e.Expected.Seconds())
	}
	p.c.Right(r.X+r.W, y, p.ink(ink), right)
	style := p.ink(part.Text)
	if e.Waits {
		style = style.Strong()
	}
	p.c.Cut(x+2, y, r.W-(x-r.X)-part.Width(right)-4, style, e.Title)
}

// ends says what could be done: begin, go back, commit, and what each does.
func (p *page) ends(r part.Rect, y int) {
	say := func(key, what, effect string) {
		if y >= r.Y+r.H {
			return
		}
		x := p.c.Text(r.X, y, p.ink(part.Ochre).Strong(), key)
		x = p.c.Text(x+1, y, p.ink(part.Text), what)
		p.c.Cut(x+1, y, r.W-(x-r.X)-1, p.ink(part.Dim), effect)
		y++
	}
	if p.v.shown() == nil {
		effect := "copying; nothing stops before it is cut over"
		switch p.v.draft.Move.Request.Mode {
		case change.Cold:
			effect = "it stops, is copied, and starts there"
		case change.FromCopy:
			effect = "it stops where it answers, and goes on with what the copies hold"
		}
		say("r", "begin", effect)
		if s := p.v.draft.Secrets; len(s) > 0 && y < r.Y+r.H {
			p.c.Cut(r.X, y, r.W, p.ink(part.Coral), "secrets do not travel: "+strings.Join(s, ", ")+" asked for first")
		}
		return
	}
	m := p.v.shown()
	switch m.States[m.Current()] {
	case moves.WaveMoving:
		back := "from here: drop the copy, nothing stops"
		if p.word(moves.WaveMoving) == string(migrate.Cutting) {
			back = "it starts again where it was, and its names return"
		}
		if p.v.planOf() != nil && p.word(moves.WaveMoving) != string(migrate.Cutting) {
			say("c", "cut over", "when what is left is little")
		}
		say("b", "go back", back)
	case moves.WaveMoved:
		say("b", "go back", "what was written there comes back, it serves here again, names return")
		say("k", "commit", "takes away what is kept; no way back after it")
	case moves.WaveBroken:
		say("r", "go on", "where it broke off")
		say("b", "go back", "it serves where it was")
	case moves.WavePlanned, moves.WaveBack:
		say("r", "begin", "this wave")
	}
}
