package cli

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestAnExcerptMarksThePlaceInAShortLine(t *testing.T) {
	for name, c := range map[string]struct {
		line          string
		column, width int
		shown, mark   string
	}{
		"a word":               {"type: Sever", 7, 5, "type: Sever", "      ^^^^^"},
		"past the end":         {"ab", 9, 3, "ab", "  ^"},
		"no width":             {"ab", 1, 0, "ab", "^"},
		"wider than the line":  {"a: b", 4, 99, "a: b", "   ^"},
		"before the beginning": {"ab", -3, 1, "ab", "^"},
	} {
		t.Run(name, func(t *testing.T) {
			shown, mark := excerpt(c.line, c.column, c.width)
			assert.Equal(t, c.shown, shown)
			assert.Equal(t, c.mark, mark)
		})
	}
}

func TestAnExcerptOfAnEndlessLineIsShort(t *testing.T) {
	line := strings.Repeat("a", 100_000) + "HERE" + strings.Repeat("z", 1<<20)
	shown, mark := excerpt(line, 100_001, 4)
	assert.LessOrEqual(t, utf8.RuneCountInString(shown), excerptWidth+2)
	at := strings.Index(mark, "^")
	assert.Equal(t, "HERE", string([]rune(shown)[at:at+4]), "the mark stands below its place though the line was cut")
	assert.True(t, strings.HasPrefix(shown, "…") && strings.HasSuffix(shown, "…"))
}
