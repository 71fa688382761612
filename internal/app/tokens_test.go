package app

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/token"
	"andamio/internal/service/tokens"
)

// bears is who comes with a secret, and within what.
func bears(t *testing.T, a *App, secret string) *App {
	t.Helper()
	b, err := a.Bears(ctx, secret, netip.MustParseAddr("192.0.2.7"), time.Now())
	require.NoError(t, err)
	return a.Within(Actor{Name: b.Token.Of, Way: guard.API}, b.Token.ID, b.Limits...)
}

// TestTokensAreOfThePeopleOfTheDirectory has people of different rights make, see and end tokens of theirs and of each other.
func TestTokensAreOfThePeopleOfTheDirectory(t *testing.T) {
	t.Parallel()
	a, err := Open(ctx, t.TempDir(), Idle())
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	_, err = a.SetDirectory(ctx, []byte(teams()))
	require.NoError(t, err)
	a = another(t, a)
	now := time.Now()
	eva, ibo := a.As(Actor{Name: "eva", Way: ByCommand}), a.As(Actor{Name: "ibo", Way: ByCommand})
	own, err := eva.MakeToken(ctx, tokens.Wish{Name: "evas"}, now)
	require.NoError(t, err, "though her rights are bounded, it is her own")
	assert.Equal(t, "eva", own.Of)
	assert.WithinDuration(t, now.Add(token.Usual), own.Ends, time.Second)
	_, err = eva.MakeToken(ctx, tokens.Wish{Name: "ibos", Of: "ibo"}, now)
	require.Equal(t, fault.NotAllowed, fault.CodeOf(err), "%v", err)
	forIbo, err := a.MakeToken(ctx, tokens.Wish{Name: "ibos", Of: "ibo"}, now)
	require.NoError(t, err, "who keeps the workspace may")
	_, err = a.MakeToken(ctx, tokens.Wish{Name: "mias", Of: "mia"}, now)
	require.Equal(t, fault.NotFound, fault.CodeOf(err), "%v", err)
	_, err = a.As(Actor{Name: "mia", Way: ByCommand}).MakeToken(ctx, tokens.Wish{Name: "mias"}, now)
	require.Error(t, err, "nobody knows her")

	names := func(of *App) (out []string) {
		all, err := of.Tokens(ctx)
		require.NoError(t, err)
		for _, x := range all {
			out = append(out, x.Name)
		}
		return out
	}
	assert.ElementsMatch(t, []string{"evas", "ibos"}, names(a))
	assert.Equal(t, []string{"evas"}, names(eva))
	assert.Equal(t, []string{"ibos"}, names(ibo))
	require.Equal(t, fault.NotFound, fault.CodeOf(ibo.RevokeToken(ctx, own.ID, now)), "she is not told of")
	_, err = ibo.RotateToken(ctx, own.ID, 0, now)
	require.Equal(t, fault.NotFound, fault.CodeOf(err))

	byEva := bears(t, a, own.Secret)
	assert.Equal(t, Actor{Name: "eva", Way: guard.API}, byEva.Actor())
	assert.Equal(t, []string{"evas"}, names(byEva))
	_, err = byEva.MakeToken(ctx, tokens.Wish{Name: "ibos", Of: "ibo"}, now)
	require.Equal(t, fault.NotAllowed, fault.CodeOf(err), "%v", err)
	child, err := byEva.MakeToken(ctx, tokens.Wish{Name: "short", For: 10 * token.Usual / 9}, now)
	require.NoError(t, err)
	assert.Equal(t, own.Ends, child.Ends, "it ends with what it was made by")
	_, err = bears(t, a, child.Secret).MakeToken(ctx, tokens.Wish{Name: "shorter"}, now)
	require.Equal(t, fault.Refused, fault.CodeOf(err), "%v", err)

	another, err := a.RotateToken(ctx, own.ID, time.Minute, now)
	require.NoError(t, err)
	for secret, at := range map[string]time.Time{own.Secret: now.Add(59 * time.Second), another.Secret: now.Add(time.Hour)} {
		_, err := a.Bears(ctx, secret, netip.MustParseAddr("192.0.2.7"), at)
		require.NoError(t, err)
	}
	_, err = a.Bears(ctx, own.Secret, netip.MustParseAddr("192.0.2.7"), now.Add(time.Minute))
	require.Error(t, err, "the overlap is over")
	all, err := a.Tokens(ctx)
	require.NoError(t, err)
	for _, x := range all {
		if x.ID == own.ID {
			assert.Equal(t, "192.0.2.7", x.UsedFrom)
			assert.WithinDuration(t, now.Add(time.Hour), x.Used, 2*time.Hour)
		}
	}
	require.NoError(t, a.RevokeToken(ctx, own.ID, now))
	require.Error(t, a.Bearing(ctx, child.ID, netip.MustParseAddr("192.0.2.7"), now), "with that it is none")
	require.NoError(t, a.Bearing(ctx, forIbo.ID, netip.MustParseAddr("192.0.2.7"), now))
	require.Error(t, a.Bearing(ctx, forIbo.ID, netip.MustParseAddr("192.0.2.7"), forIbo.Ends))
	trail, err := a.LastOfTrail(ctx, 50)
	require.NoError(t, err)
	for _, e := range trail {
		for _, secret := range []string{own.Secret, child.Secret, another.Secret} {
			assert.NotContains(t, e.Note+e.On+e.Failed, secret)
		}
	}
}

