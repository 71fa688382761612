package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/durable"
	"andamio/internal/site"
)

// A credential is changed in three steps, none of which can leave the workspace without one that is good: the new one is
// kept as a candidate, the site takes it, and when it was seen to work it takes the place of the old one. Whatever ends
// between two steps, a start finds the candidate, tries both, and keeps the one that the site knows.

// shelfCandidates holds credentials of which it is not known yet whether their sites take them.
const shelfCandidates = "candidates"

// Times of changing credentials: how long another process may be at the same site, and how long a start tries one.
const (
	rotatePatience = 2 * time.Minute
	settlePatience = 15 * time.Second
)

// alone has one process at a time change the credential of a site.
func (w *Workspace) alone(ctx context.Context, name string) (unlock func(), err error) {
	return durable.Lock(ctx, w.path("site-"+name+".lock"), rotatePatience)
}

// propose keeps a candidate for a site's credential, and notes that there is one.
func (w *Workspace) propose(ctx context.Context, name, token string) error {
	if err := w.vault.Set(shelfCandidates, map[string]string{name: token}); err != nil {
		return err
	}
	return w.note(ctx, name, func(c *Connection) { c.Changing = true })
}

// confirm puts the candidate in place of the credential.
func (w *Workspace) confirm(ctx context.Context, name, token string) error {
	err := w.vault.SetAll(map[string]map[string]string{shelfSites: {name: token}, shelfCandidates: {name: ""}})
	if err != nil {
		return err
	}
	return w.note(ctx, name, func(c *Connection) { c.Changing, c.Rotated = false, time.Now().UTC() })
}

// reject forgets the candidate.
func (w *Workspace) reject(ctx context.Context, name string) error {
	if err := w.vault.Set(shelfCandidates, map[string]string{name: ""}); err != nil {
		return err
	}
	return w.note(ctx, name, func(c *Connection) { c.Changing = false })
}

// note changes what is kept of one site, but for its credentials.
func (w *Workspace) note(ctx context.Context, name string, how func(*Connection)) error {
	return w.changeConnections(ctx, func(all []Connection) ([]Connection, error) {
		i := slices.IndexFunc(all, func(c Connection) bool { return c.Site == name })
		if i < 0 {
			return nil, fault.NotFoundf("there is no site %q", name)
		}
		how(&all[i])
		return all, nil
	})
}

// Rotate changes the credential of a site: for the one given, once that was tried, or for a new one, which the site is asked
// to take.
func (a *App) Rotate(ctx context.Context, name, token string) error {
	return a.do(ctx, guard.Rotate, name, func() error { return a.changeCredential(ctx, name, token) })
}

func (a *App) changeCredential(ctx context.Context, name, token string) error {
	if _, err := a.workspace.Connection(name); err != nil {
		return err
	}
	unlock, err := a.workspace.alone(ctx, name)
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
	if _, err := a.Test(ctx, c.with(token)); err != nil {
		return err
	}
	return a.workspace.confirm(ctx, name, token)
}

// rotate has the site take a new credential. Others are kept from doing so meanwhile.
func (a *App) rotate(ctx context.Context, c Connection) error {
	fresh := rand.Text() + rand.Text()
	if err := a.workspace.propose(ctx, c.Site, fresh); err != nil {
		return fmt.Errorf("nothing was changed: a new credential could not be kept: %w", err)
	}
	s, err := c.surveyor()
	if err != nil {
		return errors.Join(err, a.workspace.reject(ctx, c.Site))
	}
	took, err := s.Rotate(ctx, fresh)
	if err == nil && took != fresh { // a site that makes its own
		err = a.workspace.propose(ctx, c.Site, took)
	}
	if err != nil && site.ClassOf(err) == site.Refused {
		return errors.Join(hint(c, err), a.workspace.reject(ctx, c.Site))
	}
	return errors.Join(err, a.settleCredential(ctx, c.Site))
}

// settleCredential finds out which of two credentials a site knows, if there are two, and keeps that.
func (a *App) settleCredential(ctx context.Context, name string) error {
	fresh, err := a.workspace.vault.Get(shelfCandidates, name)
	if err != nil {
		return err
	}
	c, err := a.workspace.Connection(name)
	if err != nil {
		return err
	}
	if fresh == "" {
		if c.Changing { // it was confirmed or rejected, and that not noted
			return a.workspace.note(ctx, name, func(c *Connection) { c.Changing = false })
		}
		return nil
	}
	switch _, err := c.with(fresh).access(ctx); {
	case err == nil:
		return a.workspace.confirm(ctx, name, fresh)
	case site.ClassOf(err) != site.Refused:
		return fault.Unavailablef("it is not known yet whether %s took its new credential; both are kept, and the next start finds out: %w", name, hint(c, err))
	}
	c.renew = nil
	if _, err := c.access(ctx); err != nil {
		return fault.Refusedf("%s takes neither the credential that it had nor the new one; both are kept: %w", name, hint(c, err))
	}
	return a.workspace.reject(ctx, name)
}

// settleCredentials does so for all sites at which a change broke off, as a start does. One that another process is at is
// left to it, and one that does not answer to the next start.
func (a *App) settleCredentials(ctx context.Context) {
	var all []Connection
	if a.workspace.readJSON(fileSites, &all) != nil {
		return // what reads it next says why
	}
	for _, c := range all {
		if !c.Changing {
			continue
		}
		unlock, err := durable.TryLock(a.workspace.path("site-" + c.Site + ".lock"))
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
func (a *App) Connect(ctx context.Context, c Connection) (out *Tested, err error) {
	err = a.do(ctx, guard.ConnectSite, c.Site, func() (err error) {
		out, err = a.connectSite(ctx, c)
		return err
	}, saying("at %s", c.Address()))
	return out, err
}

func (a *App) connectSite(ctx context.Context, c Connection) (*Tested, error) {
	if err := a.workspace.CheckSiteName(c.Site); err != nil {
		return nil, fmt.Errorf("%q cannot be a site's name: %w", c.Site, err)
	}
	tested, err := a.Test(ctx, c)
	if err != nil {
		return nil, err
	}
	c.Account = tested.Access.Account
	if err := c.settle(); err != nil {
		return nil, err
	}
	if err := a.workspace.keep(ctx, c, true); err != nil {
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
	return tested, a.workspace.note(ctx, c.Site, func(x *Connection) { x.Account = tested.Access.Account })
}

// rename keeps a connection under the name that the site gives itself, if that is what is wrong with it.
func (a *App) rename(ctx context.Context, c Connection, err error) error {
	var other misnamed
	if !errors.As(err, &other) || a.workspace.CheckSiteName(other.itself) != nil {
		return nil
	}
	was := c
	c.Site = other.itself
	if err := a.workspace.keep(ctx, c, true); err != nil {
		return err
	}
	return errors.Join(fmt.Errorf("it is connected as %s now", other.itself), a.workspace.drop(ctx, was))
}
