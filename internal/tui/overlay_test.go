package tui

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"andamio/internal/tui/part"
	"andamio/internal/tui/tuitest"
	"andamio/internal/tui/view"
)

// typed gives an overlay keys and returns what is left of it and the last command.
func typed(o overlay, keys ...string) (overlay, tea.Cmd) {
	var cmd tea.Cmd
	for _, k := range keys {
		if o == nil {
			break
		}
		o, cmd = o.hear(tuitest.Key(k))
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

func act(name, confirm string) view.Action {
	return view.Action{Name: name, Effect: "does " + name, Type: confirm, Do: func() tea.Cmd { return view.Cmd("done") }}
}

func TestAMenuOffersActsByNumber(t *testing.T) {
	acts := []view.Action{act("look", ""), act("remove", "basin")}
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
	long, _ := typed(ask(act("remove", "basin")), strings.Split(strings.Repeat("x", 2*mostTyped), "")...)
	assert.LessOrEqual(t, len(long.(*question).field.Text()), mostTyped)
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

// searched is a view of which only Find is used.
type searched struct {
	view.View
	asked []string
}

func (f *searched) Find(text string) bool { f.asked = append(f.asked, text); return text != "da" }

func TestFindLooksAsItIsTyped(t *testing.T) {
	v := &searched{}
	q, _ := typed(newFind(v), "d", "a", "m", "backspace")
	assert.Equal(t, []string{"d", "da", "dam", "da"}, v.asked)
	assert.Contains(t, overlaid(q, 60, 5), "find da▏")
	assert.Contains(t, overlaid(q, 80, 5), "nothing here has that")
	q, _ = typed(q, "enter")
	assert.Nil(t, q)
}

func TestAPasteGoesIntoWhatIsAsked(t *testing.T) {
	var got string
	a := view.Action{Name: "rotate", Ask: "the new credential", Hide: true, Answer: func(text string) tea.Cmd { got = text; return nil }}
	o, _ := newPrompt(a).hear(tea.PasteMsg{Content: "tok-123"})
	assert.Contains(t, overlaid(o, 100, 20), "•••••••▏")
	left, _ := typed(o, "enter")
	assert.Nil(t, left)
	assert.Equal(t, "tok-123", got)
	for _, o := range []overlay{&note{}, &menu{acts: []view.Action{act("look", "")}}} {
		left, cmd := o.hear(tea.PasteMsg{Content: "1"})
		assert.Equal(t, o, left, "a paste is no key")
		assert.Nil(t, cmd)
	}
}
