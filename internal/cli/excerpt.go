package cli

import (
	"strings"
	"unicode/utf8"

	"andamio/internal/core/printable"
)

// excerptWidth is how much of a source line is shown: a file that is not a template at all may be one line of megabytes.
const excerptWidth = 160

// excerpt is the part of a source line about a place in it, ready to be shown, with a second line that marks the place.
// The column counts characters from 1; a width below one marks one character.
func excerpt(line string, column, width int) (shown, mark string) {
	text := []rune(line)
	at := min(max(column-1, 0), len(text))
	from := 0
	if at > excerptWidth*3/4 {
		from = at - excerptWidth/2
	}
	to := min(len(text), from+excerptWidth)
	before, after := printable.Clean(string(text[from:at])), printable.Clean(string(text[at:to]))
	if from > 0 {
		before = "…" + before
	}
	width = min(max(width, 1), max(utf8.RuneCountInString(after), 1))
	if to < len(text) {
		after += "…"
	}
	return before + after, strings.Repeat(" ", utf8.RuneCountInString(before)) + strings.Repeat("^", width)
}
