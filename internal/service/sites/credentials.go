package sites

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
)

// A credential is changed in three steps, none of which can leave the workspace without one that is good: the new one is
// kept as a candidate, the site takes it, and when it was seen to work it takes the place of the old one. Whatever ends
// between two steps, a start finds the candidate, tries both, and keeps the one that the site knows.

// settlePatience is how long a start tries a credential of which it is not known whether its site takes it.
const settlePatience = 15 * time.Second

// Rotate changes the credential of a site: for the one given, once that was tried, or for a new one, which the site is asked
// to take.
func (svc *Service) Rotate(ctx context.Context, name, token string) error {
	return svc.desk.Do(ctx, guard.Rotate, guard.At(name), func() error { return svc.changeCredential(ctx, name, token) })
}

func (svc *Service) changeCredential(ctx context.Context, name, token string) error {
	if c, err := svc.workspace.Connection(name); err != nil {
		return err
	} else if d, err := c.Kit(); err == nil && d.Credential == "" {
		return fault.Refusedf("%s has no credential that could be changed: sites that speak %s are reached with keys; connect it again with another", name, d.Name)
	}
	unlock, err := svc.workspace.Alone(ctx, name)
	if err != nil {
		return err
	}
	defer unlock()
	if err := svc.settleCredential(ctx, name); err != nil {
		return err
	}
	c, err := svc.workspace.Connection(name)
	if err != nil {
		return err
	}
	if token == "" {
		return svc.rotate(ctx, c)
	}
	if _, err := svc.inside().Test(ctx, c.With(token)); err != nil {
		return err
	}
	return svc.workspace.ConfirmCredential(ctx, name, token)
}

// rotate has the site take a new credential. Others are kept from doing so meanwhile.
func (svc *Service) rotate(ctx context.Context, c workspace.Connection) error {
	fresh := rand.Text() + rand.Text()
	if err := svc.workspace.ProposeCredential(ctx, c.Site, fresh); err != nil {
		return fmt.Errorf("nothing was changed: a new credential could not be kept: %w", err)
	}
	s, err := c.Surveyor()
	if err != nil {
		return errors.Join(err, svc.workspace.RejectCredential(ctx, c.Site))
	}
	took, err := s.Rotate(ctx, fresh)
	if err == nil && took != fresh { // a site that makes its own
		err = svc.workspace.ProposeCredential(ctx, c.Site, took)
	}
	if err != nil && site.ClassOf(err) == site.Refused {
		return errors.Join(Hint(c, err), svc.workspace.RejectCredential(ctx, c.Site))
	}
	return errors.Join(err, svc.settleCredential(ctx, c.Site))
}

// settleCredential finds out which of two credentials a site knows, if there are two, and keeps that.
func (svc *Service) settleCredential(ctx context.Context, name string) error {
	fresh, err := svc.workspace.Vault.Get(workspace.ShelfCandidates, name)
	if err != nil {
		return err
	}
	c, err := svc.workspace.Connection(name)
	if err != nil {
		return err
	}
	if fresh == "" {
		if c.Changing { // it was confirmed or rejected, and that not noted
			return svc.workspace.NoteConnection(ctx, name, func(c *workspace.Connection) { c.Changing = false })
		}
		return nil
	}
	switch _, err := c.With(fresh).Access(ctx); {
	case err == nil:
		return svc.workspace.ConfirmCredential(ctx, name, fresh)
	case site.ClassOf(err) != site.Refused:
		return fault.Unavailablef("it is not known yet whether %s took its new credential; both are kept, and the next start finds out: %w", name, Hint(c, err))
	}
	c.Renew = nil
	if _, err := c.Access(ctx); err != nil {
		return fault.Refusedf("%s takes neither the credential that it had nor the new one; both are kept: %w", name, Hint(c, err))
	}
	return svc.workspace.RejectCredential(ctx, name)
}

// SettleCredentials does so for all sites at which a change broke off, as a start does. One that another process is at is
// left to it, and one that does not answer to the next start.
func (svc *Service) SettleCredentials(ctx context.Context) {
	var all []workspace.Connection
	if svc.workspace.ReadJSON(workspace.FileSites, &all) != nil {
		return // what reads it next says why
	}
	for _, c := range all {
		if !c.Changing {
			continue
		}
		unlock, err := svc.workspace.NoWait(ctx, c.Site)
		if err != nil {
			continue
		}
		trying, cancel := context.WithTimeout(ctx, settlePatience)
		if err := svc.settleCredential(trying, c.Site); err != nil {
			svc.log.Warn("a changed credential is not settled", "site", c.Site, "err", err)
		}
		cancel()
		unlock()
	}
}

// Connect tests a connection and keeps it. A credential for first use is changed at once.
func (svc *Service) Connect(ctx context.Context, c workspace.Connection) (out *Tested, err error) {
	err = svc.desk.Do(ctx, guard.ConnectSite, guard.At(c.Site), func() (err error) {
		out, err = svc.connectSite(ctx, c)
		return err
	}, acting.Saying("at %s", c.Address()))
	return out, err
}

func (svc *Service) connectSite(ctx context.Context, c workspace.Connection) (*Tested, error) {
	if err := svc.workspace.CheckSiteName(c.Site); err != nil {
		return nil, fmt.Errorf("%q cannot be a site's name: %w", c.Site, err)
	}
	tested, err := svc.inside().Test(ctx, c)
	if err != nil {
		return nil, err
	}
	c.Account = tested.Access.Account
	if err := c.Settle(); err != nil {
		return nil, err
	}
	if err := svc.workspace.KeepConnection(ctx, c, true); err != nil {
		return nil, err
	}
	if !tested.Access.FirstUse {
		return tested, nil
	}
	if err := svc.Rotate(ctx, c.Site, ""); err != nil {
		return nil, fmt.Errorf("%s is connected, but its credential for first use is not changed yet, which andamio site rotate %s does: %w", c.Site, c.Site, err)
	}
	if c, err = svc.workspace.Connection(c.Site); err != nil {
		return nil, err
	}
	if tested, err = svc.inside().Test(ctx, c); err != nil { // the credential is good all the same, and nobody else has it
		return nil, errors.Join(fmt.Errorf("%s has a new credential, which is kept: %w", c.Site, err), svc.rename(ctx, c, err))
	}
	return tested, svc.workspace.NoteConnection(ctx, c.Site, func(x *workspace.Connection) { x.Account = tested.Access.Account })
}

// rename keeps a connection under the name that the site gives itself, if that is what is wrong with it.
func (svc *Service) rename(ctx context.Context, c workspace.Connection, err error) error {
	var other misnamed
	if !errors.As(err, &other) || svc.workspace.CheckSiteName(other.itself) != nil {
		return nil
	}
	was := c
	c.Site = other.itself
	if err := svc.workspace.KeepConnection(ctx, c, true); err != nil {
		return err
	}
	return errors.Join(fmt.Errorf("it is connected as %s now", other.itself), svc.workspace.DropConnection(ctx, was))
}
