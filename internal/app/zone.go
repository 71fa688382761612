package app

import (
	"context"
	"fmt"
	"strings"

	"andamio/internal/names"
)

const (
	fileZone   = "names.json"
	shelfNames = "names"
)

// Zone is where names are kept; nil if no name server is connected.
func (w *Workspace) Zone() (*names.Zone, error) {
	var z names.Zone
	if err := w.readJSON(fileZone, &z); err != nil || z.Name == "" {
		return nil, err
	}
	secret, err := w.vault.Get(shelfNames, z.Name)
	z.Secret = secret
	return &z, err
}

// SetZone keeps where names are kept; its secret goes into the vault. An empty zone disconnects.
func (w *Workspace) SetZone(z names.Zone) error {
	if z.Name != "" {
		if err := z.Check(); err != nil {
			return err
		}
		if err := w.vault.Set(shelfNames, map[string]string{z.Name: z.Secret}); err != nil {
			return err
		}
	}
	return w.writeJSON(fileZone, z)
}

// ConnectNames tries a zone by publishing a name of no meaning and taking it back, and keeps the zone if that works.
func (a *App) ConnectNames(ctx context.Context, z names.Zone) error {
	z.Name = strings.TrimSuffix(strings.ToLower(z.Name), ".")
	if err := z.Check(); err != nil {
		return err
	}
	const trial = "andamio-trial"
	if err := z.Publish(ctx, trial, names.Target{Address: "127.0.0.1"}); err != nil {
		return fmt.Errorf("the zone %s cannot be changed, so it is not kept: %w", z.Name, err)
	}
	if err := z.Withdraw(ctx, trial, nil); err != nil {
		return err
	}
	return a.Workspace.SetZone(z)
}
