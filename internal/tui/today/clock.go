package today

import (
	"fmt"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/tui/part"
)

// mostDue bounds how many lines what is due takes.
const mostDue = 3

// dueLine is what is due at one time.
type dueLine struct {
	at       time.Time
	overdue  bool
	kind     string
	subjects []string
	// failed says why it failed the last time, or what holds it.
	failed string
}

// dueLines puts together what is due next, the soonest first: what is of one kind and due at one time is one line.
func dueLines(c app.Clock) []dueLine {
	failed := map[int64]string{}
	for i := len(c.Last) - 1; i >= 0; i-- { // the newest counts
		failed[c.Last[i].Due] = ""
		switch f := c.Last[i]; f.State {
		case app.FiringFailed:
			failed[f.Due] = "failed the last time: " + f.Note
		case app.FiringHeld:
			failed[f.Due] = f.Note
		}
	}
	var out []dueLine
	for _, u := range c.Next {
		if u.At.IsZero() {
			continue
		}
		if n := len(out) - 1; n >= 0 && out[n].at.Equal(u.At) && out[n].kind == u.Kind && out[n].failed == failed[u.ID] {
			out[n].subjects = append(out[n].subjects, u.Subject)
			continue
		}
		out = append(out, dueLine{u.At, u.Overdue, u.Kind, []string{u.Subject}, failed[u.ID]})
	}
	return out
}

// due draws who sees to what is due, and what that is next, where there is room for it.
func (d *page) due() {
	lines := dueLines(d.v.clock)
	if len(lines) == 0 || d.r.Y+d.r.H-d.y < 6 {
		return
	}
	atWhy, _ := d.columns()
	d.head("due next", "", "")
	text, ink := "nobody sees to it: andamio serve does", part.Coral
	if by := d.v.clock.By; by.Name != "" {
		text, ink = "seen to by "+by.Name+" since "+by.Since.Local().Format("15:04"), part.Dim
	}
	if b := d.v.clock.Blackouts; len(b) > 0 {
		text, ink = "blackout "+b[0].Span+" until "+b[0].Until.Local().Format("Mon 2 Jan 15:04")+": nothing changes by itself", part.Violet
	}
	d.c.Cut(atWhy, d.y-2, d.r.X+d.r.W-atWhy-1, part.In(ink), text)
	for _, l := range lines[:min(len(lines), mostDue)] {
		when := "in " + part.Clock(l.at.Sub(d.now).Round(time.Second))
		if l.overdue || !l.at.After(d.now) {
			when = "now"
		}
		d.c.Cut(d.r.X+2, d.y, atWhy-d.r.X-4, part.In(part.Text), fmt.Sprintf("%-9s %s", l.at.Local().Format("15:04"), when))
		what := d.v.clock.Words(l.kind, l.subjects[0])
		for _, more := range l.subjects[1:] {
			what += ", " + d.v.clock.Named(l.kind, more)
		}
		if l.failed != "" {
			what += " · " + l.failed
		}
		d.c.Cut(atWhy, d.y, d.r.X+d.r.W-atWhy-1, part.In(part.Text), what)
		d.y++
	}
	if more := len(lines) - mostDue; more > 0 {
		d.c.Cut(d.r.X+2, d.y, d.r.W-3, part.In(part.Dim), fmt.Sprintf("%s after that: andamio clock lists all", printable.Count(more, "time")))
		d.y++
	}
	d.y++
}
