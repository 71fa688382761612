package design

import (
	"fmt"
	"strings"
	"time"

	"andamio/internal/core/printable"
	"andamio/internal/core/tosca"
	"andamio/internal/tui/part"
)

// wideFrom is the width from which source and elevation stand side by side.
const wideFrom = 110

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, _ time.Time) {
	v.spots = v.spots[:0]
	v.areas = [panes]part.Rect{}
	if v.template == nil {
		v.drawEmpty(c, r)
		return
	}
	v.drawTitle(c, r)
	body := part.Rect{X: r.X, Y: r.Y + 1, W: r.W, H: r.H - 1}
	if r.W < wideFrom {
		v.drawNarrow(c, body)
		return
	}
	left := part.Rect{X: body.X, Y: body.Y, W: body.W * 41 / 100, H: body.H}
	right := part.Rect{X: left.X + left.W + 2, Y: body.Y, W: body.W - left.W - 2, H: body.H}
	c.Downward(left.X+left.W, body.Y, body.H, part.In(part.Dim), c.Look.Glyphs.Down)
	rows := min(len(v.inputRows())+2, body.H/2)
	v.drawSource(c, part.Rect{X: left.X, Y: left.Y + 1, W: left.W - 1, H: left.H - rows - 2})
	v.drawInputs(c, part.Rect{X: left.X, Y: left.Y + left.H - rows, W: left.W - 1, H: rows})
	v.drawPicture(c, right)
}

// drawNarrow shows one pane at a time, with the names of all three.
func (v *View) drawNarrow(c *part.Canvas, r part.Rect) {
	x := r.X + 1
	for p, name := range []string{v.leftName(), "inputs", "elevation"} {
		style := part.In(part.Dim)
		if pane(p) == v.focus {
			style = part.In(part.Ochre).Strong()
		}
		x = c.Text(x, r.Y, style, name) + 3
	}
	r.Y, r.H = r.Y+1, r.H-1
	switch v.focus {
	case paneSource:
		v.drawSource(c, r)
	case paneInputs:
		v.drawInputs(c, r)
	default:
		v.drawPicture(c, r)
	}
}

// leftName is what the left pane shows.
func (v *View) leftName() string {
	if v.outline {
		return "outline"
	}
	return "source"
}

func (v *View) drawEmpty(c *part.Canvas, r part.Rect) {
	text := "reading the template"
	switch {
	case v.problem != "":
		text = v.problem
	case v.open == nil:
		text = "no template is open; leave with q and name one: andamio --template FOLDER"
	}
	for i, l := range part.Wrap(text, r.W-6) {
		c.Text(r.X+2, r.Y+2+i, part.In(part.Text), l)
	}
}

// drawTitle says in one line whether the template is right, and what it comes to.
func (v *View) drawTitle(c *part.Canvas, r part.Rect) {
	x := c.Cut(r.X+1, r.Y, 30, part.In(part.Text).Strong(), v.template.Name) + 2
	if v.name != "" {
		x = c.Cut(x, r.Y, 30, part.In(part.Ochre), "as "+v.name) + 2
	}
	if d := v.draft; d != nil && d.Deployment != 0 {
		x = c.Text(x, r.Y, part.In(part.Ochre), "changes what stands") + 2
	}
	preset := v.presetName()
	if preset == "" {
		preset = "own defaults"
	}
	if len(v.changed) > 0 {
		preset += fmt.Sprintf(", %d changed", len(v.changed))
	}
	x = c.Cut(x, r.Y, 44, part.In(part.Dim), v.fileNote()+" · "+preset) + 3
	if v.draft == nil {
		c.Text(x, r.Y, part.In(part.Dim), "working it out")
		return
	}
	wrong, doubts := v.draft.Diagnostics.Errors(), len(v.draft.Diagnostics)-v.draft.Diagnostics.Errors()
	switch {
	case wrong > 0:
		x = c.Text(x, r.Y, part.In(part.Coral), printable.Count(wrong, "mistake"))
	default:
		x = c.Text(x, r.Y, part.In(part.Teal), "no mistakes")
	}
	if doubts > 0 {
		x = c.Text(x+2, r.Y, part.In(part.Ochre), printable.Count(doubts, "doubt"))
	}
	if d := v.draft.Design; d != nil && len(d.Substituted) > 0 {
		x = c.Text(x+2, r.Y, part.In(part.Text), printable.Count(len(d.Substituted), "substituted node"))
	}
	if p := v.draft.Plan; p != nil {
		c.Cut(x+3, r.Y, r.X+r.W-x-3, part.In(part.Text), fmt.Sprintf("%s · %s · %s · about %s · %.3f %s/h", printable.Count(len(p.Resources), "resource"), printable.Count(p.Levels, "level"),
			printable.Count(len(p.Sites), "site"), part.Clock(time.Duration(p.Seconds*1e9)), p.CostPerHour, p.Currency))
	}
}

