package app

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/trail"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// As is the workspace for an actor: what is done through it is done by them.
func (a *App) As(actor Actor) *App {
	b := *a
	b.wire(acting.At(actor, a.office))
	return &b
}

// Within is the workspace for whoever comes with a token, within its bounds. Closing it closes nothing.
func (a *App) Within(actor Actor, token string, limits ...guard.Limit) *App {
	b := *a
	b.wire(acting.At(actor, a.office).Within(token, limits...))
	b.lent = true
	return &b
}

// Saying is the workspace for the same actor, of whom what is noted is put in words of their own: they are elsewhere, and name files otherwise.
func (a *App) Saying(words func(string) string) *App {
	b := *a
	b.wire(a.desk.Saying(words))
	return &b
}

// Unbounded says why the actor may not ask for what is theirs by more than a token that they come with says; nil if they may.
func (a *App) Unbounded(r guard.Right) error { return a.desk.Unbounded(r) }

// By is the workspace for the same person by another way, within the bounds of the token that they come with.
func (a *App) By(w Way) *App {
	b := *a
	b.wire(a.desk.By(w))
	return &b
}

// Actor is who acts.
func (a *App) Actor() Actor { return a.desk.Actor }

// EachOfTrail goes through all entries, the oldest first.
func (a *App) EachOfTrail(ctx context.Context, do func(*Entry) error) error {
	if err := a.desk.Read("the trail"); err != nil {
		return err
	}
	return a.store.EachOfTrail(ctx, do)
}

// LastOfTrail returns the last entries, the newest first.
func (a *App) LastOfTrail(ctx context.Context, limit int) ([]Entry, error) {
	if err := a.desk.Read("the trail"); err != nil {
		return nil, err
	}
	return a.store.LastOfTrail(ctx, limit)
}

// TrailBetween are the entries between two moments, the newest first, so many at most.
func (a *App) TrailBetween(ctx context.Context, from, to time.Time, most int) ([]Entry, error) {
	var out []Entry
	err := a.EachOfTrail(ctx, func(e *Entry) error {
		if !e.At.Before(from) && !e.At.After(to) {
			if out = append(out, *e); len(out) > most {
				out = out[1:]
			}
		}
		return nil
	})
	slices.Reverse(out)
	return out, err
}

// Verified is what came of looking at the whole trail. Digest, kept elsewhere, shows that it was not made anew.
type Verified struct {
	Entries int64         `json:"entries"`
	Digest  string        `json:"digest"`
	Wrong   []trail.Wrong `json:"wrong,omitempty"`
}

// VerifyTrail looks whether any entry was changed, left out or put in, and whether one with an expected digest is there, if one is
// given.
func (a *App) VerifyTrail(ctx context.Context, expect string) (*Verified, error) {
	if err := a.desk.Read("the trail"); err != nil {
		return nil, err
	}
	v, err := a.store.VerifyTrail(ctx, expect)
	if err != nil {
		return nil, err
	}
	return &Verified{Entries: v.Last().Seq, Digest: v.Last().Digest, Wrong: v.Wrong}, nil
}

// Reaching has what is at sites be reached as their connections say, wherever a context says at which site it is.
func (a *App) Reaching(ctx context.Context) context.Context { return a.workspace.Reaching(ctx) }

// NotedNext is closed when something is noted in the log next; nil where that is looked at now and then.
func (a *App) NotedNext() <-chan struct{} { return a.store.Changed(store.TopicTrail) }

// SetSecrets keeps values for plans; nobody is told them.
func (a *App) SetSecrets(ctx context.Context, values map[string]string) error {
	return a.desk.Do(ctx, guard.KeepSecret, guard.Named(strings.Join(slices.Sorted(maps.Keys(values)), ", ")), func() error { return a.workspace.SetSecrets(values) })
}

// MakeKey makes a key pair, of which only the public half is kept.
func (a *App) MakeKey(ctx context.Context, name string) (public, private string, err error) {
	err = a.desk.Do(ctx, guard.KeepKey, guard.Named(name), func() (err error) {
		public, private, err = a.workspace.MakeKey(name)
		return err
	})
	return public, private, err
}

// BringKey keeps a key pair that somebody has.
func (a *App) BringKey(ctx context.Context, name string, private []byte) (public string, err error) {
	err = a.desk.Do(ctx, guard.KeepKey, guard.Named(name), func() (err error) {
		public, err = a.workspace.BringKey(name, private)
		return err
	})
	return public, err
}

// Lock has the credentials open with a passphrase, or with a new key file if it is "".
func (a *App) Lock(ctx context.Context, phrase string) error {
	with := "a passphrase"
	if phrase == "" {
		with = "a key file"
	}
	return a.desk.Do(ctx, guard.LockVault, guard.Named(with), func() error { return a.workspace.Lock(phrase) })
}

// SetHearing changes where notices are heard.
func (a *App) SetHearing(ctx context.Context, h workspace.Hearing) error {
	return a.desk.Do(ctx, guard.TellNotices, guard.Named(h.Advertised(h.At("any port"))), func() error { return a.workspace.SetHearing(h) })
}
