// Package acting is who acts, by which way, and what is noted of it: every service does what changes anything through a [Desk].
package acting

import (
	"context"
	"errors"
	"fmt"
	"os/user"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/trail"
)

// Trail is where it is noted who did what.
type Trail interface {
	// Note adds an entry and returns it as it is kept.
	Note(ctx context.Context, e trail.Entry) (trail.Entry, error)
}

// Office is what all desks of a workspace share.
type Office struct {
	Trail Trail
	// Directory is who may do what; nil where nobody wrote one.
	Directory func() (*guard.Directory, error)
	// Find fills in what is known of a thing, from its run, move or deployment.
	Find func(ctx context.Context, on guard.Thing) (guard.Thing, error)
}

// Desk lets an actor do what they may, and notes that they did.
type Desk struct {
	// Actor is who acts, and by which way.
	Actor  guard.Actor
	office *Office
	// let says that what is done at it was let before.
	let bool
	// limits bound what the actor may here, beside what they may anyway; token is what they come with.
	limits []guard.Limit
	token  string
	// inside says that another service sits at it, which looks at what it needs for what its own caller may.
	inside bool
	// words say what is noted as whoever acts would, who is elsewhere and names things otherwise; nil says it as it is.
	words func(string) string
}

// At is the desk of an actor.
func At(actor guard.Actor, o *Office) *Desk { return &Desk{Actor: actor, office: o} }

// Within is the desk of the same actor who comes with a token, within its bounds.
func (d *Desk) Within(token string, limits ...guard.Limit) *Desk {
	b := *d
	b.limits, b.token = append(slices.Clone(d.limits), limits...), token
	return &b
}

// Saying is the desk of the same actor, of whom what is noted is put in words of their own.
func (d *Desk) Saying(words func(string) string) *Desk {
	b := *d
	b.words = words
	return &b
}

// Token is the id of the token with which the actor comes; "" if with none.
func (d *Desk) Token() string { return d.token }

// Bounded reports that the actor comes with a token that leaves them less than they may.
func (d *Desk) Bounded() bool { return len(d.limits) > 0 }

// Unbounded says why the actor may not ask for what is not bounded by whose it is, as their token is; nil if they may.
func (d *Desk) Unbounded(r guard.Right) error {
	for i := range d.limits {
		if one := d.limits[i].For(d.Actor.Name, nil); !one.Unbounded(d.Actor.Name, r) {
			return fault.NotAllowedf("the token %s is bounded, and this takes the right to %s of everything that its person has", d.token, r)
		}
	}
	return nil
}

// directories are all that are asked whether the actor may: the workspace's, which may be nil, and one for each limit.
func (d *Desk) directories() ([]*guard.Directory, error) {
	all, err := d.office.Directory()
	if err != nil {
		return nil, err
	}
	out := []*guard.Directory{all}
	for i := range d.limits {
		out = append(out, d.limits[i].For(d.Actor.Name, all))
	}
	return out, nil
}

// OnBehalf is the desk of somebody for whom a rule, or somebody else, let something be done: it asks no more, and notes as ever.
func (d *Desk) OnBehalf(of guard.Actor) *Desk { return &Desk{Actor: of, office: d.office, let: true} }

// As is the desk of somebody else, who is asked for everything as ever.
func (d *Desk) As(other guard.Actor) *Desk {
	b := *d
	b.Actor, b.let = other, false
	return &b
}

// By is the desk of the same actor by another way, within the same bounds.
func (d *Desk) By(w guard.Way) *Desk {
	b := *d
	b.Actor, b.let, b.inside = d.Actor.By(w), false, false
	return &b
}

// Inside is the desk of the same actor for what services ask of each other: what they do asks as ever, what they look at for it does not.
func (d *Desk) Inside() *Desk {
	in := *d
	in.inside = true
	return &in
}

// See says why the actor may not look at something; nil if they may. It is not noted.
func (d *Desk) See(ctx context.Context, on guard.Thing) error {
	if d.inside || d.let {
		return nil
	}
	if sees, err := d.sees(); sees != some {
		return err
	}
	return d.Allow(ctx, guard.Look, on)
}

// How much somebody may look at.
const (
	nothing = iota
	some
	everything
)

// sees is how much the actor may look at, with the reason if that is nothing: whoever may see nothing is not told what there is not, either.
func (d *Desk) sees() (int, error) {
	all, err := d.directories()
	if err != nil {
		return nothing, err
	}
	least := everything
	for _, one := range all {
		if one != nil && one.Has(d.Actor.Name, guard.Read) && !one.Unbounded(d.Actor.Name, guard.Read) {
			least = some
			continue
		}
		if err := guard.Allow(one, d.Actor, guard.Look, guard.Named("what there is")); err != nil {
			return nothing, err
		}
	}
	return least, nil
}

