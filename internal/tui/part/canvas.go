package part

import (
	"strings"
	"unicode"

	"github.com/charmbracelet/x/ansi"

	"andamio/internal/core/printable"
)

// Canvas is a grid of cells that is drawn on from anywhere and shown as one string. What falls outside is cut off.
type Canvas struct {
	Look *Look
	W, H int
	// clip is the part that may be drawn on.
	clip  Rect
	cells []cell
}

type cell struct {
	text  string
	style Style
	// shadow marks the second column of a wide character.
	shadow bool
}

// Rect is a part of a canvas.
type Rect struct{ X, Y, W, H int }

// Inside reports whether a cell lies in the rectangle.
func (r Rect) Inside(x, y int) bool { return x >= r.X && x < r.X+r.W && y >= r.Y && y < r.Y+r.H }

// NewCanvas makes an empty canvas.
func NewCanvas(l *Look, w, h int) *Canvas {
	w, h = max(w, 0), max(h, 0)
	return &Canvas{Look: l, W: w, H: h, clip: Rect{0, 0, w, h}, cells: make([]cell, w*h)}
}

// Clip is the same canvas, of which only a part may be drawn on.
func (c *Canvas) Clip(r Rect) *Canvas {
	sub := *c
	x0, y0 := max(r.X, c.clip.X), max(r.Y, c.clip.Y)
	x1, y1 := min(r.X+r.W, c.clip.X+c.clip.W), min(r.Y+r.H, c.clip.Y+c.clip.H)
	sub.clip = Rect{x0, y0, max(x1-x0, 0), max(y1-y0, 0)}
	return &sub
}

// Rune draws one character.
func (c *Canvas) Rune(x, y int, s Style, r rune) {
	if c.clip.Inside(x, y) {
		c.tear(x, y)
		c.cells[y*c.W+x] = cell{text: string(r), style: s}
	}
}

// Text draws text from outside or inside, made printable, and returns the column after it.
func (c *Canvas) Text(x, y int, s Style, text string) int {
	for _, r := range printable.Clean(text) {
		w := 1
		if r > 0x2ff {
			w = ansi.StringWidth(string(r))
		}
		switch {
		case w == 0:
			c.combine(x-1, y, r)
		case w == 1:
			c.keepGround(x, y, s, string(r))
		default:
			c.keepGround(x, y, s, string(r))
			if c.clip.Inside(x+1, y) {
				c.tear(x+1, y)
				c.cells[y*c.W+x+1] = cell{style: s, shadow: true}
			} else if c.clip.Inside(x, y) {
				c.cells[y*c.W+x].text = " " // half a wide character cannot be shown
			}
		}
		x += w
	}
	return x
}

// combine adds a mark to the character before it.
func (c *Canvas) combine(x, y int, r rune) {
	if c.clip.Inside(x, y) && c.cells[y*c.W+x].text != "" && unicode.Is(unicode.M, r) && len(c.cells[y*c.W+x].text) < 16 {
		c.cells[y*c.W+x].text += string(r)
	}
}

// keepGround draws a character; a style without a background keeps the one that is there.
func (c *Canvas) keepGround(x, y int, s Style, text string) {
	if !c.clip.Inside(x, y) {
		return
	}
	at := &c.cells[y*c.W+x]
	if s.Bg == None {
		s.Bg = at.style.Bg
	}
	c.tear(x, y)
	*at = cell{text: text, style: s}
}

// tear blanks the other half of a wide character of which a half is drawn over.
func (c *Canvas) tear(x, y int) {
	i := y*c.W + x
	if c.cells[i].shadow && x > 0 {
		c.cells[i-1].text = " "
	}
	if x+1 < c.W && c.cells[i+1].shadow {
		c.cells[i+1] = cell{text: " ", style: c.cells[i+1].style}
	}
}

// Cut draws text in at most w columns, ending in "…" where it does not fit, and returns the column after it.
func (c *Canvas) Cut(x, y, w int, s Style, text string) int {
	return c.Text(x, y, s, Shorten(text, w))
}

// Whole draws text if all of it fits into w columns, and nothing else: half a number is a wrong one.
func (c *Canvas) Whole(x, y, w int, s Style, text string) int {
	if Width(text) > w {
		return x
	}
	return c.Text(x, y, s, text)
}

// Right draws text that ends before column x.
func (c *Canvas) Right(x, y int, s Style, text string) {
	c.Text(x-ansi.StringWidth(text), y, s, text)
}

// Shorten cuts text to w columns, ending in "…" where it does not fit.
func Shorten(text string, w int) string {
	if w <= 0 {
		return ""
	}
	text = printable.Clean(text)
	if ansi.StringWidth(text) <= w {
		return text
	}
	return ansi.Truncate(text, w, "…")
}

// Width is how many columns text takes.
func Width(text string) int { return ansi.StringWidth(text) }

// Fill sets the background of a part.
func (c *Canvas) Fill(r Rect, bg Ink) {
	for y := max(r.Y, c.clip.Y); y < min(r.Y+r.H, c.clip.Y+c.clip.H); y++ {
		first, end := max(r.X, c.clip.X), min(r.X+r.W, c.clip.X+c.clip.W)
		if first < end {
			c.tear(first, y)
			c.tear(end-1, y)
		}
		for x := first; x < end; x++ {
			c.cells[y*c.W+x] = cell{style: Style{Bg: bg}}
		}
	}
}

// Across draws a line of one character.
func (c *Canvas) Across(x, y, w int, s Style, r rune) {
	for i := max(x, c.clip.X); i < min(x+w, c.clip.X+c.clip.W); i++ {
		c.Rune(i, y, s, r)
	}
}

// Downward draws a column of one character.
func (c *Canvas) Downward(x, y, h int, s Style, r rune) {
	for i := max(y, c.clip.Y); i < min(y+h, c.clip.Y+c.clip.H); i++ {
		c.Rune(x, i, s, r)
	}
}

// Wrap breaks text into lines of at most w columns, between words where it can.
func Wrap(text string, w int) []string {
	if w < 1 {
		return nil
	}
	return strings.Split(ansi.Wrap(printable.Clean(text), w, " /"), "\n")
}

// String is the canvas as text with SGR sequences, one line a row.
func (c *Canvas) String() string {
	var out strings.Builder
	out.Grow(c.W * c.H * 3)
	for y := range c.H {
		if y > 0 {
			out.WriteByte('\n')
		}
		var last Style
		for x := range c.W {
			at := &c.cells[y*c.W+x]
			if at.shadow {
				continue
			}
			if at.style != last || x == 0 {
				out.WriteString(c.Look.escape(at.style))
				last = at.style
			}
			switch {
			case at.text == "":
				out.WriteByte(' ')
			case c.Look.ascii:
				out.WriteString(inASCII(at.text))
			default:
				out.WriteString(at.text)
			}
		}
		out.WriteString("\x1b[m")
	}
	return out.String()
}

// asciiFor are the ASCII characters drawn in place of ours.
var asciiFor = map[string]string{"…": "~", "·": "-", "×": "x", "↑": "^", "↓": "v", "←": "<", "→": ">", "▏": "|", "•": "*", "≥": ">", "≤": "<"}

// inASCII is a cell's text in ASCII: ours replaced, anything else as "?".
func inASCII(text string) string {
	if text[0] < 0x80 {
		return text[:1]
	}
	if a, ok := asciiFor[text]; ok {
		return a
	}
	return "?"
}
