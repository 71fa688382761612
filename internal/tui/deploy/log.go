package deploy

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/run"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// logPane shows what all steps of a run printed, or those lines of it that have a text.
type logPane struct {
	open bool
	text string
	// up is how many rows the last line shown lies above the end; 0 follows it.
	up    int
	lines []logLine
	// made says what the lines were made from: they are gathered again only when something has happened.
	made int64
	from *run.State
	want string
}

type logLine struct {
	at         time.Time
	step, text string
}

// find shows only lines with a text; none shows all.
func (l *logPane) find(text string) { l.text, l.up = text, 0 }

// keys are those of the log.
func (l *logPane) keys() []view.Key {
	return []view.Key{
		view.On(view.UpDown+view.Pages, "↑↓", "line", "moves through the lines; at the end new ones come in", l.step),
		view.On("esc", "esc", "back", "shows all lines again, then closes the log", view.Then(l.back)),
		view.On("L", "L", "close", "closes the log", view.Then(func() { l.open = false })),
	}
}

func (l *logPane) step(key string) tea.Cmd {
	_, dy := view.Way(key)
	l.up = max(l.up-dy, 0)
	return nil
}

func (l *logPane) back() {
	if l.text != "" {
		l.find("")
		return
	}
	l.open = false
}

// gather puts the lines of all steps in the order of time.
func (l *logPane) gather(s *run.State) {
	if l.from == s && l.made == s.LastSeq && l.want == l.text {
		return
	}
	l.from, l.made, l.want, l.lines = s, s.LastSeq, l.text, l.lines[:0]
	text := strings.ToLower(l.text)
	for i := range s.Steps {
		st := &s.Steps[i]
		for _, line := range st.Log {
			if text == "" || strings.Contains(strings.ToLower(st.ID+" "+line.Text), text) {
				l.lines = append(l.lines, logLine{line.At, st.ID, line.Text})
			}
		}
	}
	slices.SortStableFunc(l.lines, func(a, b logLine) int { return cmp.Compare(a.at.UnixNano(), b.at.UnixNano()) })
}

// draw draws the pane.
func (l *logPane) draw(c *part.Canvas, r part.Rect, s *run.State) {
	l.gather(s)
	title := "log of all steps"
	if l.text != "" {
		title = fmt.Sprintf("log: lines with %q", l.text)
	}
	x := c.Text(r.X+1, r.Y, part.In(part.Steel).Strong(), title)
	c.Cut(x+3, r.Y, r.X+r.W-x-3, part.In(part.Dim), fmt.Sprintf("%d lines   / finds   ↑↓ moves   L closes", len(l.lines)))
	rows := r.H - 2
	l.up = min(l.up, max(len(l.lines)-rows, 0))
	end := len(l.lines) - l.up
	wide := min(r.W/3, 40)
	for i, line := range l.lines[max(end-rows, 0):end] {
		y := r.Y + 1 + i
		at := c.Text(r.X+1, y, part.In(part.Dim), line.at.Local().Format("15:04:05"))
		c.Cut(at+2, y, wide, part.In(part.Steel), line.step)
		c.Cut(at+wide+3, y, r.X+r.W-at-wide-4, part.In(part.Text), line.text)
	}
	if len(l.lines) == 0 {
		c.Text(r.X+1, r.Y+2, part.In(part.Dim), "nothing was printed")
	}
}