// TestATokenGetsAtNoOtherSecret has tokens that are bounded by nothing, by time or by where they are used, and one of whoever keeps the workspace, try to get at another's secret, which would
// let whoever has them do more, for longer, or from elsewhere.
func TestATokenGetsAtNoOtherSecret(t *testing.T) {
	t.Parallel()
	a, err := Open(ctx, t.TempDir(), Idle())
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	_, err = a.SetDirectory(ctx, []byte(teams()))
	require.NoError(t, err)
	a = another(t, a)
	now := time.Now()
	long, err := a.MakeToken(ctx, tokens.Wish{Name: "long"}, now)
	require.NoError(t, err)
	evas, err := a.MakeToken(ctx, tokens.Wish{Name: "evas", Of: "eva"}, now)
	require.NoError(t, err)
	for name, w := range map[string]tokens.Wish{"bounded by nothing": {}, "for a time": {For: time.Minute}, "from somewhere": {From: []string{"192.0.2.7"}}} {
		w.Name = name
		made, err := a.MakeToken(ctx, w, now)
		require.NoError(t, err)
		by := bears(t, a, made.Secret)
		for _, other := range []tokens.Made{long, evas} {
			got, err := by.RotateToken(ctx, other.ID, 0, now)
			require.Equal(t, fault.NotAllowed, fault.CodeOf(err), "%s: %v", name, err)
			assert.Empty(t, got.Secret)
		}
		_, err = by.RotateToken(ctx, made.ID, time.Hour, now)
		require.NoError(t, err, "its own it may")
	}
	last, err := a.MakeToken(ctx, tokens.Wish{Name: "ends others"}, now)
	require.NoError(t, err)
	require.NoError(t, bears(t, a, last.Secret).RevokeToken(ctx, evas.ID, now), "to end one tells nothing, and whoever keeps the workspace may")
}

// TestWhatIsAskedOnceIsKnown says how something was answered that was asked with a key.
func TestWhatIsAskedOnceIsKnown(t *testing.T) {
	t.Parallel()
	a, err := Open(ctx, t.TempDir(), Idle())
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	now := time.Now()
	was, err := a.Once(ctx, "k", "digest", now)
	require.NoError(t, err)
	require.Nil(t, was, "it is new")
	_, err = a.Once(ctx, "k", "digest", now)
	require.Equal(t, fault.Conflict, fault.CodeOf(err), "nobody answered yet")
	require.NoError(t, a.WasAnswered(ctx, "k", tokens.Answered{Status: 202, Type: "application/json", Body: []byte("{}")}))
	was, err = a.Once(ctx, "k", "digest", now.Add(tokens.KnownFor-time.Second))
	require.NoError(t, err)
	assert.Equal(t, &tokens.Answered{Status: 202, Type: "application/json", Body: []byte("{}")}, was)
	_, err = a.Once(ctx, "k", "other", now)
	require.Equal(t, fault.Invalid, fault.CodeOf(err))
	was, err = a.Once(ctx, "k", "digest", now.Add(tokens.KnownFor+time.Second))
	require.NoError(t, err)
	assert.Nil(t, was, "it is forgotten")
}
