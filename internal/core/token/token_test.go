package token

import (
	"bytes"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
)

var noon = time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)

func good() Token {
	return Token{ID: "k7", Name: "nightly build", Of: "ana", Made: noon, Ends: noon.Add(time.Hour)}
}

func TestATokenThatIsToBeMadeIsChecked(t *testing.T) {
	x := good()
	require.NoError(t, x.Check(noon))
	for want, change := range map[string]func(*Token){
		"no name of a token":      func(t *Token) { t.Name = "a\x1bb" },
		"none from the beginning": func(t *Token) { t.Ends = noon },
		"longer than 366 days":    func(t *Token) { t.Ends = noon.Add(Longest + time.Second) },
		`"10.0.0" is neither`:     func(t *Token) { t.From = []string{"10.0.0"} },
		`"rule" is no right`:      func(t *Token) { t.Limit.Rights = []guard.Right{"rule"} },
		`"[" is no pattern`:       func(t *Token) { t.Limit.Deployments = []string{"["} },
		`"" is no pattern`:        func(t *Token) { t.Limit.Sites = []string{""} },
	} {
		x := good()
		change(&x)
		err := x.Check(noon)
		require.ErrorContains(t, err, want)
		assert.Equal(t, fault.Invalid, fault.CodeOf(err), want)
	}
}

func TestATokenHoldsUntilItEndsFromWhereItIsFor(t *testing.T) {
	here, there := netip.MustParseAddr("192.0.2.7"), netip.MustParseAddr("::ffff:198.51.100.1")
	x := good()
	require.NoError(t, x.Holds(noon, there))
	require.NoError(t, x.Holds(x.Ends.Add(-1), there))
	require.ErrorContains(t, x.Holds(x.Ends, there), "ended 2026-12-01T13:00:00Z")
	x.From = []string{"192.0.2.0/24", "2001:db8::/32", "203.0.113.9"}
	require.NoError(t, x.Holds(noon, here))
	require.NoError(t, x.Holds(noon, netip.MustParseAddr("203.0.113.9")))
	require.ErrorContains(t, x.Holds(noon, there), "for other addresses than 198.51.100.1")
	x.Revoked = noon
	err := x.Holds(noon, here)
	require.ErrorContains(t, err, "was revoked")
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
}

func TestOnlyASecretOfATokenFits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		random := rapid.SliceOfN(rapid.Byte(), 32, 32)
		a, b, other := random.Draw(t, "a"), random.Draw(t, "b"), random.Draw(t, "other")
		if bytes.Equal(a, b) || bytes.Equal(a, other) || bytes.Equal(b, other) {
			return
		}
		now, before := Secret("k7", a), Secret("k7", b)
		id, is := ParseSecret(now)
		assert.True(t, is)
		assert.Equal(t, "k7", id)
		s := Secrets{Now: Digest(now), Before: Digest(before), Until: noon}
		assert.True(t, s.Fits(now, noon))
		assert.True(t, s.Fits(before, noon.Add(-1)))
		assert.False(t, s.Fits(before, noon), "the overlap is over")
		assert.False(t, s.Fits(Secret("k7", other), noon.Add(-1)))
		assert.False(t, s.Fits(Secret("k8", a), noon), "of another token")
		assert.False(t, Secrets{Now: Digest(now)}.Fits("", noon))
		assert.NotContains(t, s.Now+s.Before, strings.TrimPrefix(now, Prefix+"k7_"))
	})
}

func TestWhatIsNoSecretIsNone(t *testing.T) {
	for _, text := range []string{"", Prefix, Prefix + "k7", Prefix + "k7_short", "other_k7_" + strings.Repeat("A", 43), Prefix + "_" + strings.Repeat("A", 43), Prefix + "k7_" + strings.Repeat("!", 43)} {
		_, is := ParseSecret(text)
		assert.False(t, is, text)
	}
}
