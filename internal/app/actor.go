package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/trail"
	"andamio/internal/service/workspace"
)

// Who acts, and by which way, for screens and commands.
type (
	Actor = guard.Actor
	Way   = guard.Way
	// Entry is one of the trail of what was done.
	Entry = trail.Entry
)

// The ways in which somebody acts.
const (
	ByScreen   = guard.Screen
	ByCommand  = guard.Command
	BySchedule = guard.Schedule
	ByRule     = guard.Rule
)

// As is the workspace for an actor: what is done through it is done by them.
func (a *App) As(actor Actor) *App {
	b := *a
	b.actor = actor
	return &b
}

// By is the workspace for the same person by another way.
func (a *App) By(w Way) *App { return a.As(a.actor.By(w)) }

// Actor is who acts.
func (a *App) Actor() Actor { return a.actor }

// detail says more in an entry of the trail.
type detail func(*Entry)

func aboutRun(id int64) detail { return func(e *Entry) { e.Run = id } }

func saying(format string, args ...any) detail {
	return func(e *Entry) { e.Note = fmt.Sprintf(format, args...) }
}

func theRun(id int64) string { return fmt.Sprintf("run %d", id) }

// allow says whether the actor may do something to something.
func (a *App) allow(act guard.Act, on string) error { return guard.Allow(a.actor, act, on) }

// note puts into the trail that the actor does something that they may.
func (a *App) note(ctx context.Context, act guard.Act, on string, more ...detail) error {
	e := Entry{At: time.Now(), Actor: a.actor, Act: act, On: on}
	for _, d := range more {
		d(&e)
	}
	if _, err := a.store.Note(ctx, e); err != nil {
		return fmt.Errorf("nothing was done, since it could not be noted who did it: %w", err)
	}
	return nil
}

// do does something that the actor may, and has noted in the trail before: nothing is done without an entry. One that fails has a
// second, which says why.
func (a *App) do(ctx context.Context, act guard.Act, on string, how func() error, more ...detail) error {
	if err := a.allow(act, on); err != nil {
		return err
	}
	if err := a.note(ctx, act, on, more...); err != nil {
		return err
	}
	err := how()
	if err == nil {
		return nil
	}
	failed := append(more, func(e *Entry) { e.Failed = err.Error() })
	return errors.Join(err, a.note(context.WithoutCancel(ctx), act, on, failed...))
}

// EachOfTrail goes through all entries, the oldest first.
func (a *App) EachOfTrail(ctx context.Context, do func(*Entry) error) error {
	return a.store.EachOfTrail(ctx, do)
}

// LastOfTrail returns the last entries, the newest first.
func (a *App) LastOfTrail(ctx context.Context, limit int) ([]Entry, error) {
	return a.store.LastOfTrail(ctx, limit)
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
	v, err := a.store.VerifyTrail(ctx, expect)
	if err != nil {
		return nil, err
	}
	return &Verified{Entries: v.Last().Seq, Digest: v.Last().Digest, Wrong: v.Wrong}, nil
}

func theMove(id int64) string { return fmt.Sprintf("move %d", id) }

// SetSecrets keeps values for plans; nobody is told them.
func (a *App) SetSecrets(ctx context.Context, values map[string]string) error {
	return a.do(ctx, guard.KeepSecret, strings.Join(slices.Sorted(maps.Keys(values)), ", "), func() error { return a.workspace.SetSecrets(values) })
}

// MakeKey makes a key pair, of which only the public half is kept.
func (a *App) MakeKey(ctx context.Context, name string) (public, private string, err error) {
	err = a.do(ctx, guard.KeepKey, name, func() (err error) {
		public, private, err = a.workspace.MakeKey(name)
		return err
	})
	return public, private, err
}

// BringKey keeps a key pair that somebody has.
func (a *App) BringKey(ctx context.Context, name string, private []byte) (public string, err error) {
	err = a.do(ctx, guard.KeepKey, name, func() (err error) {
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
	return a.do(ctx, guard.LockVault, with, func() error { return a.workspace.Lock(phrase) })
}

// SetHearing changes where notices are heard.
func (a *App) SetHearing(ctx context.Context, h workspace.Hearing) error {
	return a.do(ctx, guard.TellNotices, h.Advertised(h.At("any port")), func() error { return a.workspace.SetHearing(h) })
}