// fileNote names the file shown, and the revision it is of.
func (v *View) fileNote() string {
	if v.template.Revision != "" {
		return v.file + " · rev " + v.template.Revision[:8]
	}
	return v.file
}

// row is a row of the source pane: a line, or a piece of what is said about the line above.
type row struct {
	line  int
	text  string
	about *tosca.Diagnostic
	// note marks a row that says where to read on.
	note bool
}

// elsewhere names the other place that a diagnostic involves, and how to read more of its code.
func (v *View) elsewhere(d *tosca.Diagnostic) string {
	text := "andamio explain " + string(d.Code)
	switch {
	case d.Related == nil:
	case d.Related.File == v.file:
		text = fmt.Sprintf("see line %d · %s", d.Related.Line, text)
	default:
		text = fmt.Sprintf("see %s line %d · %s", d.Related.File, d.Related.Line, text)
	}
	return text
}

// rows are the lines from the first on, with diagnostics below theirs, at most n.
func (v *View) rows(lines []string, first, n, width int) []row {
	var out []row
	for i := first; i < len(lines) && len(out) < n; i++ {
		out = append(out, row{line: i, text: lines[i]})
		if v.draft == nil {
			continue
		}
		for k := range v.draft.Diagnostics {
			d := &v.draft.Diagnostics[k]
			if d.File != v.file || d.Line != i+1 {
				continue
			}
			at := min(d.Col-1, width-1)
			out = append(out, row{line: i, text: strings.Repeat(" ", at) + strings.Repeat("^", max(min(d.Width, width-at), 1)), about: d})
			indent := strings.Repeat(" ", min(at, width/2))
			text := d.Message
			if d.Hint != "" {
				text += "; " + d.Hint
			}
			for _, piece := range part.Wrap(text, width-len(indent)) {
				out = append(out, row{line: i, text: indent + piece, about: d})
			}
			out = append(out, row{line: i, text: indent + v.elsewhere(d), about: d, note: true})
		}
	}
	return out[:min(len(out), n)]
}

func (v *View) drawSource(c *part.Canvas, r part.Rect) {
	if v.outline {
		v.drawOutline(c, r)
		return
	}
	v.areas[paneSource] = r
	c = c.Clip(r)
	lines := v.lines()
	v.line = min(v.line, len(lines)-1)
	v.scroll = min(v.scroll, v.line)
	gutter := 6
	rows := v.rows(lines, v.scroll, r.H, r.W-gutter)
	for v.line > v.scroll && (len(rows) == 0 || rows[len(rows)-1].line < min(v.line+2, len(lines)-1)) {
		v.scroll++
		rows = v.rows(lines, v.scroll, r.H, r.W-gutter)
	}
	for i, row := range rows {
		y := r.Y + i
		v.spots = append(v.spots, rowSpot{y, row.line, paneSource})
		if row.about != nil {
			ink := part.Coral
			if row.about.Severity == tosca.Doubt {
				ink = part.Ochre
			}
			if row.note {
				ink = part.Dim
			}
			c.Text(r.X+gutter, y, part.In(ink), row.text)
			continue
		}
		if row.line == v.line {
			bg := part.Panel
			if v.focus == paneSource {
				bg = part.OnSelected
				c.Rune(r.X, y, part.In(part.Ochre).Strong(), c.Look.Glyphs.PickLeft)
			}
			c.Fill(part.Rect{X: r.X + 1, Y: y, W: r.W - 1, H: 1}, bg)
		}
		c.Right(r.X+gutter-1, y, part.In(part.Dim), fmt.Sprint(row.line+1))
		drawYAML(c, r.X+gutter, y, row.text)
	}
}

// drawYAML draws a line of YAML: keys quiet, values plain, comments dim, functions in the colour of what is ours.
func drawYAML(c *part.Canvas, x, y int, line string) {
	line = strings.ReplaceAll(line, "\t", "  ")
	body, comment := line, ""
	if i := strings.Index(line, "#"); i == 0 || i > 0 && line[i-1] == ' ' {
		body, comment = line[:i], line[i:]
	}
	for body != "" {
		end := strings.IndexAny(body, ":{}[],")
		if end < 0 {
			end = len(body) - 1
		}
		word, sep := body[:end], body[end]
		style := part.In(part.Text)
		if sep == ':' && (end+1 == len(body) || body[end+1] == ' ') {
			style = part.In(part.Steel)
			if strings.Contains(word, "get_") || strings.Contains(word, "concat") {
				style = part.In(part.Sky)
			}
		}
		x = c.Text(x, y, style, word)
		if strings.ContainsRune(":{}[],", rune(sep)) {
			style = part.In(part.Dim)
		}
		x = c.Text(x, y, style, string(sep))
		body = body[end+1:]
	}
	c.Text(x, y, part.In(part.Dim), comment)
}
