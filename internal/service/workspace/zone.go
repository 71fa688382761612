package workspace

import "andamio/internal/names"

const (
	FileZone   = "names.json"
	ShelfNames = "names"
)

// Zone is where names are kept; nil if no name server is connected.
func (w *Workspace) Zone() (*names.Zone, error) {
	var z names.Zone
	if err := w.ReadJSON(FileZone, &z); err != nil || z.Name == "" {
		return nil, err
	}
	secret, err := w.Vault.Get(ShelfNames, z.Name)
	z.Secret = secret
	return &z, err
}

// SetZone keeps where names are kept; its secret goes into the vault. An empty zone disconnects.
func (w *Workspace) SetZone(z names.Zone) error {
	if z.Name != "" {
		if err := z.Check(); err != nil {
			return err
		}
		if err := w.Vault.Set(ShelfNames, map[string]string{z.Name: z.Secret}); err != nil {
			return err
		}
	}
	return w.WriteJSON(FileZone, z)
}
