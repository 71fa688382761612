// Package part has the pieces that screens share: the cell canvas, the theme, and pictures drawn in cells.
package part

import (
	"image/color"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"andamio/internal/core/run"
)

// Ink is a colour's role.
type Ink uint8

// The roles. The grounds are backgrounds of planks by status.
const (
	None Ink = iota
	Text
	Dim
	Steel
	Ochre
	Sky
	Teal
	Coral
	Violet
	Ground
	Panel
	OnPlanned
	OnUnderWay
	OnDone
	OnStanding
	OnFailed
	OnHeld
	OnSelected
	inks
)

// Look is a theme with the characters to draw with.
type Look struct {
	colors [inks]color.Color
	Glyphs Glyphs
	sgr    map[Style]string
}

// Glyphs are the characters that differ between full and ASCII drawing.
type Glyphs struct {
	status                                    map[run.Status]string
	Post, Beam, Cross, Left, Right, Ground    rune
	PickLeft, PickRight                       rune
	Under, Over                               rune
	Bar, Forecast, Now, Thin, Down, Rule, Dot rune
}

var dark = map[Ink]string{
	Text: "#e6edf3", Dim: "#66737f", Steel: "#7d8b99", Ochre: "#d9a441", Sky: "#5aa9e6", Teal: "#3fb6a8", Coral: "#e5674f",
	Violet: "#9d7fe0", Ground: "#7d8b99", Panel: "#1c242c", OnPlanned: "#1b232b", OnUnderWay: "#15304b", OnDone: "#225f96",
	OnStanding: "#12352f", OnFailed: "#4a1d18", OnHeld: "#2c2148", OnSelected: "#3b2f16",
}

var light = map[Ink]string{
	Text: "#1b2229", Dim: "#78838e", Steel: "#5b6874", Ochre: "#9a6700", Sky: "#1668ae", Teal: "#0e766a", Coral: "#b83a22",
	Violet: "#6b45c0", Ground: "#7d8b99", Panel: "#eceff2", OnPlanned: "#e8ecef", OnUnderWay: "#dcebf8", OnDone: "#a9d0f0",
	OnStanding: "#d3efe9", OnFailed: "#f8dcd5", OnHeld: "#e7defa", OnSelected: "#f6e6c2",
}

// NewLook makes the theme for a dark or light background, in full or ASCII characters.
func NewLook(isLight, ascii bool) *Look {
	l := &Look{Glyphs: full, sgr: map[Style]string{}}
	if ascii {
		l.Glyphs = plain
	}
	from := dark
	if isLight {
		from = light
	}
	for ink, hex := range from {
		l.colors[ink] = lipgloss.Color(hex)
	}
	return l
}

var full = Glyphs{
	status: map[run.Status]string{run.Planned: "▱", run.UnderWay: "◩", run.Standing: "■", run.Failed: "✕", run.Held: "‖", run.Stopped: "▁"},
	Post:   '┃', Beam: '━', Cross: '╋', Left: '┣', Right: '┫', Ground: '▀', PickLeft: '▐', PickRight: '▌', Under: '↧', Over: '↥',
	Bar: '█', Forecast: '░', Now: '│', Thin: '─', Down: '│', Rule: '━', Dot: '·',
}

var plain = Glyphs{
	status: map[run.Status]string{run.Planned: "o", run.UnderWay: ">", run.Standing: "#", run.Failed: "X", run.Held: "!", run.Stopped: "_"},
	Post:   '|', Beam: '-', Cross: '+', Left: '+', Right: '+', Ground: '=', PickLeft: '[', PickRight: ']', Under: 'v', Over: '^',
	Bar: '#', Forecast: '.', Now: '|', Thin: '-', Down: '|', Rule: '-', Dot: '.',
}

// Mark is a status's glyph.
func (l *Look) Mark(s run.Status) string { return l.Glyphs.status[s] }

// InkOf is a status's colour; GroundOf that of a plank with the status.
func InkOf(s run.Status) Ink {
	return map[run.Status]Ink{run.Planned: Steel, run.UnderWay: Sky, run.Standing: Teal, run.Failed: Coral, run.Held: Violet, run.Stopped: Coral}[s]
}

// GroundOf is the background of a plank with the status.
func GroundOf(s run.Status) Ink {
	return map[run.Status]Ink{run.Planned: OnPlanned, run.UnderWay: OnUnderWay, run.Standing: OnStanding, run.Failed: OnFailed,
		run.Held: OnHeld, run.Stopped: OnFailed}[s]
}

// Style is how a cell looks.
type Style struct {
	Fg, Bg    Ink
	Bold      bool
	Underline bool
}

// On is the style on a background.
func (s Style) On(bg Ink) Style { s.Bg = bg; return s }

// Strong is the style in bold.
func (s Style) Strong() Style { s.Bold = true; return s }

// In is a style with a colour.
func In(fg Ink) Style { return Style{Fg: fg} }

// escape is the SGR sequence of a style, from a plain state.
func (l *Look) escape(s Style) string {
	if text, ok := l.sgr[s]; ok {
		return text
	}
	st := ansi.NewStyle(ansi.AttrReset)
	if s.Bold {
		st = st.Bold()
	}
	if s.Underline {
		st = st.Underline(true)
	}
	if c := l.colors[s.Fg]; c != nil {
		st = st.ForegroundColor(c)
	}
	if c := l.colors[s.Bg]; c != nil {
		st = st.BackgroundColor(c)
	}
	l.sgr[s] = st.String()
	return l.sgr[s]
}
