package sqlite

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/quota"
	"andamio/internal/store"
)

// Eight processes ask a thousand times in all, of a quota that four hundred fit into.
const (
	askers      = 8
	asksOfEach  = 125
	fitOfThese  = 400
	envOverrun  = "ANDAMIO_TEST_OVERRUN"
	testOverrun = "TestAThousandAtOnceOverrunNothing"
)

// TestAThousandAtOnceOverrunNothing has processes take from one quota at once: as many get it as fit, and no more.
func TestAThousandAtOnceOverrunNothing(t *testing.T) {
	if path := os.Getenv(envOverrun); path != "" {
		askAgainAndAgain(t, open(t, path))
		return
	}
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	var group sync.WaitGroup
	for range askers {
		group.Go(func() {
			cmd := exec.CommandContext(t.Context(), os.Args[0], "-test.run=^"+testOverrun+"$")
			cmd.Env = append(os.Environ(), envOverrun+"="+path)
			out, err := cmd.CombinedOutput()
			assert.NoError(t, err, string(out))
		})
	}
	group.Wait()
	uses := quota.Uses(must(t)(s.Takes(ctx)), time.Now())
	require.Len(t, uses, 1)
	assert.Equal(t, quota.Use{Account: "team", Measure: quota.Cores, Most: fitOfThese, Held: fitOfThese}, uses[0])
	_, err := s.db.Exec(`UPDATE accounts SET taken = taken + 1`)
	assert.ErrorContains(t, err, "the quota is used up", "the database itself sees to it")
}

func must(t *testing.T) func([]quota.Taken, error) []quota.Taken {
	return func(all []quota.Taken, err error) []quota.Taken {
		t.Helper()
		require.NoError(t, err)
		return all
	}
}

func askAgainAndAgain(t *testing.T, s *Store) {
	for range asksOfEach {
		_, err := s.HoldQuota(ctx, store.Hold{State: quota.Held, At: time.Now()}, []quota.Take{{Account: "team", Measure: quota.Cores, Amount: 1, Most: fitOfThese}})
		var over *quota.Overrun
		if !errors.As(err, &over) {
			require.NoError(t, err)
		}
	}
}
