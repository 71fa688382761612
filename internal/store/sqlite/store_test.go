package sqlite

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/mapping"
	"andamio/internal/core/quota"
	"andamio/internal/core/trail"
	"andamio/internal/store"
	"andamio/internal/store/storetest"
)

var ctx = context.Background()

func open(t *testing.T, path string) *Store {
	t.Helper()
	s, err := Open(ctx, path)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func anEntry(on string) trail.Entry {
	return trail.Entry{At: time.Now(), Actor: guard.Actor{Name: "ana", Way: guard.Screen}, Act: guard.BeginRun, On: on}
}

func TestItIsAStore(t *testing.T) {
	storetest.Run(t, func(t *testing.T, name string) store.Store { return open(t, name) })
}

func TestManyProcessesUseOneStore(t *testing.T) {
	storetest.Processes(t, t.Name(), "ANDAMIO_TEST_STORE", filepath.Join(t.TempDir(), "a.db"), func(t *testing.T, address string) store.Store { return open(t, address) })
}

func TestTheDatabaseItselfLetsNoQuotaBeOverrun(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	_, err := s.HoldQuota(ctx, store.Hold{Request: 1, State: quota.Held, At: time.Now()}, []quota.Take{{Account: "team", Measure: quota.Cores, Amount: 4, Most: 4}})
	require.NoError(t, err)
	_, err = s.db.ExecContext(ctx, `UPDATE accounts SET taken = taken + 1`)
	assert.ErrorContains(t, err, "the quota is used up")
}

func TestWhatIsStagedGoesWithTheSurveyThatIsDone(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	now := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	id, err := s.BeginSurvey(ctx, "vega", false, []string{"a"}, now)
	require.NoError(t, err)
	require.NoError(t, s.Stage(ctx, id, store.SurveyPart{Region: "a", Kind: "volume", Cursor: "v-1"}, []mapping.Observation{{Site: "vega", ID: "v-1"}}))
	staged := func() int {
		var n int
		require.NoError(t, s.db.QueryRowContext(ctx, `SELECT count(*) FROM staged`).Scan(&n))
		return n
	}
	require.NoError(t, s.EndSurvey(ctx, id, store.SurveyStopped, now))
	assert.Equal(t, 1, staged(), "the next one goes on with it")
	require.NoError(t, s.EndSurvey(ctx, id, store.SurveyDone, now))
	assert.Zero(t, staged())
}

func TestTheDatabaseItselfKeepsTheTrail(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	_, err := s.Note(ctx, anEntry("run 1"))
	require.NoError(t, err)
	for _, change := range []string{`UPDATE trail SET who = 'eva'`, `DELETE FROM trail WHERE seq = 1`} {
		_, err := s.db.ExecContext(ctx, change)
		assert.ErrorContains(t, err, "entries of the trail are not", change)
	}
}

func TestADamagedFileIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	require.NoError(t, os.WriteFile(path, []byte("this is no database, and long enough to be looked at as one"), 0o600))
	_, err := Open(ctx, path)
	assert.ErrorContains(t, err, "is damaged")
	data, _ := os.ReadFile(path)
	assert.Contains(t, string(data), "no database", "and left as it was")
}
