// Package printable makes text from outside (names, tags, logs, answers of servers) safe to show on a terminal: no
// control sequence survives, so none can move the cursor, change colours, set titles or forge lines.
package printable

import (
	"bytes"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Clean returns s as one line without control characters, escape sequences, invisible direction marks or invalid
// UTF-8. Tabs and line ends become spaces.
func Clean(s string) string {
	if clean(s) {
		return s
	}
	var out strings.Builder
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && size <= 1:
			out.WriteRune('�')
		case r == 0x1b || r == 0x9b:
			i += sequence(s[i:], r)
			continue
		case r == '\t' || r == '\n' || r == '\r':
			out.WriteByte(' ')
		case hidden(r):
		default:
			out.WriteRune(r)
		}
		i += size
	}
	return out.String()
}

// Lines is s without characters that print nothing of their own, but for line breaks, and with invalid UTF-8 marked.
func Lines(s string) string {
	s = strings.ToValidUTF8(s, "\uFFFD")
	return strings.Map(func(r rune) rune {
		if r != '\n' && hidden(r) {
			return -1
		}
		return r
	}, s)
}

// JSON is JSON with every character in it that prints nothing of its own, or would move a terminal, written as an escape
// (RFC 8259, section 7): it means the same. White space of the JSON itself stays.
func JSON(data []byte) []byte {
	if !bytes.ContainsFunc(data, unprinted) {
		return data
	}
	var out bytes.Buffer
	for _, r := range string(data) {
		switch {
		case !unprinted(r):
			out.WriteRune(r)
		case r > 0xffff:
			a, b := utf16.EncodeRune(r)
			fmt.Fprintf(&out, `\u%04x\u%04x`, a, b)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
	}
	return out.Bytes()
}

// unprinted reports a character that JSON may have within a text and that is not to be printed.
func unprinted(r rune) bool { return r >= 0x7f && hidden(r) }

func clean(s string) bool {
	for _, r := range s {
		if r == utf8.RuneError || hidden(r) {
			return false
		}
	}
	return true
}

// hidden reports characters that print nothing of their own.
func hidden(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r >= 0x2028 && r <= 0x2029
}

// sequence is the length of the escape sequence (ECMA-48) at the start of s, whose first character is intro.
func sequence(s string, intro rune) int {
	i := 1
	if intro == 0x9b {
		return 2 + csi(s[2:])
	}
	if i >= len(s) {
		return i
	}
	switch s[i] {
	case '[':
		return i + 1 + csi(s[i+1:])
	case ']', 'P', 'X', '^', '_':
		return i + 1 + untilTerminator(s[i+1:])
	}
	return i + 1
}

// csi is the length of a control sequence's parameters and final byte.
func csi(s string) int {
	for i := 0; i < len(s); i++ {
		if s[i] >= 0x40 && s[i] <= 0x7e {
			return i + 1
		}
		if s[i] < 0x20 || s[i] > 0x7e {
			return i
		}
	}
	return len(s)
}

// untilTerminator is the length of a string sequence up to BEL or ESC \.
func untilTerminator(s string) int {
	for i := 0; i < len(s); i++ {
		if s[i] == 0x07 {
			return i + 1
		}
		if s[i] == 0x1b && i+1 < len(s) && s[i+1] == '\\' {
			return i + 2
		}
	}
	return len(s)
}
