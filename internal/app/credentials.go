package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/durable"
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
func (a *App) Rotate(ctx context.Context, name, token string) error {
	return a.do(ctx, guard.Rotate, name, func() error { return a.changeCredential(ctx, name, token) })
}

func (a *App) changeCredential(ctx context.Context, name, token string) error {
	if _, err := a.workspace.Connection(name); err != nil {
		return err
	}
	unlock, err := a.workspace.Alone(ctx, name)
	if err != nil {
		return err
	}
	defer unlock()
	if err := a.settleCredential(ctx, name); err != nil {
		return err
	}
	c, err := a.workspace.Connection(name)
	if err != nil {
		return err
	}
	if token == "" {
		return a.rotate(ctx, c)
	}
	if _, err := a.Test(ctx, c.With(token)); err != nil {
		return err
	}
	return a.workspace.ConfirmCredential(ctx, name, token)
}

// rotate has the site take a new credential. Others are kept from doing so meanwhile.
func (a *App) rotate(ctx context.Context, c workspace.Connection) error {
	fresh := rand.Text() + rand.Text()
	if err := a.workspace.ProposeCredential(ctx, c.Site, fresh); err != nil {
		return fmt.Errorf("nothing was changed: a new credential could not be kept: %w", err)
	}
	s, err := c.Surveyor()
	if err != nil {
		return errors.Join(err, a.workspace.RejectCredential(ctx, c.Site))
	}
	took, err := s.Rotate(ctx, fresh)
	if err == nil && took != fresh { // a site that makes its own
		err = a.workspace.ProposeCredential(ctx, c.Site, took)
	}
	if err != nil && site.ClassOf(err) == site.Refused {
		return errors.Join(hint(c, err), a.workspace.RejectCredential(ctx, c.Site))
	}
	return errors.Join(err, a.settleCredential(ctx, c.Site))
}

// settleCredential finds out which of two credentials a site knows, if there are two, and keeps that.
func (a *App) settleCredential(ctx context.Context, name string) error {
	fresh, err := a.workspace.Vault.Get(workspace.ShelfCandidates, name)
	if err != nil {
		return err
	}
	c, err := a.workspace.Connection(name)
	if err != nil {
		return err
	}
	if fresh == "" {
		if c.Changing { // it was confirmed or rejected, and that not noted
			return a.workspace.NoteConnection(ctx, name, func(c *workspace.Connection) { c.Changing = false })
		}
		return nil
	}
	switch _, err := c.With(fresh).Access(ctx); {
	case err == nil:
		return a.workspace.ConfirmCredential(ctx, name, fresh)
	case site.ClassOf(err) != site.Refused:
		return fault.Unavailablef("it is not known yet whether %s took its new credential; both are kept, and the next start finds out: %w", name, hint(c, err))
	}
	c.Renew = nil
	if _, err := c.Access(ctx); err != nil {
		return fault.Refusedf("%s takes neither the credential that it had nor the new one; both are kept: %w", name, hint(c, err))
	}
	return a.workspace.RejectCredential(ctx, name)
}

// settleCredentials does so for all sites at which a change broke off, as a start does. One that another process is at is
// left to it, and one that does not answer to the next start.
func (a *App) settleCredentials(ctx context.Context) {
	var all []workspace.Connection
	if a.workspace.ReadJSON(workspace.FileSites, &all) != nil {
		return // what reads it next says why
	}
	for _, c := range all {
		if !c.Changing {
			continue
		}
		unlock, err := durable.TryLock(a.workspace.Path("site-" + c.Site + ".lock"))
		if err != nil {
			continue
		}
		trying, cancel := context.WithTimeout(ctx, settlePatience)
		if err := a.settleCredential(trying, c.Site); err != nil {
			a.Log.Warn("a changed credential is not settled", "site", c.Site, "err", err)
		}
		cancel()
		unlock()
	}
}

// Connect tests a connection and keeps it. A credential for first use is changed at once.
func (a *App) Connect(ctx context.Context, c workspace.Connection) (out *Tested, err error) {
	err = a.do(ctx, guard.ConnectSite, c.Site, func() (err error) {
		out, err = a.connectSite(ctx, c)
		return err
	}, saying("at %s", c.Address()))
	return out, err
}

func (a *App) connectSite(ctx context.Context, c workspace.Connection) (*Tested, error) {
	if err := a.workspace.CheckSiteName(c.Site); err != nil {
		return nil, fmt.Errorf("%q cannot be a site's name: %w", c.Site, err)
	}
	tested, err := a.Test(ctx, c)
	if err != nil {
		return nil, err
	}
	c.Account = tested.Access.Account
	if err := c.Settle(); err != nil {
		return nil, err
	}
	if err := a.workspace.KeepConnection(ctx, c, true); err != nil {
		return nil, err
	}
	if !tested.Access.FirstUse {
		return tested, nil
	}
	if err := a.Rotate(ctx, c.Site, ""); err != nil {
		return nil, fmt.Errorf("%s is connected, but its credential for first use is not changed yet, which andamio site rotate %s does: %w", c.Site, c.Site, err)
	}
	if c, err = a.workspace.Connection(c.Site); err != nil {
		return nil, err
	}
	if tested, err = a.Test(ctx, c); err != nil { // the credential is good all the same, and nobody else has it
		return nil, errors.Join(fmt.Errorf("%s has a new credential, which is kept: %w", c.Site, err), a.rename(ctx, c, err))
	}
	return tested, a.workspace.NoteConnection(ctx, c.Site, func(x *workspace.Connection) { x.Account = tested.Access.Account })
}

// rename keeps a connection under the name that the site gives itself, if that is what is wrong with it.
func (a *App) rename(ctx context.Context, c workspace.Connection, err error) error {
	var other misnamed
	if !errors.As(err, &other) || a.workspace.CheckSiteName(other.itself) != nil {
		return nil
	}
	was := c
	c.Site = other.itself
	if err := a.workspace.KeepConnection(ctx, c, true); err != nil {
		return err
	}
	return errors.Join(fmt.Errorf("it is connected as %s now", other.itself), a.workspace.DropConnection(ctx, was))
}
