package app

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/identity"
	"andamio/internal/service/tokens"
	"andamio/internal/store"
)

// SignedInFor is for how long the token of somebody who signed in is one, where nothing else is said; it is at most a day.
const (
	SignedInFor = 8 * time.Hour
	mostSigned  = 24 * time.Hour
)

// mostIdentity bounds the bytes of an ID token.
const mostIdentity = 16 << 10

// SignsIn is the provider by which people sign in. It is told to anybody: who does not know it cannot ask it.
func (a *App) SignsIn() (guard.Identity, error) {
	d, err := a.workspace.Directory()
	if err != nil {
		return guard.Identity{}, err
	}
	if d == nil || d.Identity == nil {
		return guard.Identity{}, fault.NotFoundf("nobody signs in here: the directory of teams names no provider of identities (docs/teams.md)")
	}
	return *d.Identity, nil
}

// SignIn makes a token for whoever an ID token of the provider is of, if the directory of teams knows them. It is taken once, and of late issue.
func (a *App) SignIn(ctx context.Context, idToken string, lasts time.Duration, now time.Time) (tokens.Made, error) {
	by, err := a.SignsIn()
	if err != nil {
		return tokens.Made{}, err
	}
	if len(idToken) > mostIdentity {
		return tokens.Made{}, fault.Invalidf("an ID token has at most %d bytes", mostIdentity)
	}
	if lasts <= 0 {
		lasts = SignedInFor
	}
	called, err := identity.Verify(ctx, by, idToken, now)
	if err != nil {
		return tokens.Made{}, err
	}
	d, err := a.workspace.Directory()
	if err != nil {
		return tokens.Made{}, err
	}
	name := d.ByIdentity(called)
	if name == "" {
		return tokens.Made{}, fault.NotAllowedf("%s knows whoever that is, and the directory of teams does not: nobody in it has the identity that the provider says", by.Issuer)
	}
	sum := sha256.Sum256([]byte(idToken))
	if _, first, err := a.store.KeepOnce(ctx, store.Once{Who: "sign-in", Key: hex.EncodeToString(sum[:]), At: now.UTC()}); err != nil || !first {
		return tokens.Made{}, orElse(err, fault.Conflictf("somebody signed in with that already: sign in again"))
	}
	return a.As(Actor{Name: name, Way: guard.API}).MakeToken(ctx, tokens.Wish{Name: "signed in", For: min(lasts, mostSigned)}, now)
}

func orElse(err, other error) error {
	if err != nil {
		return err
	}
	return other
}
