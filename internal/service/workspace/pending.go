package workspace

import (
	"context"
	"slices"
	"time"

	"andamio/internal/core/fault"
)

// ShelfCandidates holds credentials of which it is not known yet whether their sites take them.
const ShelfCandidates = "candidates"

// rotatePatience is how long another process may be at the same site.
const rotatePatience = 2 * time.Minute

// Alone has one process at a time change the credential of a site.
func (w *Workspace) Alone(ctx context.Context, name string) (unlock func(), err error) {
	return w.files.Lock(ctx, lockOfSite(name), rotatePatience)
}

// NoWait is Alone that does not wait: [durable.ErrHeld] says that another process changes it.
func (w *Workspace) NoWait(ctx context.Context, name string) (unlock func(), err error) {
	return w.files.TryLock(ctx, lockOfSite(name))
}

func lockOfSite(name string) string { return "site-" + name + ".lock" }

// ProposeCredential keeps a candidate for a site's credential, and notes that there is one.
func (w *Workspace) ProposeCredential(ctx context.Context, name, token string) error {
	if err := w.Vault.Set(ShelfCandidates, map[string]string{name: token}); err != nil {
		return err
	}
	return w.NoteConnection(ctx, name, func(c *Connection) { c.Changing = true })
}

// ConfirmCredential puts the candidate in place of the credential.
func (w *Workspace) ConfirmCredential(ctx context.Context, name, token string) error {
	err := w.Vault.SetAll(map[string]map[string]string{ShelfSites: {name: token}, ShelfCandidates: {name: ""}})
	if err != nil {
		return err
	}
	return w.NoteConnection(ctx, name, func(c *Connection) { c.Changing, c.Rotated = false, time.Now().UTC() })
}

// RejectCredential forgets the candidate.
func (w *Workspace) RejectCredential(ctx context.Context, name string) error {
	if err := w.Vault.Set(ShelfCandidates, map[string]string{name: ""}); err != nil {
		return err
	}
	return w.NoteConnection(ctx, name, func(c *Connection) { c.Changing = false })
}

// NoteConnection changes what is kept of one site, but for its credentials.
func (w *Workspace) NoteConnection(ctx context.Context, name string, how func(*Connection)) error {
	return w.changeConnections(ctx, func(all []Connection) ([]Connection, error) {
		i := slices.IndexFunc(all, func(c Connection) bool { return c.Site == name })
		if i < 0 {
			return nil, fault.NotFoundf("there is no site %q", name)
		}
		how(&all[i])
		return all, nil
	})
}
