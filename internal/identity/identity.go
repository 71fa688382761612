// Package identity asks a provider of OpenID Connect who somebody is: it has them say so there (the device flow of OAuth 2.0, RFC 8628), and looks whether
// what the provider says is true and for us (OpenID Connect Core 1.0, section 3.1.3.7).
//
// In goes what a directory says of the provider; out comes what the provider calls a person. Who that is here the directory says.
package identity

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/web"
)

// patience is how long the provider may take for one answer, mostAnswer how many bytes of one are read.
const (
	patience   = 15 * time.Second
	mostAnswer = 1 << 20
)

// Fresh is how old at most an ID token is that somebody signs in with.
const Fresh = 10 * time.Minute

// bounded reads no more of an answer than there can be in one.
type bounded struct{ over http.RoundTripper }

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	a, err := b.over.RoundTrip(r)
	if err == nil {
		a.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(a.Body, mostAnswer), a.Body}
	}
	return a, err
}

// asking is a context in which providers are asked.
func asking(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, web.Client(patience, bounded{web.Transport(nil)}))
}

// provider is what a provider says of itself (OpenID Connect Discovery 1.0).
func provider(ctx context.Context, of guard.Identity) (*oidc.Provider, error) {
	p, err := oidc.NewProvider(ctx, of.Issuer)
	if err != nil {
		return nil, fault.Unavailablef("the provider of identities %s does not say what it is: %w", of.Issuer, err)
	}
	return p, nil
}

// claims are what an ID token may call a person by.
type claims struct {
	Subject  string    `json:"sub"`
	Email    string    `json:"email"`
	Verified bool      `json:"email_verified"`
	Name     string    `json:"preferred_username"`
	Issued   oidcTime  `json:"iat"`
	Not      *oidcTime `json:"nbf"`
}

type oidcTime float64

func (t oidcTime) time() time.Time { return time.Unix(int64(t), 0) }

// Verify is what a provider calls whoever an ID token is of, as the claim says that the directory goes by. It is refused that is not of the provider, not for us, over, or old; what is
// wrong is said, and never the token.
func Verify(ctx context.Context, of guard.Identity, token string, now time.Time) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*patience)
	defer cancel()
	ctx = asking(ctx)
	p, err := provider(ctx, of)
	if err != nil {
		return "", err
	}
	t, err := p.VerifierContext(ctx, &oidc.Config{ClientID: of.Client, Now: func() time.Time { return now }}).Verify(ctx, token)
	if err != nil {
		return "", refused("%v", err)
	}
	var c claims
	if err := t.Claims(&c); err != nil {
		return "", refused("its claims cannot be read")
	}
	switch {
	case c.Issued == 0 || now.Sub(c.Issued.time()) > Fresh || c.Issued.time().Sub(now) > time.Minute:
		return "", refused("it was not issued within the last %s: sign in again", Fresh)
	case c.Not != nil && c.Not.time().Sub(now) > time.Minute:
		return "", refused("it is not one yet")
	}
	return c.of(of)
}

// of is what they call the person by a claim.
func (c *claims) of(by guard.Identity) (string, error) {
	value := map[string]string{guard.BySubject: c.Subject, guard.ByEmail: c.Email, guard.ByUsername: c.Name}[by.By()]
	switch {
	case value == "":
		return "", refused("it says no %s", by.By())
	case by.By() == guard.ByEmail && !c.Verified:
		return "", refused("the provider has not verified that %s is theirs", value)
	}
	return value, nil
}

func refused(format string, args ...any) error {
	return fault.NotAllowedf("the identity is not taken: %s", fmt.Sprintf(format, args...))
}

// Prompt is what somebody is asked to do in a browser, on whatever machine.
type Prompt struct {
	// URL is where they go, Code what they type there. Whole is the two in one, "" where the provider makes none.
	URL   string `json:"url"`
	Code  string `json:"code"`
	Whole string `json:"whole,omitempty"`
	// Until is until when that may be done.
	Until time.Time `json:"until"`

	wait func(ctx context.Context) (string, error)
}

// Wait waits until they have done so, and is their ID token.
func (p *Prompt) Wait(ctx context.Context) (string, error) { return p.wait(ctx) }

// longestPrompt bounds how long somebody may take.
const longestPrompt = 15 * time.Minute

// Ask begins to ask somebody who they are.
func Ask(ctx context.Context, of guard.Identity) (*Prompt, error) {
	p, err := provider(asking(ctx), of)
	if err != nil {
		return nil, err
	}
	c := oauth2.Config{ClientID: of.Client, Endpoint: p.Endpoint(), Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}
	if c.Endpoint.DeviceAuthURL == "" {
		return nil, fault.Refusedf("the provider %s knows no signing in from a terminal (RFC 8628)", of.Issuer)
	}
	d, err := c.DeviceAuth(asking(ctx))
	if err != nil {
		return nil, fault.Unavailablef("the provider %s asks nobody: %w", of.Issuer, plainly(err))
	}
	if latest := time.Now().Add(longestPrompt); d.Expiry.IsZero() || d.Expiry.After(latest) {
		d.Expiry = latest
	}
	return &Prompt{URL: d.VerificationURI, Code: d.UserCode, Whole: d.VerificationURIComplete, Until: d.Expiry, wait: func(ctx context.Context) (string, error) {
		ctx, cancel := context.WithDeadline(asking(ctx), d.Expiry)
		defer cancel()
		got, err := c.DeviceAccessToken(ctx, d)
		switch {
		case errors.Is(err, context.DeadlineExceeded):
			return "", fault.Refusedf("nobody said who they are in time: try again")
		case err != nil:
			return "", fault.Refusedf("the provider %s does not say who it is: %w", of.Issuer, plainly(err))
		}
		token, _ := got.Extra("id_token").(string)
		if token == "" {
			return "", fault.Refusedf("the provider %s says that it is somebody, and not who: it gives no ID token to the client %s", of.Issuer, of.Client)
		}
		return token, nil
	}}, nil
}

// plainly leaves out of an error of the provider what it answered beside its code, which may be long.
func plainly(err error) error {
	var e *oauth2.RetrieveError
	if errors.As(err, &e) && e.ErrorCode != "" {
		if e.ErrorDescription != "" {
			return fmt.Errorf("%s: %.200s", e.ErrorCode, e.ErrorDescription)
		}
		return errors.New(e.ErrorCode)
	}
	return err
}
