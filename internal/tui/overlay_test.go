package tui

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// typed gives an overlay keys and returns what is left of it and the last command.
func typed(o overlay, keys ...string) (overlay, tea.Cmd) {
	var cmd tea.Cmd
	for _, k := range keys {
		if o == nil {
			break
		}
		text := ""
		if len([]rune(k)) == 1 {
			text = k
		}
		o, cmd = o.key(k, text)
	}
	return o, cmd
}

func overlaid(o overlay, w, h int) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, h)
	o.draw(c, part.Rect{X: 0, Y: 0, W: w, H: h})
	return ansi.Strip(c.String())
}

func did(t *testing.T, cmd tea.Cmd) bool {
	t.Helper()
	return cmd != nil && cmd() == any("done")
}

func act(name, confirm string) view.Act {
	return view.Act{Name: name, Effect: "does " + name, Type: confirm, Do: func() tea.Cmd { return view.Cmd("done") }}
}

func TestAMenuOffersActsByNumber(t *testing.T) {
	acts := []view.Act{act("look", ""), act("remove", "basin")}
	left, cmd := typed(&menu{acts: acts}, "1")
	assert.Nil(t, left)
	assert.True(t, did(t, cmd))
	left, cmd = typed(&menu{acts: acts}, "down", "up", "enter")
	assert.Nil(t, left)
	assert.True(t, did(t, cmd))
	left, _ = typed(&menu{acts: acts}, "down", "down", "enter")
	assert.IsType(t, &question{}, left, "what must be typed is asked for")
	left, cmd = typed(&menu{acts: acts}, "9")
	assert.Nil(t, left, "another key goes back")
	assert.Nil(t, cmd)
	assert.Contains(t, overlaid(&menu{acts: acts}, 100, 20), "does remove")
}

func TestAQuestionTakesOnlyTheName(t *testing.T) {
	q, cmd := typed(ask(act("remove", "basin")), "b", "a", "s", "enter")
	assert.NotNil(t, q, "a part of the name does nothing")
	assert.Nil(t, cmd)
	assert.Contains(t, overlaid(q, 100, 20), "bas▏")
	q, cmd = typed(q, "x", "backspace", "i", "n", "enter")
	assert.Nil(t, q)
	assert.True(t, did(t, cmd))
	q, cmd = typed(ask(act("remove", "basin")), "esc")
	assert.Nil(t, q)
	assert.Nil(t, cmd)
	q, cmd = typed(ask(act("look", "")), "enter")
	assert.Nil(t, q)
	assert.True(t, did(t, cmd), "from which nothing is lost, enter is enough")
	long, _ := typed(ask(act("remove", "basin")), strings.Split(strings.Repeat("x", 200), "")...)
	assert.LessOrEqual(t, len(long.(*question).typed), mostTyped)
	empty, _ := typed(ask(act("remove", "basin")), "backspace")
	assert.NotNil(t, empty)
}

func TestANoteScrolls(t *testing.T) {
	var lines []view.Line
	for range 60 {
		lines = append(lines, view.Say("a line of the note"))
	}
	lines = append(lines, view.Say("the last line"))
	n := &note{Note: view.Note{Title: "why", Lines: lines}}
	assert.Contains(t, overlaid(n, 80, 20), "↓ more")
	assert.NotContains(t, overlaid(n, 80, 20), "the last line")
	for range 100 {
		typed(n, "down")
	}
	assert.Contains(t, overlaid(n, 80, 20), "the last line")
	typed(n, "up", "k")
	left, _ := typed(n, "x")
	assert.Nil(t, left)
	assert.NotPanics(t, func() { overlaid(n, 12, 5) })
}

// finder is a view of which only Find is used.
type finder struct {
	view.View
	asked []string
}

func (f *finder) Find(text string) bool { f.asked = append(f.asked, text); return true }

func TestFindLooksAsItIsTyped(t *testing.T) {
	v := &finder{}
	q, _ := typed(&find{in: v}, "d", "a", "m", "backspace")
	assert.Equal(t, []string{"d", "da", "dam", "da"}, v.asked)
	assert.Contains(t, overlaid(q, 60, 5), "find da▏")
	q, _ = typed(q, "enter")
	assert.Nil(t, q)
}
