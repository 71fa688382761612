package today

import (
	"context"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/tui/part"
)

// mostDone bounds how much of what was done is shown.
const mostDone = 12

// done are the last entries of the trail of what was done, the newest first.
type done struct {
	last []app.Entry
	err  error
}

// lookAtDone looks what was done last.
func (v *View) lookAtDone() tea.Cmd {
	return func() tea.Msg {
		last, err := v.app.LastOfTrail(context.Background(), mostDone)
		return done{last, err}
	}
}

// done draws what was done last, and by whom, where there is room for two lines of it.
func (d *page) done() {
	room := d.r.Y + d.r.H - d.y - 3
	if len(d.v.done) == 0 || room < 2 {
		return
	}
	atWhy, _ := d.columns()
	d.head("what was done", "", "")
	for _, e := range d.v.done[:min(len(d.v.done), room, mostDone)] {
		ink := part.Dim
		if e.Failed != "" {
			ink = part.Coral
		}
		d.c.Cut(d.r.X+2, d.y, atWhy-d.r.X-4, part.In(part.Dim), fmt.Sprintf("%s  %s", part.Age(e.At, d.now), e.Actor))
		d.c.Cut(atWhy, d.y, d.r.X+d.r.W-atWhy-1, part.In(ink), e.Words())
		d.y++
	}
	if d.y < d.r.Y+d.r.H {
		d.c.Cut(atWhy, d.y, d.r.X+d.r.W-atWhy-1, part.In(part.Dim), "andamio log tells all of it, and andamio log --verify whether it is as it was written")
	}
}
