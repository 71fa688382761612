package sqlite

import (
	"context"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/durable"
)

// TestManyFirstOpenersMakeOneDatabase has many open a database at once that is not there yet.
func TestManyFirstOpenersMakeOneDatabase(t *testing.T) {
	for range 5 {
		path := filepath.Join(t.TempDir(), "andamio.db")
		var group sync.WaitGroup
		errs := make([]error, 12)
		for i := range errs {
			group.Go(func() {
				s, err := Open(t.Context(), path)
				if err == nil {
					err = s.Close()
				}
				errs[i] = err
			})
		}
		group.Wait()
		for _, err := range errs {
			require.NoError(t, err)
		}
	}
}

// TestALockIsWaitedForNoLongerThanOneHasTime holds the lock while another wants it.
func TestALockIsWaitedForNoLongerThanOneHasTime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.lock")
	unlock, err := durable.Lock(t.Context(), path, lockPatience)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err = durable.Lock(ctx, path, lockPatience)
	assert.ErrorContains(t, err, "another process has kept")
	unlock()
	unlock, err = durable.Lock(t.Context(), path, lockPatience)
	require.NoError(t, err)
	unlock()
}
