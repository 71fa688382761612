// Package tuitest has what tests of the screens share: keys as the terminal sends them.
package tuitest

import (
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"
)

var codes = map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "backspace": tea.KeyBackspace, "delete": tea.KeyDelete, "tab": tea.KeyTab, "space": tea.KeySpace,
	"up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "home": tea.KeyHome, "end": tea.KeyEnd, "pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown}

var mods = map[string]tea.KeyMod{"ctrl": tea.ModCtrl, "alt": tea.ModAlt, "shift": tea.ModShift}

// Key is the message of a key of that name, as tea.KeyPressMsg.String gives it. It panics for a name that is none.
func Key(name string) tea.KeyPressMsg {
	var k tea.Key
	rest := name
	for {
		mod, after, more := strings.Cut(rest, "+")
		if !more || mods[mod] == 0 {
			break
		}
		k.Mod |= mods[mod]
		rest = after
	}
	code, named := codes[rest]
	if !named {
		if utf8.RuneCountInString(rest) != 1 {
			panic("no key is named " + name)
		}
		code, _ = utf8.DecodeRuneInString(rest)
	}
	k.Code = code
	switch {
	case k.Mod != 0:
	case rest == "space":
		k.Text = " "
	case !named:
		k.Text = rest
	}
	return tea.KeyPressMsg(k)
}

// Typed are the messages of a text that is typed.
func Typed(text string) []tea.Msg {
	var out []tea.Msg
	for _, r := range text {
		if r == ' ' {
			out = append(out, Key("space"))
			continue
		}
		out = append(out, Key(string(r)))
	}
	return out
}
