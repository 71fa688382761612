package printable

import (
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestClean(t *testing.T) {
	for in, want := range map[string]string{
		"plain ñ ✓":                   "plain ñ ✓",
		"\x1b[31mred\x1b[0m":          "red",
		"\x1b]0;title\x07after":       "after",
		"\x1b]8;;http://x\x1b\\link":  "link",
		"\u009b2Jgone":                "gone",
		"a\tb\r\nc":                   "a b  c",
		"bell\x07 back\x08":           "bell back",
		"\u202eevil":                  "evil",
		"cut \x1b[":                   "cut ",
		"cut \x1b":                    "cut ",
		"bad \xff byte":               "bad � byte",
		"\x1bPpayload without an end": "",
	} {
		assert.Equal(t, want, Clean(in), "%q", in)
	}
}

func TestNothingHiddenSurvives(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		in := rapid.OneOf(rapid.String(), rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) })).Draw(t, "in")
		for _, r := range Clean(in) {
			if unicode.IsControl(r) {
				t.Fatalf("%q keeps %q", in, r)
			}
		}
		if again := Clean(Clean(in)); again != Clean(in) {
			t.Fatalf("cleaning twice differs: %q", in)
		}
	})
}
