package view

import (
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"andamio/internal/tui/part"
)

// Field is a line of text that is typed and pasted into. What was typed can be taken back, a word at a time.
type Field struct {
	input textinput.Model
	past  []string
	last  edit
}

// edit is what sort of change was made last: changes of one sort are taken back together.
type edit int

const (
	nothing edit = iota
	typing
	deleting
	pasting
)

// mostPast is how many changes can be taken back.
const mostPast = 100

// NewField makes a field with a text in it and the cursor behind it; it takes at most so many characters.
func NewField(text string, most int) *Field {
	in := textinput.New()
	in.CharLimit = most
	// Nothing is asked of programs beside us, and no blinking: what the terminal pastes is enough, and the frame draws.
	in.KeyMap.Paste.SetEnabled(false)
	in.KeyMap.CharacterForward.SetKeys("right")
	in.SetValue(text)
	in.CursorEnd()
	in.Focus()
	return &Field{input: in}
}

// Text is what is in it.
func (f *Field) Text() string { return f.input.Value() }

// Update takes a key or a paste.
func (f *Field) Update(msg tea.Msg) {
	before := f.Text()
	if k, ok := msg.(tea.KeyPressMsg); ok && key.Matches(k, undo) {
		f.undo()
		return
	}
	f.input, _ = f.input.Update(msg)
	if after := f.Text(); after != before {
		f.remember(before, after, msg)
	}
}

var undo = key.NewBinding(key.WithKeys("ctrl+z"))

// remember keeps what was there before a change that begins something new: another word, deleting, a paste.
func (f *Field) remember(before, after string, msg tea.Msg) {
	now := typing
	switch _, pasted := msg.(tea.PasteMsg); {
	case pasted:
		now = pasting
	case len(after) < len(before):
		now = deleting
	}
	if now != f.last || now == pasting || now == typing && strings.HasSuffix(before, " ") && !strings.HasSuffix(after, " ") {
		f.past = append(f.past, before)
		f.past = f.past[max(len(f.past)-mostPast, 0):]
	}
	f.last = now
}

func (f *Field) undo() {
	if n := len(f.past); n > 0 {
		f.input.SetValue(f.past[n-1])
		f.input.CursorEnd()
		f.past, f.last = f.past[:n-1], nothing
	}
}

// Hide shows a dot in place of each character.
func (f *Field) Hide() { f.input.EchoMode = textinput.EchoPassword }

// Show is the text as it may be seen, with the cursor in it.
func (f *Field) Show() string {
	r := []rune(f.Text())
	if f.input.EchoMode == textinput.EchoPassword {
		r = []rune(strings.Repeat("•", len(r)))
	}
	at := min(f.input.Position(), len(r))
	return string(r[:at]) + "▏" + string(r[at:])
}

// Draw draws the line: as much of the text as fits in w columns, with the cursor in sight.
func (f *Field) Draw(c *part.Canvas, x, y, w int) {
	c.Fill(part.Rect{X: x, Y: y, W: w, H: 1}, part.OnSelected)
	shown := []rune(f.Show())
	at := f.input.Position()
	for at > 0 && part.Width(string(shown[:min(at+2, len(shown))])) > w-2 { // what is before the cursor makes way for it
		shown, at = shown[1:], at-1
	}
	c.Cut(x+1, y, w-1, part.In(part.Text), string(shown))
}

// FieldKeys are the keys of every field, after those that say what becomes of the text.
func FieldKeys(first ...Key) []Key {
	return append(first,
		On("left right home end", "←→", "move", "moves the cursor; home and end go to the ends, and what the terminal pastes is put in where it is", nil),
		On("ctrl+left ctrl+right", "ctrl ←→", "by word", "moves the cursor over a word", nil),
		On("ctrl+w", "ctrl+w", "delete a word", "deletes the word before the cursor; ctrl+u all before it, ctrl+k all after it", nil),
		On("ctrl+z", "ctrl+z", "take back", "takes back what was typed, deleted or pasted last, a word at a time", nil))
}
