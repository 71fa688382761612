package view

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"andamio/internal/tui/part"
	"andamio/internal/tui/tuitest"
)

// after is a field after keys; what begins with "paste:" is pasted, what is no name of a key is typed.
func after(f *Field, keys ...string) *Field {
	for _, k := range keys {
		if text, pasted := strings.CutPrefix(k, "paste:"); pasted {
			f.Update(tea.PasteMsg{Content: text})
			continue
		}
		if text, typed := strings.CutPrefix(k, "type:"); typed {
			for _, msg := range tuitest.Typed(text) {
				f.Update(msg)
			}
			continue
		}
		f.Update(tuitest.Key(k))
	}
	return f
}

func TestAFieldIsEditedAsAnyOther(t *testing.T) {
	for _, c := range []struct {
		begin string
		keys  []string
		shown string
	}{
		{"", []string{"type:dam 1"}, "dam 1▏"},
		{"16 GiB", nil, "16 GiB▏"},
		{"dam", []string{"left", "left", "type:r"}, "dr▏am"},
		{"dam", []string{"home", "delete"}, "▏am"},
		{"dam", []string{"home", "right", "backspace"}, "▏am"},
		{"dam", []string{"home", "end"}, "dam▏"},
		{"a long text", []string{"ctrl+left"}, "a long ▏text"},
		{"a long text", []string{"ctrl+left", "ctrl+left", "ctrl+right"}, "a long▏ text"},
		{"a long text", []string{"ctrl+w"}, "a long ▏"},
		{"a long text", []string{"ctrl+u"}, "▏"},
		{"a long text", []string{"home", "ctrl+k"}, "▏"},
		{"ab", []string{"left", "paste:XYZ"}, "aXYZ▏b"},
		{"", []string{"paste:two\nlines\tand\x1b[31m more"}, "two lines and[31m more▏"},
		{"dam", []string{"ctrl+f"}, "dam▏"},
		{"dam", []string{"up", "down", "enter"}, "dam▏"},
	} {
		shown := after(NewField(c.begin, 100), c.keys...).Show()
		assert.Equal(t, c.shown, strings.Join(strings.Fields(shown), " ")+strings.Repeat(" ", len(shown)-len(strings.TrimRight(shown, " "))), "%q %v", c.begin, c.keys)
	}
}

func TestWhatWasTypedIsTakenBackAWordAtATime(t *testing.T) {
	f := after(NewField("", 100), "type:one two")
	assert.Equal(t, "one ", after(f, "ctrl+z").Text())
	assert.Equal(t, "", after(f, "ctrl+z").Text())
	assert.Equal(t, "", after(f, "ctrl+z").Text(), "there is nothing more")
	f = after(NewField("kept", 100), "ctrl+u", "paste:new", "type:er")
	assert.Equal(t, "newer", f.Text())
	assert.Equal(t, "new", after(f, "ctrl+z").Text())
	assert.Equal(t, "", after(f, "ctrl+z").Text())
	assert.Equal(t, "kept", after(f, "ctrl+z").Text(), "what was deleted comes back")
}

// However much is typed, pasted and deleted, taking back leads to what was there at first, and the text never gets too long.
func TestTakingBackLeadsToTheBeginning(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		begin := rapid.StringMatching(`[a-c ]{0,8}`).Draw(t, "begin")
		f := NewField(begin, 20)
		keys := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "space", "backspace", "ctrl+w", "left", "right", "home", "paste:xy z", "ctrl+u", "delete"}), 0, 30).Draw(t, "keys")
		after(f, keys...)
		assert.LessOrEqual(t, len([]rune(f.Text())), 20)
		for range keys {
			after(f, "ctrl+z")
		}
		assert.Equal(t, begin, f.Text())
	})
}

func TestAFieldShowsWhereTheCursorIs(t *testing.T) {
	draw := func(f *Field, w int) string {
		c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), 40, 1)
		f.Draw(c, 0, 0, w)
		return strings.TrimSpace(ansi.Strip(c.String()))
	}
	f := NewField("0123456789abcdef", 100)
	assert.Equal(t, "9abcdef▏", draw(f, 10), "the end, where the cursor is")
	assert.Contains(t, draw(after(f, "home"), 10), "▏0123")
	assert.Contains(t, draw(after(f, "end", "left", "left"), 10), "d▏e")
	secret := NewField("0123", 100)
	secret.Hide()
	assert.Equal(t, "••▏••", draw(after(secret, "left", "left"), 10))
	assert.NotContains(t, secret.Show(), "1")
}
