package tui

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/health"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// Rows of the frame: the tabs with a rule above the view, a bar with the keys below.
const (
	rowsAbove = 2
	rowsBelow = 2
)

// whole is the whole screen.
func (f *frame) whole() tea.View {
	v := tea.NewView(f.draw())
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "andamio"
	return v
}

func (f *frame) draw() string {
	if f.w < smallWidth || f.h < 16 {
		return fmt.Sprintf("andamio needs at least %d × 16 cells; this terminal has %d × %d", smallWidth, f.w, f.h)
	}
	c := part.NewCanvas(f.look, f.w, f.h)
	f.drawTabs(c)
	body := part.Rect{X: 0, Y: rowsAbove, W: f.w, H: f.h - rowsAbove - rowsBelow}
	f.view().Draw(c.Clip(body), body, f.now)
	f.drawKeys(c)
	if f.over != nil {
		f.over.draw(c, body)
	}
	return c.String()
}

// narrowTabs is the width below which the tabs stand closer together, and alone.
const narrowTabs = 100

func (f *frame) drawTabs(c *part.Canvas) {
	c.Across(0, 1, f.w, part.In(part.Steel), f.look.Glyphs.Thin)
	x := 1
	if f.w >= narrowTabs {
		x = c.Text(1, 0, part.In(part.Ochre).Strong(), "andamio") + 2
	}
	f.tabs = f.tabs[:0]
	named, gap := f.tabsNamed(f.w - x)
	for i, v := range f.views {
		from := x
		word := part.In(part.Dim)
		if i == f.current {
			word = part.In(part.Text).Strong()
		}
		x = c.Text(x, 0, part.In(part.Dim), v.Digit())
		if named[i] {
			x = c.Text(x+1, 0, word, v.Name())
		}
		if b := v.Badge(f.now); b != "" {
			x = c.Text(x+1, 0, part.In(part.Ochre), b)
		}
		if i == f.current {
			c.Across(from, 1, x-from, part.In(part.Ochre), f.look.Glyphs.Rule)
		}
		f.tabs = append(f.tabs, part.Rect{X: from, Y: 0, W: x - from, H: 2})
		x += gap
	}
	clock := f.now.Format("15:04 MST")
	if x+part.Width(clock) < f.w {
		c.Right(f.w-1, 0, part.In(part.Dim), clock)
	}
	f.drawPulse(c, f.w-part.Width(clock)-4, x)
}

// tabsNamed says which tabs show their names, and how far apart they stand, so that all fit: where there is too little room
// those farthest from the current one go by their digits.
func (f *frame) tabsNamed(room int) (named []bool, gap int) {
	named = make([]bool, len(f.views))
	for i := range named {
		named[i] = true
	}
	width := func(gap int) int {
		w := -gap
		for i, v := range f.views {
			w += part.Width(v.Digit()) + gap
			if named[i] {
				w += 1 + part.Width(v.Name())
			}
			if b := v.Badge(f.now); b != "" {
				w += 1 + part.Width(b)
			}
		}
		return w
	}
	for _, gap := range []int{3, 2, 1} {
		if width(gap) <= room {
			return named, gap
		}
	}
	for far := len(f.views) - 1; far > 0 && width(2) > room; far-- {
		for i := range named {
			named[i] = named[i] && max(i-f.current, f.current-i) < far
		}
	}
	return named, 2
}

// drawPulse shows the newest run and what is not well, ending before column end, as far as there is room.
func (f *frame) drawPulse(c *part.Canvas, end, from int) {
	for _, p := range f.pulse() {
		if end-part.Width(p.text) <= from {
			return
		}
		c.Right(end, 0, part.In(part.InkOf(p.state)), p.text)
		end -= part.Width(p.text) + 3
	}
}

type pulse struct {
	text  string
	state run.Status
}

// pulse is what is not well, and after it the newest run: where there is room for one alone it is the graver.
func (f *frame) pulse() []pulse {
	var out []pulse
	bad := 0
	var last health.Deployment
	for _, d := range f.health {
		if d.Status == run.Failed {
			bad, last = bad+1, d
		}
	}
	switch {
	case bad == 1:
		out = append(out, pulse{fmt.Sprintf("%s %s %s", f.look.Mark(run.Failed), last.Name, last.Word), run.Failed})
	case bad > 1:
		out = append(out, pulse{fmt.Sprintf("%s %d deployments not well", f.look.Mark(run.Failed), bad), run.Failed})
	}
	if len(f.runs) > 0 {
		r := f.runs[0]
		state, word := deployments.EndOf(r), string(deployments.EndOf(r))
		if runs.Abandoned(r, f.now) {
			state, word = run.Failed, "worker silent"
		}
		out = append(out, pulse{fmt.Sprintf("run %d %s %s", r.ID, f.look.Mark(state), word), state})
	}
	return out
}

func (f *frame) drawKeys(c *part.Canvas) {
	y := f.h - rowsBelow
	c.Across(0, y, f.w, part.In(part.Panel), '▄')
	if f.options.ASCII {
		c.Across(0, y, f.w, part.In(part.Steel), f.look.Glyphs.Thin)
	}
	if f.told.Text != "" && time.Since(f.toldAt) < toldStays {
		ink := part.Ochre
		if f.told.Bad {
			ink = part.Coral
		}
		c.Cut(1, y, f.w-2, part.In(ink).Strong(), f.told.Text)
	}
	f.drawBar(c, y+1)
}

// drawBar draws the keys of what takes them now. What every view has stands at its end, always in the same place.
func (f *frame) drawBar(c *part.Canvas, y int) {
	keys, end := f.view().Keys(), f.w-1
	switch {
	case f.over != nil:
		keys = f.over.keys()
	case !f.typing():
		own := f.keys()[:inTheBar]
		for _, k := range own {
			end -= part.Width(k.Help().Key) + part.Width(k.Help().Desc) + 3
		}
		bar(c, end+2, y, f.w, own)
	}
	bar(c, 1, y, end, keys)
}

// bar draws as many keys as there is room for before a column.
func bar(c *part.Canvas, x, y, end int, keys []view.Key) {
	for _, k := range keys {
		h := k.Help()
		if x+part.Width(h.Key)+part.Width(h.Desc)+1 > end {
			return
		}
		x = c.Text(x, y, part.In(part.Ochre), h.Key)
		x = c.Text(x+1, y, part.In(part.Dim), h.Desc) + 2
	}
}
