// Package tokens makes, rotates and revokes what programs show to act for somebody, and says who comes with one.
package tokens

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/token"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// Store is what the service keeps tokens in.
type Store interface {
	store.TokensStore
	store.OnceStore
}

// Service is about tokens, for whoever is at the desk.
type Service struct {
	desk  *acting.Desk
	store Store
	// knows says who a directory knows; nil where there is none.
	knows func() (*guard.Directory, error)
}

// New returns the service for whoever is at the desk.
func New(desk *acting.Desk, s Store, directory func() (*guard.Directory, error)) *Service {
	return &Service{desk: desk, store: s, knows: directory}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// Made is a token that was made or rotated, with its secret, which is told once.
type Made struct {
	token.Token
	Secret string `json:"secret"`
}

// Wish is a token that somebody wants.
type Wish struct {
	Name string `json:"name"`
	// Of is whom it acts for; "" is whoever makes it.
	Of string `json:"of,omitempty"`
	// For is for how long it is one; 0 is for [token.Usual].
	For   time.Duration `json:"-"`
	Limit guard.Limit   `json:"limit,omitzero"`
	From  []string      `json:"from,omitempty"`
}

// MakeToken makes a token of one's own, or, with the right to keep the workspace, of somebody else. Its secret is told once.
func (svc *Service) MakeToken(ctx context.Context, w Wish, now time.Time) (out Made, err error) {
	t := token.Token{ID: newID(), Name: w.Name, Of: cmp.Or(w.Of, svc.desk.Actor.Name), Parent: svc.desk.Token(), Made: now.UTC(), Limit: w.Limit, From: w.From}
	t.Ends = now.Add(cmp.Or(w.For, token.Usual)).UTC()
	if err := svc.within(ctx, &t, now); err != nil {
		return out, err
	}
	if err := t.Check(now); err != nil {
		return out, err
	}
	d, err := svc.knows()
	if err != nil {
		return out, err
	}
	if _, known := peopleOf(d)[t.Of]; d != nil && !known {
		return out, fault.NotFoundf("nobody of the directory of teams is called %q", t.Of)
	}
	out = Made{t, newSecret(t.ID)}
	how, note := func() error { return svc.store.AddToken(ctx, t, token.Secrets{Now: token.Digest(out.Secret)}) }, acting.Saying("%s, %s", t.ID, t.Name)
	if t.Of == svc.desk.Actor.Name {
		return told(out, svc.desk.DoOwn(ctx, guard.MakeToken, guard.Named(t.Of), how, note))
	}
	return told(out, svc.desk.Do(ctx, guard.MakeTokenFor, guard.Named(t.Of), how, note))
}

// told tells a secret, if what it is of was made.
func told(m Made, err error) (Made, error) {
	if err != nil {
		return Made{}, err
	}
	return m, nil
}

// within has a token that is made by another act for the same, and end with it at the latest.
func (svc *Service) within(ctx context.Context, t *token.Token, now time.Time) error {
	if t.Parent == "" {
		return nil
	}
	parent, _, err := svc.store.Token(ctx, t.Parent)
	if err != nil {
		return err
	}
	if t.Of != parent.Of {
		return fault.NotAllowedf("a token makes tokens of %s alone, whom it acts for", parent.Of)
	}
	if t.Ends.After(parent.Ends) {
		t.Ends = parent.Ends
	}
	if parent.Parent != "" {
		return fault.Refusedf("the token %s was made by a token itself: it makes no more of them", parent.ID)
	}
	return parent.Lasts(now)
}

func peopleOf(d *guard.Directory) map[string]guard.Person {
	if d == nil {
		return nil
	}
	return d.People
}

// newID is 10 small letters and digits, by chance.
func newID() string {
	var b [6]byte
	_, _ = rand.Read(b[:]) // which never fails
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b[:]))
}

func newSecret(id string) string {
	var b [32]byte
	_, _ = rand.Read(b[:])
	return token.Secret(id, b[:])
}

// Tokens are those of whoever asks, or, with the right to keep the workspace, of everybody; the newest first.
func (svc *Service) Tokens(ctx context.Context) ([]token.Token, error) {
	all, err := svc.store.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	if svc.desk.Allow(ctx, guard.EndTokenOf, guard.Named("tokens")) == nil {
		return all, nil
	}
	return slices.DeleteFunc(all, func(t token.Token) bool { return !svc.mine(&t) }), nil
}

// mine reports that a token is whoever asks'. By one that is bounded they see that one and what was made by it.
func (svc *Service) mine(t *token.Token) bool {
	return t.Of == svc.desk.Actor.Name && (!svc.desk.Bounded() || svc.itsOwn(t))
}

// itsOwn reports that a token is the one that whoever asks comes with, or was made by it.
func (svc *Service) itsOwn(t *token.Token) bool {
	by := svc.desk.Token()
	return by != "" && (t.ID == by || t.Parent == by)
}

