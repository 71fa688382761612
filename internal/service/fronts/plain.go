package fronts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/front"
	"andamio/internal/names"
)

// filePlain has the plain names that were published, with the front that each is of: they are withdrawn when no front has them any more.
const filePlain = "plain-names.json"

// How long a name server has for an update, and how long one that could not be made is left alone.
const (
	publishWithin = 5 * time.Second
	publishAgain  = 30 * time.Second
)

// plainNames are those that were published, with what they stand for, and when that was tried last where it could not be done.
type plainNames struct {
	stand map[string]string
	tried map[string]time.Time
}

// left reports that a name is to be left alone for a while.
func (p *plainNames) left(name string, now time.Time) bool {
	return now.Sub(p.tried[name]) < publishAgain
}

// publish has the plain names stand for all that is up, as far as they do not. Where nothing is up they stand for what they stood for. Those that no front has any
// more are withdrawn.
func (a *answering) publish(ctx context.Context, t *front.Table, now time.Time) {
	p := &a.plain
	if p.stand == nil {
		p.stand, p.tried = map[string]string{}, map[string]time.Time{}
	}
	for i := range t.File.Fronts {
		f := &t.File.Fronts[i]
		addresses := upOf(f.Expected(t.Members[f.Name]))
		all := strings.Join(addresses, " ")
		if f.Plain == "" || all == "" || p.stand[f.Plain] == all || p.left(f.Plain, now) {
			continue
		}
		p.tried[f.Plain] = now
		if err := a.svc.plainly(ctx, f, addresses); err != nil {
			a.svc.log.Warn("a plain name could not be published", "name", f.Plain, "err", err)
			continue
		}
		p.stand[f.Plain] = all
		delete(p.tried, f.Plain)
	}
	const withdrawing = "" // no name is that
	if p.left(withdrawing, now) {
		return
	}
	if err := a.svc.withdraw(ctx, t.File); err != nil {
		p.tried[withdrawing] = now
		a.svc.log.Warn("plain names that no front has any more could not be withdrawn", "err", err)
	}
}

// published are the plain names that were published, by name.
func (svc *Service) published() (map[string]string, error) {
	out := map[string]string{}
	err := svc.workspace.ReadJSON(filePlain, &out)
	return out, err
}

// plainly has a name in the zone of the connected name server stand for addresses. That it does is noted before, so that it is withdrawn whatever comes between.
func (svc *Service) plainly(ctx context.Context, f *front.Front, addresses []string) error {
	z, err := svc.zoneOf(f.Name)
	if err != nil {
		return err
	}
	known, err := svc.published()
	if err != nil {
		return err
	}
	if known[f.Plain] != f.Name {
		known[f.Plain] = f.Name
		if err := svc.workspace.WriteJSON(filePlain, known); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, publishWithin)
	defer cancel()
	return z.PublishAll(ctx, f.Plain, addresses)
}

// zoneOf is the zone of the connected name server, for names of a front.
func (svc *Service) zoneOf(of string) (*names.Zone, error) {
	z, err := svc.workspace.Zone()
	if err != nil {
		return nil, err
	}
	if z == nil {
		return nil, fault.NotFoundf("no name server is connected: andamio names connects one")
	}
	z.Owner = "front " + of
	return z, nil
}

// WithdrawPlain withdraws the plain names that were published and that no front has any more. Who answers does so by itself.
func (svc *Service) WithdrawPlain(ctx context.Context) error {
	if err := svc.desk.Read("the fronts"); err != nil {
		return err
	}
	f, _, err := svc.workspace.Fronts()
	if err != nil {
		return err
	}
	return svc.withdraw(ctx, f)
}

// withdraw withdraws the names that none of some fronts has. What is another's by now is left as it is.
func (svc *Service) withdraw(ctx context.Context, f *front.File) error {
	known, err := svc.published()
	if err != nil {
		return err
	}
	var errs []error
	done := false
	for _, name := range slices.Sorted(maps.Keys(known)) {
		of := known[name]
		if slices.ContainsFunc(f.Fronts, func(x front.Front) bool { return x.Plain == name && x.Name == of }) {
			continue
		}
		z, err := svc.zoneOf(of)
		if err == nil {
			err = func() error {
				ctx, cancel := context.WithTimeout(ctx, publishWithin)
				defer cancel()
				return z.Withdraw(ctx, name, nil)
			}()
		}
		if err != nil && !errors.Is(err, names.ErrTaken) {
			errs = append(errs, fmt.Errorf("%s: %w", name, err))
			continue
		}
		delete(known, name)
		done = true
	}
	if done {
		errs = append(errs, svc.workspace.WriteJSON(filePlain, known))
	}
	return errors.Join(errs...)
}
