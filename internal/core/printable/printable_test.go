package printable

import (
	"bytes"
	"encoding/json"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

func TestJSONIsEscapedAndMeansTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		said := map[string]string{rapid.String().Draw(t, "name"): rapid.String().Draw(t, "text") + rapid.SampledFrom([]string{"", "\u009b31m", "\u202e", "\U000e0041", "\x7f", "\u2066"}).Draw(t, "more")}
		var text bytes.Buffer
		e := json.NewEncoder(&text)
		e.SetEscapeHTML(false)
		require.NoError(t, e.Encode(said))
		out := JSON(text.Bytes())
		for _, r := range string(out) {
			require.False(t, r != '\n' && hidden(r), "%q", out)
		}
		var heard, meant map[string]string
		require.NoError(t, json.Unmarshal(out, &heard))
		require.NoError(t, json.Unmarshal(text.Bytes(), &meant))
		require.Equal(t, meant, heard)
	})
}

func TestLinesKeepTheirBreaks(t *testing.T) {
	assert.Equal(t, "a\nb31m\uFFFDc", Lines("a\nb\x1b\u009b31m\xff\u202ec")[:len("a\nb31m\uFFFDc")])
	assert.Equal(t, "plain", Lines("plain"))
}
