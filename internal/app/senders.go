package app

import (
	"context"
	"crypto/rand"
	"sync"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/service/workspace"
)

// sendersAnew is after how long the secret of a sender is read again. Reading it costs what opening the vault costs, and whoever sends
// notices that are signed wrongly has us look.
const sendersAnew = 5 * time.Second

// MakeSenderSecret makes the secret with which somebody signs notices about a site, and returns it. It is not shown again; the one
// before it counts no longer.
func (a *App) MakeSenderSecret(ctx context.Context, site string) (secret string, err error) {
	err = a.desk.Do(ctx, guard.KeepSecret, guard.Named("the sender of notices of "+site), func() error {
		if _, err := a.workspace.Connection(site); err != nil {
			return err
		}
		secret = rand.Text()
		return a.workspace.Vault.Set(workspace.ShelfSenders, map[string]string{site: secret})
	})
	return secret, err
}

// sender knows the secret of the sender of a site's notices as it was lately.
type sender struct {
	a    *App
	site string

	mu     sync.Mutex
	secret string
	read   time.Time
}

// Secret is the secret, "" if there is none. A vault that cannot be opened knows of none.
func (s *sender) Secret() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := time.Now(); s.read.IsZero() || now.Sub(s.read) >= sendersAnew {
		s.secret, _ = s.a.workspace.Vault.Get(workspace.ShelfSenders, s.site)
		s.read = now
	}
	return s.secret
}