// known is a token that whoever asks may know of, and whether it is theirs. Of another's they are not told that it is there, unless they keep the workspace.
func (svc *Service) known(ctx context.Context, id string) (t token.Token, mine bool, err error) {
	t, _, err = svc.store.Token(ctx, id)
	mine = err == nil && svc.mine(&t)
	switch keeps := svc.desk.Allow(ctx, guard.EndTokenOf, guard.Named(id)); {
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return t, false, err
	case err != nil || !mine && keeps != nil:
		return t, false, fault.NotFoundf("there is no token %q of yours; andamio token lists them", id)
	}
	return t, mine, nil
}

// RotateToken gives a token another secret, which is told once; the one that it has holds for a time more, so that whoever uses it has that time to change.
func (svc *Service) RotateToken(ctx context.Context, id string, overlap time.Duration, now time.Time) (Made, error) {
	t, mine, err := svc.known(ctx, id)
	if err != nil {
		return Made{}, err
	}
	if svc.desk.Token() != "" && !svc.itsOwn(&t) { // another may be one for longer, or from elsewhere
		return Made{}, fault.NotAllowedf("a token gets at no secret but its own, and those of what was made by it: %s is another", id)
	}
	if err := t.Lasts(now); err != nil {
		return Made{}, fault.Refusedf("%w: make another", err)
	}
	if overlap < 0 {
		return Made{}, fault.Invalidf("an overlap of %s has been over before it begins", overlap)
	}
	out := Made{t, newSecret(id)}
	out.Until = now.Add(overlap).UTC()
	how, note := func() error { return svc.store.RotateToken(ctx, id, token.Digest(out.Secret), out.Until) }, acting.Saying("%s has another secret", id)
	if mine {
		return told(out, svc.desk.DoOwn(ctx, guard.MakeToken, guard.Named(t.Of), how, note))
	}
	return told(out, svc.desk.Do(ctx, guard.MakeTokenFor, guard.Named(t.Of), how, note))
}

// RevokeToken has a token be none any more, with those that were made by it.
func (svc *Service) RevokeToken(ctx context.Context, id string, now time.Time) error {
	_, mine, err := svc.known(ctx, id)
	if err != nil {
		return err
	}
	how := func() error { return svc.store.RevokeToken(ctx, id, svc.desk.Actor.Name, now) }
	if mine {
		return svc.desk.DoOwn(ctx, guard.EndToken, guard.Named(id), how)
	}
	return svc.desk.Do(ctx, guard.EndTokenOf, guard.Named(id), how)
}

// Bearer is who comes with a token, and within what.
type Bearer struct {
	Token  token.Token
	Limits []guard.Limit
}

// errNoToken is all that whoever shows no token is told, whatever is wrong with what they show.
var errNoToken = fault.NotAllowedf("that is no token that holds: andamio token make makes one")

// usedEvery is how exactly it is noted when a token was used.
const usedEvery = time.Minute

// Bears says who comes with a secret from an address. One that is made by another holds while that does, within its bounds too.
func (svc *Service) Bears(ctx context.Context, secret string, from netip.Addr, now time.Time) (Bearer, error) {
	id, is := token.ParseSecret(secret)
	if !is {
		return Bearer{}, errNoToken
	}
	t, secrets, err := svc.store.Token(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return Bearer{}, errNoToken
	}
	if err != nil {
		return Bearer{}, err
	}
	if !secrets.Fits(secret, now) {
		return Bearer{}, errNoToken
	}
	b, err := svc.holds(ctx, t, from, now)
	if err == nil && now.Sub(t.Used) >= usedEvery { // nobody is kept out since there is no room to note that they came
		_ = svc.store.UseToken(ctx, id, now.UTC(), from.Unmap().String())
	}
	return b, err
}

// Bearing says whether whoever came with a token may stay: it, and what it was made by, holds still.
func (svc *Service) Bearing(ctx context.Context, id string, from netip.Addr, now time.Time) error {
	_, err := svc.Borne(ctx, id, from, now)
	return err
}

// Borne says who came with a token, if they may stay, and within what by now.
func (svc *Service) Borne(ctx context.Context, id string, from netip.Addr, now time.Time) (Bearer, error) {
	t, _, err := svc.store.Token(ctx, id)
	if err != nil {
		return Bearer{}, err
	}
	return svc.holds(ctx, t, from, now)
}

func (svc *Service) holds(ctx context.Context, t token.Token, from netip.Addr, now time.Time) (Bearer, error) {
	b := Bearer{Token: t}
	d, err := svc.knows()
	if err != nil {
		return b, err
	}
	if _, known := peopleOf(d)[t.Of]; d != nil && !known {
		return b, errNoToken
	}
	for at := t; ; {
		if err := at.Holds(now, from); err != nil {
			return b, err
		}
		if !at.Limit.Nothing() {
			b.Limits = append(b.Limits, at.Limit)
		}
		if at.Parent == "" {
			return b, nil
		}
		if at, _, err = svc.store.Token(ctx, at.Parent); err != nil {
			return b, errNoToken
		}
	}
}
