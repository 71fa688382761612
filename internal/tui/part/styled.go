package part

import (
	"image/color"

	"charm.land/huh/v2"
	"charm.land/lipgloss/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
)

// Styled draws text that a component styled with our inks, such as a form dressed by FormTheme, and returns how many rows
// it took.
func (c *Canvas) Styled(r Rect, text string) int {
	s := uv.NewStyledString(text)
	h := min(s.Height(), r.H)
	buf := uv.NewScreenBuffer(max(r.W, 1), max(h, 1))
	s.Draw(buf, buf.Bounds())
	for y := range h {
		for x := range r.W {
			if cell := buf.CellAt(x, y); cell != nil && cell.Content != "" {
				c.Text(r.X+x, r.Y+y, styleOf(cell.Style), cell.Content)
			}
		}
	}
	return h
}

// styleOf is a component's style as ours. What it shows reversed, a cursor, is underlined: that is seen without colours too.
func styleOf(s uv.Style) Style {
	out := Style{Fg: inkOf(s.Fg, Text), Bg: inkOf(s.Bg, None), Bold: s.Attrs&uv.AttrBold != 0}
	if s.Attrs&uv.AttrReverse != 0 {
		out = Style{Fg: Ochre, Underline: true}
	}
	return out
}

// inkOf is the ink that a colour stands for: components are given the inks' numbers as colours, so that they are dressed for
// every terminal by the look, as everything else.
func inkOf(c color.Color, usual Ink) Ink {
	switch c := c.(type) {
	case ansi.BasicColor:
		return Ink(c)
	case ansi.IndexedColor:
		if c < ansi.IndexedColor(inks) {
			return Ink(c)
		}
	}
	return usual
}

// FormTheme dresses a form in our inks.
func FormTheme() huh.Theme {
	return huh.ThemeFunc(func(bool) *huh.Styles {
		in := func(i Ink) lipgloss.Style { return lipgloss.NewStyle().Foreground(lipgloss.ANSIColor(i)) }
		s := huh.ThemeBase(false)
		f := &s.Focused
		f.Base = lipgloss.NewStyle()
		f.Title, f.Description = in(Ochre).Bold(true), in(Dim)
		f.Option, f.UnselectedOption = in(Text), in(Text)
		f.SelectSelector, f.MultiSelectSelector = in(Ochre).SetString("▐ "), in(Ochre).SetString("▐ ")
		f.SelectedOption, f.SelectedPrefix, f.UnselectedPrefix = in(Teal), in(Teal).SetString("■ "), in(Dim).SetString("▱ ")
		f.TextInput.Prompt, f.TextInput.Text, f.TextInput.Placeholder, f.TextInput.Cursor = in(Ochre), in(Text), in(Dim), in(Ochre)
		return s
	})
}
