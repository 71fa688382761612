package sqlite

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/mapping"
	"andamio/internal/core/plan/plantest"
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

func newRun(t *testing.T, s *Store) int64 {
	t.Helper()
	p := plantest.Plan(t, "drill")
	planID, err := s.SavePlan(ctx, p)
	require.NoError(t, err)
	deployment, err := s.CreateDeployment(ctx, p.Name, "", guard.Owner{})
	require.NoError(t, err)
	id, err := s.CreateRun(ctx, store.Run{Plan: planID, Deployment: deployment, Wanted: planID, Steps: 82, Limits: "{}"})
	require.NoError(t, err)
	return id
}

func anEntry(on string) trail.Entry {
	return trail.Entry{At: time.Now(), Actor: guard.Actor{Name: "ana", Way: guard.Screen}, Act: guard.BeginRun, On: on}
}

func alive(store.Run) bool { return true }

func TestItIsAStore(t *testing.T) {
	storetest.Run(t, func(t *testing.T, name string) store.Store { return open(t, name) })
}

// TestSeveralProcessesWriteAtOnce has processes note what they do and want the same run: one gets it, and nothing is lost.
func TestSeveralProcessesWriteAtOnce(t *testing.T) {
	if path := os.Getenv("ANDAMIO_TEST_STORE"); path != "" {
		writeBesideOthers(t, open(t, path))
		return
	}
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	id := newRun(t, s)
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			cmd := exec.CommandContext(t.Context(), os.Args[0], "-test.run=^TestSeveralProcessesWriteAtOnce$")
			cmd.Env = append(os.Environ(), "ANDAMIO_TEST_STORE="+path)
			out, err := cmd.CombinedOutput()
			assert.NoError(t, err, string(out))
		})
	}
	group.Wait()
	r, err := s.Run(ctx, id)
	require.NoError(t, err)
	assert.EqualValues(t, 1, r.Epoch, "one of them got it")
	v, err := s.VerifyTrail(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, v.Wrong)
	assert.EqualValues(t, 4*10+1, v.Last().Seq, "and noted that")
}

// writeBesideOthers is what each of the processes does.
func writeBesideOthers(t *testing.T, s *Store) {
	note := func(act guard.Act) {
		_, err := s.Note(ctx, trail.Entry{At: time.Now(), Actor: guard.Actor{Name: "ana", Way: guard.Command}, Act: act, On: "run 1"})
		require.NoError(t, err)
	}
	for range 10 {
		note(guard.Confirm)
	}
	switch _, err := s.Claim(ctx, 1, 0, store.WorkerOn("host", os.Getpid()), alive); {
	case err == nil:
		note(guard.BeginRun)
	default:
		require.ErrorIs(t, err, store.ErrTaken)
	}
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
