package design

import (
	"fmt"
	"maps"
	"strings"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/tosca"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// inputRow is a row of the inputs: a heading, an input, or how many more there are.
type inputRow struct {
	heading string
	input   *tosca.Input
	more    string
}

// sections are the two that inputs are split into, the application's first.
var sections = []string{"application", "infrastructure"}

// inputRows lists the inputs by section: those that must be given first, then those that the preset or the user gives,
// the rest, which have defaults, only when asked for, and last the secrets, which are not given here.
func (v *View) inputRows() []inputRow {
	var out []inputRow
	var hidden []string
	for _, section := range sections {
		var must, given, rest, secret []inputRow
		for _, in := range v.template.Inputs {
			known := in.Section
			if known != "infrastructure" {
				known = "application"
			}
			if known != section {
				continue
			}
			row := inputRow{input: in}
			switch {
			case in.Secret:
				secret = append(secret, row) // given to the run, not here
			case in.Required && in.Default == nil:
				must = append(must, row)
			case v.inputs()[in.Name] != nil:
				given = append(given, row)
			default:
				rest = append(rest, row)
			}
		}
		shown := append(must, given...)
		if v.more || len(v.template.Inputs) <= fewInputs {
			shown = append(shown, rest...)
		} else if len(rest) > 0 {
			hidden = append(hidden, fmt.Sprintf("%d %s", len(rest), section))
		}
		shown = append(shown, secret...)
		if len(shown) > 0 {
			out = append(append(out, inputRow{heading: section}), shown...)
		}
	}
	if len(hidden) > 0 {
		out = append(out, inputRow{more: "m  more, with defaults: " + strings.Join(hidden, ", ")})
	} else if v.more && len(v.template.Inputs) > fewInputs {
		out = append(out, inputRow{more: "m hides those with defaults"})
	}
	return out
}

// fewInputs is up to how many inputs all are shown.
const fewInputs = 4

// inputs are the values given: the preset's, and over them what was changed by hand.
func (v *View) inputs() tosca.Inputs {
	out := tosca.Inputs{}
	if v.preset > 0 && v.preset <= len(v.template.Presets) {
		maps.Copy(out, v.template.Presets[v.preset-1].Inputs)
	}
	maps.Copy(out, v.changed)
	return out
}

// selected is the input of the selected row, nil on another.
func (v *View) selected() *tosca.Input {
	rows := v.inputRows()
	if v.input < 0 || v.input >= len(rows) {
		return nil
	}
	return rows[v.input].input
}

// moveInput moves over inputs, past headings.
func (v *View) moveInput(dy int) {
	rows := v.inputRows()
	at := v.input
	step := 1
	if dy < 0 {
		step = -1
	}
	at = min(max(at+dy, 0), len(rows)-1)
	for at >= 0 && at < len(rows) && rows[at].input == nil {
		at += step
	}
	if at < 0 || at >= len(rows) { // nothing that way: the nearest the other way
		for at = min(max(v.input+dy, 0), len(rows)-1); at >= 0 && at < len(rows) && rows[at].input == nil; at -= step {
		}
	}
	if at >= 0 && at < len(rows) {
		v.input = at
	}
}

// beginEdit begins to edit the selected input. Secret inputs are never shown nor typed here.
func (v *View) beginEdit() {
	in := v.selected()
	if in == nil || in.Secret {
		return
	}
	v.edit = view.NewField(v.inputText(in), mostTyped)
}

// mostTyped is how long the text of an input may get.
const mostTyped = 4000

// inputText is the value of an input as it is written: changed by hand, from the preset, or the default.
func (v *View) inputText(in *tosca.Input) string {
	value := v.inputs()[in.Name]
	if value == nil {
		value = in.Default
	}
	if value == nil {
		return ""
	}
	if value.Kind != tosca.Literal {
		return value.Source()
	}
	return tosca.Show(value.Plain())
}

// valueOf reads what is typed for an input.
func valueOf(in *tosca.Input, text string) *tosca.Value {
	if in.Type == "string" {
		return tosca.LiteralOf(text, tosca.Pos{File: "input " + in.Name, Line: 1, Col: 1})
	}
	value, _ := tosca.ParseInput(in.Name, text)
	return value
}

// change sets an input and works everything out anew. An emptied input is that of the preset or template again.
func (v *View) change(in *tosca.Input, text string) tea.Cmd {
	changed := maps.Clone(v.changed)
	if changed == nil {
		changed = tosca.Inputs{}
	}
	if text == "" {
		delete(changed, in.Name)
	} else if value := valueOf(in, text); value != nil {
		changed[in.Name] = value
	}
	v.changed = changed
	for i, row := range v.inputRows() {
		if row.input == in {
			v.input = i
		}
	}
	return v.redraft()
}

// rule says in a few words what an input may be.
func rule(in *tosca.Input) string {
	words := []string{strings.TrimPrefix(in.Type, "scalar-unit.")}
	for _, c := range in.Constraints {
		words = append(words, c.String())
	}
	return strings.Join(words, " ")
}

// wrong is what is the matter with an input, "" if nothing is: of what is being typed, or of the value it has.
func (v *View) wrong(in *tosca.Input) string {
	value := v.inputs()[in.Name]
	if v.edit != nil && v.selected() == in {
		if v.edit.Text() == "" {
			return ""
		}
		if value = valueOf(in, v.edit.Text()); value == nil {
			return "this cannot be read"
		}
	}
	if value == nil && in.Required && in.Default == nil && !in.Secret {
		return "needs a value"
	}
	diags := v.template.CheckInput(in, value)
	if len(diags) == 0 {
		return ""
	}
	d := diags[0]
	text := strings.TrimPrefix(strings.TrimPrefix(d.Message, in.Name), ":")
	if d.Hint != "" {
		text += "; " + d.Hint
	}
	return strings.TrimSpace(text)
}

func (v *View) drawInputs(c *part.Canvas, r part.Rect) {
	v.areas[paneInputs] = r
	c = c.Clip(r)
	c.Across(r.X+1, r.Y, r.W-1, part.In(part.Dim), c.Look.Glyphs.Thin)
	style := part.In(part.Steel).Strong()
	if v.focus == paneInputs {
		style = part.In(part.Ochre).Strong()
	}
	x := c.Text(r.X+2, r.Y, style, " inputs ")
	c.Text(x, r.Y, part.In(part.Dim), v.presetNote())
	rows := v.inputRows()
	if len(rows) > 0 && (v.input >= len(rows) || rows[v.input].input == nil) {
		v.moveInput(0)
	}
	first := max(0, v.input-(r.H-3))
	for i := first; i < len(rows) && i-first < r.H-1; i++ {
		y := r.Y + 1 + i - first
		switch row := rows[i]; {
		case row.heading != "":
			c.Text(r.X+2, y, part.In(part.Steel).Strong(), row.heading)
		case row.more != "":
			c.Cut(r.X+2, y, r.W-3, part.In(part.Dim), row.more)
		default:
			v.spots = append(v.spots, rowSpot{y, i, paneInputs})
			v.drawInput(c, part.Rect{X: r.X, Y: y, W: r.W, H: 1}, row.input, v.focus == paneInputs && i == v.input)
		}
	}
	if in := v.selected(); in != nil && v.focus == paneInputs {
		if wrong := v.wrong(in); wrong != "" { // beside the input there is seldom room for all of it
			c.Fill(part.Rect{X: r.X + 1, Y: r.Y + r.H - 1, W: r.W - 1, H: 1}, part.Panel)
			c.Cut(r.X+2, r.Y+r.H-1, r.W-3, part.In(part.Coral).On(part.Panel), c.Look.Mark("failed")+" "+in.Name+" "+wrong)
		}
	}
}

// presetNote says which preset is loaded and how much was changed since.
func (v *View) presetNote() string {
	note := "the template's own defaults "
	if name := v.presetName(); name != "" {
		note = "preset " + name + " "
	}
	if n := len(v.changed); n > 0 {
		note += fmt.Sprintf("· %d changed ", n)
	}
	return note
}

func (v *View) drawInput(c *part.Canvas, r part.Rect, in *tosca.Input, selected bool) {
	name, value := min(20, r.W/3), min(24, r.W/3)
	bg := part.Panel
	if selected {
		bg = part.OnSelected
		c.Rune(r.X, r.Y, part.In(part.Ochre).Strong(), c.Look.Glyphs.PickLeft)
	}
	ink := part.In(part.Text)
	if in.Required && in.Default == nil && !in.Secret {
		ink = ink.Strong()
	}
	c.Cut(r.X+3, r.Y, name-1, ink, in.Name)
	c.Fill(part.Rect{X: r.X + 3 + name, Y: r.Y, W: value, H: 1}, bg)
	if selected && v.edit != nil {
		v.edit.Draw(c, r.X+3+name, r.Y, value)
	} else {
		c.Cut(r.X+4+name, r.Y, value-2, v.valueStyle(in), v.shown(in))
	}
	said, said2 := rule(in), part.Dim
	if wrong := v.wrong(in); wrong != "" {
		said, said2 = c.Look.Mark("failed")+" "+wrong, part.Coral
	}
	c.Cut(r.X+4+name+value, r.Y, r.W-name-value-5, part.In(said2), said)
}

func (v *View) valueStyle(in *tosca.Input) part.Style {
	switch {
	case v.changed[in.Name] != nil:
		return part.In(part.Ochre)
	case in.Secret, v.inputs()[in.Name] == nil:
		return part.In(part.Dim)
	}
	return part.In(part.Text)
}

func (v *View) shown(in *tosca.Input) string {
	if in.Secret {
		return "secret, given to the run"
	}
	return v.inputText(in)
}
