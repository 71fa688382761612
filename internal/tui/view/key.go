package view

import (
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

// Key is what pressing a key means. It is declared once, in the Keys of a view or of what lies over it, and from there
// drawn in the bar, told in the list of all keys, and done.
type Key struct {
	// Binding has the keys, and how they are shown with a word for the bar.
	key.Binding
	// Says tells what it does in a sentence.
	Says string
	// Do does it; it is given which of the keys was pressed. It is nil where a text field takes the key itself.
	Do func(pressed string) tea.Cmd
}

// On makes a key: its names with spaces between, how they are shown, a word, a sentence, and what it does.
func On(names, shown, word, says string, do func(pressed string) tea.Cmd) Key {
	return Key{key.NewBinding(key.WithKeys(strings.Fields(names)...), key.WithHelp(shown, word)), says, do}
}

// Then makes what a key does of something that needs no command, Run of something that gives one.
func Then(do func()) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		do()
		return nil
	}
}
func Run(do func() tea.Cmd) func(string) tea.Cmd { return func(string) tea.Cmd { return do() } }

// pressed is the name of a key that was pressed.
type pressed string

func (p pressed) String() string { return string(p) }

// Press does what a key means among these; false if it means nothing.
func Press(keys []Key, name string) (tea.Cmd, bool) {
	for _, k := range keys {
		if k.Do != nil && key.Matches(pressed(name), k.Binding) {
			return k.Do(name), true
		}
	}
	return nil, false
}

// The keys that move, for On.
const (
	UpDown    = "up k down j"
	LeftRight = "left h right l"
	Pages     = " pgup pgdown"
)

// aPage is how far the page keys go.
const aPage = 10

// Way is where a key that moves goes: columns to the right, rows down.
func Way(name string) (dx, dy int) {
	switch name {
	case "up", "k":
		return 0, -1
	case "down", "j":
		return 0, 1
	case "left", "h":
		return -1, 0
	case "right", "l":
		return 1, 0
	case "pgup":
		return 0, -aPage
	case "pgdown":
		return 0, aPage
	}
	return 0, 0
}