// SeesAll reports that the actor may look at everything.
func (d *Desk) SeesAll() bool {
	if d.inside || d.let {
		return true
	}
	sees, err := d.sees()
	return err == nil && sees == everything
}

// Read is [Desk.See] of what is the whole workspace's: whoever may read only what is of some team or site does not see it.
func (d *Desk) Read(what string) error {
	return d.See(context.Background(), guard.Named(what)) // of a name alone nothing has to be found out
}

// Seen are those of some things that the actor may look at, by what each is as a thing. Whoever may look at nothing at all is told so.
func Seen[T any](ctx context.Context, d *Desk, all []T, thing func(T) guard.Thing) ([]T, error) {
	if d.inside || d.let {
		return all, nil
	}
	switch sees, err := d.sees(); sees {
	case nothing:
		return nil, err
	case everything:
		return all, nil
	}
	var out []T
	for _, x := range all {
		err := d.See(ctx, thing(x))
		switch fault.CodeOf(err) {
		case fault.NotAllowed, fault.NotFound: // not theirs, or gone meanwhile
		default:
			if err != nil {
				return nil, err
			}
			out = append(out, x)
		}
	}
	return out, nil
}

// Detail says more in an entry of the trail.
type Detail func(*trail.Entry)

// Saying adds words to an entry.
func Saying(format string, args ...any) Detail {
	return func(e *trail.Entry) { e.Note = fmt.Sprintf(format, args...) }
}

// Run is a run as what something is done to.
func Run(id int64) guard.Thing { return guard.Thing{Name: fmt.Sprintf("run %d", id), Run: id} }

// Move is a move as what something is done to.
func Move(id int64) guard.Thing { return guard.Thing{Name: fmt.Sprintf("move %d", id), Move: id} }

// Allow says why the actor may not do something to something; nil if they may.
func (d *Desk) Allow(ctx context.Context, act guard.Act, on guard.Thing) error {
	if d.let {
		return guard.Allow(nil, d.Actor, act, on)
	}
	all, err := d.directories()
	if err != nil {
		return err
	}
	row, found := guard.Of(act), false
	for _, one := range all {
		if one != nil && row != nil && !found && !one.Unbounded(d.Actor.Name, row.Right) {
			found = true
			if on, err = d.office.Find(ctx, on); err != nil {
				return err
			}
		}
		if err := guard.Allow(one, d.Actor, act, on); err != nil {
			return err
		}
	}
	return nil
}

// Note puts into the trail that the actor does something that they may.
func (d *Desk) Note(ctx context.Context, act guard.Act, on guard.Thing, more ...Detail) error {
	e := trail.Entry{At: time.Now(), Actor: d.Actor, Act: act, On: on.Name, Run: on.Run}
	for _, say := range more {
		say(&e)
	}
	if d.words != nil {
		e.On, e.Note, e.Failed = d.words(e.On), d.words(e.Note), d.words(e.Failed)
	}
	if d.token != "" {
		e.Note = strings.TrimSpace(e.Note + " (with the token " + d.token + ")")
	}
	if _, err := d.office.Trail.Note(ctx, e); err != nil {
		return fmt.Errorf("nothing was done, since it could not be noted who did it: %w", err)
	}
	return nil
}

// Do does something that the actor may, and has noted in the trail before: nothing is done without an entry. One that fails has a
// second, which says why.
func (d *Desk) Do(ctx context.Context, act guard.Act, on guard.Thing, how func() error, more ...Detail) error {
	if err := d.Allow(ctx, act, on); err != nil {
		return err
	}
	if err := d.Note(ctx, act, on, more...); err != nil {
		return err
	}
	err := how()
	if err == nil {
		return nil
	}
	failed := append(more, func(e *trail.Entry) { e.Failed = err.Error() })
	return errors.Join(err, d.Note(context.WithoutCancel(ctx), act, on, failed...))
}

// DoOwn is [Desk.Do] of what is nobody's but the actor's own: they must have its right, however that is bounded.
func (d *Desk) DoOwn(ctx context.Context, act guard.Act, on guard.Thing, how func() error, more ...Detail) error {
	all, err := d.directories()
	if err != nil {
		return err
	}
	row := guard.Of(act)
	for _, one := range all {
		if one != nil && row != nil && one.Has(d.Actor.Name, row.Right) {
			continue
		}
		if err := guard.Allow(one, d.Actor, act, on); err != nil {
			return err
		}
	}
	if err := d.Note(ctx, act, on, more...); err != nil {
		return err
	}
	return how()
}

// Whoami is the name of the person at the keyboard.
func Whoami() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "somebody"
}
