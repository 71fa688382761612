package engine

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/run"
	"andamio/internal/remote"
)

// TestASecretIsMaskedInEveryFormItTakes writes a secret as programs do and has it told.
func TestASecretIsMaskedInEveryFormItTakes(t *testing.T) {
	const secret = `heron's "nest" & 100% ü/+`
	m := newMasker(map[string]string{"k": secret})
	text, err := json.Marshal(map[string]string{"key": secret})
	require.NoError(t, err)
	var plain strings.Builder
	e := json.NewEncoder(&plain)
	e.SetEscapeHTML(false)
	require.NoError(t, e.Encode(secret))
	for name, told := range map[string]string{
		"JSON, plain":     plain.String(),
		"as it is":        "key=" + secret,
		"sent":            "+ export K=" + remote.Quote(secret),
		"older quoting":   "K='" + strings.ReplaceAll(secret, "'", `'\''`) + "'",
		"JSON":            string(text),
		"query":           "http://x/?" + url.Values{"k": {secret}}.Encode(),
		"path":            "http://x/" + url.PathEscape(secret),
		"escaped":         "http://x/" + strings.ReplaceAll(url.QueryEscape(secret), "+", "%20"),
		"base64":          base64.StdEncoding.EncodeToString([]byte(secret)),
		"basic":           "Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte("operator:"+secret)),
		"basic of others": "Authorization: Basic " + base64.URLEncoding.EncodeToString([]byte("op:"+secret+"\n")),
		"hex":             hex.EncodeToString([]byte(secret)),
		"HEX":             strings.ToUpper(hex.EncodeToString([]byte(secret))),
		"Go":              fmt.Sprintf("%q", secret),
	} {
		got := m.clean(told)
		assert.Contains(t, got, hidden, name)
		for _, part := range []string{"heron", "nest", base64.StdEncoding.EncodeToString([]byte("heron's"))[:8], hex.EncodeToString([]byte("heron"))} {
			assert.NotContains(t, strings.ToLower(got), strings.ToLower(part), name)
		}
	}
}

// TestNoSecretIsToldByAShellThatRepeatsWhatItReads has a real shell print every line of a script before it runs it.
func TestNoSecretIsToldByAShellThatRepeatsWhatItReads(t *testing.T) {
	shell, err := exec.LookPath("sh")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[A-Za-z0-9]{8,20}`).Draw(t, "word")
		secret := rapid.SampledFrom([]string{"", "'", "\"", " $x ", "\r", "\n'", "`", "ü"}).Draw(t, "before") + word + rapid.SampledFrom([]string{"", "'", "\r\n", "\\", " "}).Draw(t, "after")
		m := newMasker(map[string]string{"k": secret})
		for _, how := range []string{"-v", "-x", "-s"} {
			cmd := exec.Command(shell, how, "-s")
			cmd.Stdin = strings.NewReader(remote.Export("V", secret) + "printf '%s\\n' \"$V\"\nprintf '%s' \"$V\" | od -c | head -0\n")
			out, err := cmd.CombinedOutput()
			require.NoError(t, err)
			for _, line := range strings.Split(string(out), "\n") {
				if got := m.clean(line); strings.Contains(got, word) {
					t.Fatalf("%q is told as %q", secret, got)
				}
			}
		}
	})
}

// TestBase64OfAnythingAroundASecretHidesIt encodes a secret between other things.
func TestBase64OfAnythingAroundASecretHidesIt(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		secret := rapid.StringMatching(`[ -~]{8,30}`).Filter(func(s string) bool { return len(strings.TrimSpace(s)) >= 8 }).Draw(t, "secret")
		before, after := rapid.String().Draw(t, "before"), rapid.String().Draw(t, "after")
		m := newMasker(map[string]string{"k": secret})
		for _, e := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding, base64.RawStdEncoding} {
			told := e.EncodeToString([]byte(before + secret + after))
			if got := m.clean(told); !strings.Contains(got, hidden) {
				t.Fatalf("%q is told as %q", secret, got)
			}
		}
	})
}

// archive keeps in memory what is printed.
type archive struct{ strings.Builder }

func (*archive) Name() string { return "the archive" }
func (*archive) Close() error { return nil }

// TestWhatAStepPrintsIsBounded has scripts print more and more, in long lines and without end.
func TestWhatAStepPrintsIsBounded(t *testing.T) {
	for _, lines := range []int{0, 1, headLines, headLines + 1, headLines + tailLines, headLines + tailLines + 1, headLines + tailLines + 250, 5000} {
		m, kept := &memory{}, &archive{}
		e := &Engine{Run: "r", Plan: networks(1), Journal: m, Archive: func(string) Archive { return kept }}
		e.state, e.mask = run.New(e.Plan), newMasker(nil)
		var text strings.Builder
		for i := range lines {
			fmt.Fprintf(&text, "line %d\r\n", i)
		}
		last := e.logLines(&e.Plan.Steps[0], strings.NewReader(text.String()), &outputs{})
		var said []string
		for _, ev := range m.events {
			said = append(said, ev.Text)
		}
		var want []string
		for i := range lines {
			if i < headLines || i >= lines-tailLines {
				want = append(want, fmt.Sprintf("line %d", i))
			} else if i == headLines {
				want = append(want, fmt.Sprintf("(%d lines left out: all of them are in the archive)", lines-headLines-tailLines))
			}
		}
		assert.Equal(t, want, said, lines)
		assert.Equal(t, lines, strings.Count(kept.String(), "\n"))
		if lines > 0 {
			assert.Equal(t, fmt.Sprintf("line %d", lines-1), last)
		}
	}
	m := &memory{}
	e := &Engine{Run: "r", Plan: networks(1), Journal: m}
	e.state, e.mask = run.New(e.Plan), newMasker(nil)
	e.logLines(&e.Plan.Steps[0], io.LimitReader(endless{}, 200<<20), &outputs{})
	require.Len(t, m.events, 1, "one line that never ends")
	assert.Less(t, len(m.events[0].Text), mostLine+50)
	assert.Contains(t, m.events[0].Text, "bytes more")
}

// endless prints one line without end.
type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}
