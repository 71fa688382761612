package sqlite

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// aRun makes a run and claims it.
func aRun(t *testing.T, s *Store) (id, epoch int64) {
	t.Helper()
	p, err := s.SavePlan(t.Context(), &plan.Plan{Version: plan.Version, Name: "level"})
	require.NoError(t, err)
	id, err = s.CreateRun(t.Context(), store.Run{Plan: p})
	require.NoError(t, err)
	epoch, err = s.Claim(t.Context(), id, 0, store.WorkerOn("host", os.Getpid()), func(store.Run) bool { return false })
	require.NoError(t, err)
	return id, epoch
}

// TestAJournalWaitsForOthersThatWrite has another process hold the write lock for longer than a statement waits.
func TestAJournalWaitsForOthersThatWrite(t *testing.T) {
	path := filepath.Join(t.TempDir(), "andamio.db")
	s, err := openFile(t.Context(), path, 20*time.Millisecond)
	require.NoError(t, err)
	defer s.Close()
	id, epoch := aRun(t, s)
	j, err := s.Journal(t.Context(), id, epoch)
	require.NoError(t, err)
	defer j.Close()
	other, err := sql.Open("sqlite", dsn(path, time.Second))
	require.NoError(t, err)
	defer other.Close()
	hold, err := other.Begin()
	require.NoError(t, err)
	written := make(chan error, 1)
	go func() { written <- j.Append(run.Event{Kind: run.Logged, Text: "waits"}) }()
	select {
	case err := <-written:
		t.Fatalf("it did not wait: %v", err)
	case <-time.After(300 * time.Millisecond):
	}
	require.NoError(t, hold.Rollback())
	require.NoError(t, <-written)
	events, err := s.Events(t.Context(), id, 0, 10)
	require.NoError(t, err)
	require.Len(t, events, 1)
}

func TestANewerSchemaIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "andamio.db")
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	id, epoch := aRun(t, s)
	_, err = s.db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)`, s.Schema()+1)
	require.NoError(t, err)
	_, err = s.Claim(t.Context(), id, epoch, "host/1", func(store.Run) bool { return false })
	require.ErrorIs(t, err, store.ErrNewer, "one that was opened before begins nothing more")
	_, err = s.SavePlan(t.Context(), &plan.Plan{})
	require.ErrorIs(t, err, store.ErrNewer)
	require.NoError(t, s.Close())
	_, err = Open(t.Context(), path)
	require.ErrorIs(t, err, store.ErrNewer)
	require.ErrorContains(t, err, fmt.Sprintf("its schema is %d", s.Schema()+1))
}

// wayBack is what undoes the migration of a version.
func wayBack(t *testing.T, version int64) string {
	found, err := filepath.Glob(fmt.Sprintf("migrations/%04d_*.sql", version))
	require.NoError(t, err)
	require.Len(t, found, 1)
	text, err := os.ReadFile(found[0])
	require.NoError(t, err)
	_, back, has := strings.Cut(string(text), "-- +goose Down")
	require.True(t, has)
	return back
}

// TestACopyIsMadeBeforeTheSchemaChanges goes back to the schema before, and opens again.
func TestACopyIsMadeBeforeTheSchemaChanges(t *testing.T) {
	path := filepath.Join(t.TempDir(), "andamio.db")
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	assert.Empty(t, s.copied, "there was nothing to copy")
	aRun(t, s)
	ours := s.Schema()
	_, err = s.db.Exec(wayBack(t, ours))
	require.NoError(t, err)
	_, err = s.db.Exec(`DELETE FROM goose_db_version WHERE version_id = ?`, ours)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	require.NoError(t, os.WriteFile(fmt.Sprintf("%s.before-%04d.part", path, ours), []byte("broke off"), 0o600))
	s, err = Open(t.Context(), path)
	require.NoError(t, err)
	defer s.Close()
	require.NotEmpty(t, s.copied)
	db, err := sql.Open("sqlite", dsn(s.copied, time.Second))
	require.NoError(t, err)
	defer db.Close()
	var runs, schema int64
	require.NoError(t, db.QueryRow(`SELECT count(*) FROM runs`).Scan(&runs))
	require.NoError(t, db.QueryRow(`SELECT max(version_id) FROM goose_db_version`).Scan(&schema))
	assert.Equal(t, []int64{1, ours - 1}, []int64{runs, schema})
	_, err = s.Source(t.Context(), "none")
	require.NoError(t, err, "the schema is ours")
}

func TestADatabaseIsItsOwnersAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "andamio.db")
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	defer s.Close()
	aRun(t, s)
	files, err := filepath.Glob(path + "*")
	require.NoError(t, err)
	require.Greater(t, len(files), 2)
	for _, f := range files {
		info, err := os.Stat(f)
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, f)
	}
}

func TestADamagedDatabaseSaysWhatToDo(t *testing.T) {
	path := filepath.Join(t.TempDir(), "andamio.db")
	require.NoError(t, os.WriteFile(path, []byte("this is no database, and long enough to be looked at as one: "+string(make([]byte, 4096))), 0o600))
	_, err := Open(t.Context(), path)
	require.ErrorContains(t, err, "is damaged")
	require.ErrorContains(t, err, "andamio restore")
	left, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(left), "this is no database", "it is left as it is")
}

func TestVerifyFindsWhatIsBroken(t *testing.T) {
	path := filepath.Join(t.TempDir(), "andamio.db")
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	defer s.Close()
	id, epoch := aRun(t, s)
	j, err := s.Journal(t.Context(), id, epoch)
	require.NoError(t, err)
	require.NoError(t, j.Append(run.Event{Kind: run.RunStarted}, run.Event{Kind: run.Logged}, run.Event{Kind: run.Logged}))
	require.NoError(t, j.Close())
	files := store.Source{Root: "t.yaml", Files: map[string][]byte{"t.yaml": []byte("x")}}
	require.NoError(t, s.KeepSource(t.Context(), files.Digest(), files))
	for range 2 {
		_, err := s.Note(t.Context(), anEntry("run 1"))
		require.NoError(t, err)
	}
	_, err = s.Propose(t.Context(), store.Proposal{Plan: 1, Created: time.Now()})
	require.NoError(t, err)
	copied := func() string {
		name := filepath.Join(t.TempDir(), "copy.db")
		require.NoError(t, s.CopyTo(t.Context(), name))
		return name
	}
	got, err := Verify(t.Context(), copied())
	require.NoError(t, err)
	assert.Equal(t, &Verified{Plans: 1, Runs: 1, Events: 3, Schema: s.Schema()}, got)
	for _, c := range []struct{ sql, want string }{
		{`DELETE FROM plans`, "run 1 is of a plan that is not there"},
		{`UPDATE runs SET wanted = 77`, "run 1 leads to a plan"},
		{`UPDATE runs SET deployment = 77`, "run 1 is of a deployment"},
		{`DELETE FROM events WHERE seq = 2`, "journal of run 1 has a hole"},
		{`DELETE FROM runs`, "without its run"},
		{`UPDATE sources SET body = '{"root":"t.yaml","files":{}}'`, "with files of the digest"},
		{`UPDATE sources SET body = 'x'`, "cannot be read"},
		{`UPDATE plans SET body = 'x'`, "plan 1 cannot be read"},
		{`UPDATE proposals SET plan = 77`, "proposal 1 is of a plan"},
		{`DROP TRIGGER trail_is_not_changed; UPDATE trail SET who = 'eva' WHERE seq = 1`, "of the trail of what was done, entry 1 was changed"},
		{`DROP TRIGGER trail_is_not_shortened; DELETE FROM trail WHERE seq = 2`, "of the trail of what was done, entry 2 and those up to 2 are missing"},
	} {
		name := copied()
		db, err := sql.Open("sqlite", "file:"+name)
		require.NoError(t, err)
		_, err = db.Exec(c.sql)
		require.NoError(t, err)
		require.NoError(t, db.Close())
		_, err = Verify(t.Context(), name)
		assert.ErrorContains(t, err, c.want, c.sql)
	}
	broken := copied()
	data, err := os.ReadFile(broken)
	require.NoError(t, err)
	for i := 4096; i < len(data) && i < 5*4096; i++ {
		data[i] ^= 0x5a
	}
	require.NoError(t, os.WriteFile(broken, data, 0o600))
	_, err = Verify(t.Context(), broken)
	require.Error(t, err)
}
