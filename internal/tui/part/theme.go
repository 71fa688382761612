// Package part has the pieces that screens share: the cell canvas, the theme, and pictures drawn in cells.
package part

import (
	"image/color"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
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
	// ascii says that only ASCII characters may be drawn.
	ascii bool
	// paper is the background of everything: what the terminal's own is cannot be relied on to be found out.
	paper color.Color
	sgr   map[Style]string
}

// Glyphs are the characters that differ between full and ASCII drawing.
type Glyphs struct {
	status                                    map[run.Status]string
	Post, Beam, Cross, Left, Right, Ground    rune
	PickLeft, PickRight                       rune
	Under, Over                               rune
	Bar, Forecast, Now, Thin, Down, Rule, Dot rune
}

// shade is a colour for terminals with all colours, with 256, and with 16. In 16 colours planks have no ground of their
// own: their glyph and word say their state.
type shade struct {
	full     string
	indexed  uint8
	standard int
}

// noGround marks a background that 16 colours cannot show without hiding the text.
const noGround = -1

var dark = map[Ink]shade{
	Text: {"#e6edf3", 255, 15}, Dim: {"#66737f", 243, 7}, Steel: {"#7d8b99", 246, 7}, Ochre: {"#d9a441", 179, 11},
	Sky: {"#5aa9e6", 74, 12}, Teal: {"#3fb6a8", 73, 14}, Coral: {"#e5674f", 167, 9}, Violet: {"#9d7fe0", 140, 13},
	Ground: {"#7d8b99", 246, 7}, Panel: {"#1c242c", 235, noGround}, OnPlanned: {"#1b232b", 235, noGround},
	OnUnderWay: {"#15304b", 17, noGround}, OnDone: {"#225f96", 24, 4}, OnStanding: {"#12352f", 23, noGround},
	OnFailed: {"#4a1d18", 52, noGround}, OnHeld: {"#2c2148", 54, noGround}, OnSelected: {"#3b2f16", 237, 8},
}

var light = map[Ink]shade{
	Text: {"#1b2229", 234, 0}, Dim: {"#78838e", 244, 8}, Steel: {"#5b6874", 240, 8}, Ochre: {"#9a6700", 94, 3},
	Sky: {"#1668ae", 25, 4}, Teal: {"#0e766a", 30, 6}, Coral: {"#b83a22", 130, 1}, Violet: {"#6b45c0", 61, 5},
	Ground: {"#7d8b99", 245, 8}, Panel: {"#eceff2", 255, noGround}, OnPlanned: {"#e8ecef", 254, noGround},
	OnUnderWay: {"#dcebf8", 189, noGround}, OnDone: {"#a9d0f0", 153, 14}, OnStanding: {"#d3efe9", 194, noGround},
	OnFailed: {"#f8dcd5", 224, noGround}, OnHeld: {"#e7defa", 189, noGround}, OnSelected: {"#f6e6c2", 223, 7},
}

// The papers. With 16 colours the terminal's own background stays.
var (
	darkPaper  = shade{"#0f1417", 233, noGround}
	lightPaper = shade{"#fbfaf7", 231, noGround}
)

// NewLook makes the theme for a dark or light background, in full or ASCII characters, for a terminal's colours.
func NewLook(isLight, ascii bool, profile colorprofile.Profile) *Look {
	l := &Look{Glyphs: full, ascii: ascii, sgr: map[Style]string{}}
	if ascii {
		l.Glyphs = plain
	}
	from, paper := dark, darkPaper
	if isLight {
		from, paper = light, lightPaper
	}
	l.paper = paper.in(profile)
	for ink, s := range from {
		l.colors[ink] = s.in(profile)
	}
	return l
}

// in is the shade as a terminal can show it, nil where it should not.
func (s shade) in(profile colorprofile.Profile) color.Color {
	switch profile {
	case colorprofile.ANSI256:
		return ansi.IndexedColor(s.indexed)
	case colorprofile.ANSI:
		if s.standard == noGround {
			return nil
		}
		return ansi.BasicColor(s.standard)
	}
	return lipgloss.Color(s.full)
}

var full = Glyphs{
	status: map[run.Status]string{run.Planned: "▱", run.UnderWay: "◩", run.Standing: "■", run.Failed: "✕", run.Held: "‖", run.Stopped: "◪", run.Passed: "▫", run.Retired: "▁"},
	Post:   '┃', Beam: '━', Cross: '╋', Left: '┣', Right: '┫', Ground: '▀', PickLeft: '▐', PickRight: '▌', Under: '↧', Over: '↥',
	Bar: '█', Forecast: '░', Now: '│', Thin: '─', Down: '│', Rule: '━', Dot: '·',
}

var plain = Glyphs{
	status: map[run.Status]string{run.Planned: "o", run.UnderWay: ">", run.Standing: "#", run.Failed: "X", run.Held: "!", run.Stopped: "%", run.Passed: "-", run.Retired: "_"},
	Post:   '|', Beam: '-', Cross: '+', Left: '+', Right: '+', Ground: '=', PickLeft: '[', PickRight: ']', Under: 'v', Over: '^',
	Bar: '#', Forecast: '.', Now: '|', Thin: '-', Down: '|', Rule: '-', Dot: '.',
}

// Mark is a status's glyph.
func (l *Look) Mark(s run.Status) string { return l.Glyphs.status[s] }

// InkOf is a status's colour; GroundOf that of a plank with the status.
func InkOf(s run.Status) Ink {
	return map[run.Status]Ink{run.Planned: Steel, run.UnderWay: Sky, run.Standing: Teal, run.Failed: Coral, run.Held: Violet, run.Stopped: Coral, run.Passed: Dim, run.Retired: Dim}[s]
}

// GroundOf is the background of a plank with the status.
func GroundOf(s run.Status) Ink {
	return map[run.Status]Ink{run.Planned: OnPlanned, run.UnderWay: OnUnderWay, run.Standing: OnStanding, run.Failed: OnFailed,
		run.Held: OnHeld, run.Stopped: OnFailed, run.Passed: OnPlanned, run.Retired: OnPlanned}[s]
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
	} else if l.paper != nil {
		st = st.BackgroundColor(l.paper)
	}
	l.sgr[s] = st.String()
	return l.sgr[s]
}
