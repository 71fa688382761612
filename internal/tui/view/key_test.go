package view

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
)

func TestTheFirstKeyThatMeansSomethingIsDone(t *testing.T) {
	var did []string
	note := func(what string) func(string) tea.Cmd {
		return func(key string) tea.Cmd { did = append(did, what+" by "+key); return nil }
	}
	off := On("x", "x", "off", "is off", note("off"))
	off.SetEnabled(false)
	keys := []Key{off, On("x y", "x", "first", "is first", note("first")), On("x z", "x", "second", "is second", note("second")), On("t", "t", "text", "is the field's", nil)}
	for name, used := range map[string]bool{"x": true, "t": false, "q": false, "": false} {
		_, got := Press(keys, name)
		assert.Equal(t, used, got, name)
	}
	Press(keys, "z")
	assert.ElementsMatch(t, []string{"first by x", "second by z"}, did)
	assert.Equal(t, "first", keys[1].Help().Desc)
}

func TestKeysThatMove(t *testing.T) {
	for name, want := range map[string][2]int{"up": {0, -1}, "k": {0, -1}, "j": {0, 1}, "h": {-1, 0}, "right": {1, 0}, "pgup": {0, -10}, "pgdown": {0, 10}, "x": {0, 0}} {
		dx, dy := Way(name)
		assert.Equal(t, want, [2]int{dx, dy}, name)
	}
}

func TestLinesHang(t *testing.T) {
	for _, c := range []struct {
		line Line
		want []string
	}{
		{Say("short"), []string{"short"}},
		{Say("  one two three four five"), []string{"  one two three", "  four five"}},
		{Line{Text: "  k    what it does and what else it does", Hang: 7}, []string{"  k    what it does", "       and what", "       else it does"}},
		{Head("a heading"), []string{"a heading"}},
	} {
		assert.Equal(t, c.want, c.line.Wrap(19), c.line.Text)
	}
	assert.NotEmpty(t, Say("      deep and narrow text").Wrap(6), "where there is no room to hang it is only wrapped")
	assert.Nil(t, Listed("nothing", nil))
	assert.Len(t, Listed("some", []string{"a", "b"}), 4)
}
