package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/store"
	"andamio/internal/store/relational"
)

// counted is how many runs somebody reads.
func counted(t *testing.T, from relational.Asked) (n int) {
	t.Helper()
	require.NoError(t, from.QueryRowContext(t.Context(), `SELECT count(*) FROM runs`).Scan(&n))
	return n
}

// TestAMomentIsReadWhileOthersWrite reads a store as it was at one moment though it is written to meanwhile, leaves nothing beside it, passes on what goes wrong with what is done, and reads none that is damaged.
func TestAMomentIsReadWhileOthersWrite(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "andamio.db")
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	defer s.Close()
	aRun(t, s)
	beside := func() (out []string) {
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, e := range entries {
			if e.IsDir() {
				out = append(out, e.Name())
			}
		}
		return out
	}
	require.NoError(t, s.Snapshot(t.Context(), func(from relational.Asked) error {
		assert.Equal(t, 1, counted(t, from))
		aRun(t, s)
		assert.Equal(t, 1, counted(t, from), "as it was")
		assert.Len(t, beside(), 1)
		return nil
	}))
	assert.Empty(t, beside(), "the copy is gone")
	own := errors.New("there is no room")
	require.ErrorIs(t, s.Snapshot(t.Context(), func(from relational.Asked) error {
		assert.Equal(t, 2, counted(t, from))
		return own
	}), own)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, s.Snapshot(gone, func(relational.Asked) error { t.Error("it was read"); return nil }), context.Canceled)
	_, err = s.db.ExecContext(t.Context(), `UPDATE runs SET wanted = 77`)
	require.NoError(t, err)
	require.ErrorContains(t, s.Snapshot(t.Context(), func(relational.Asked) error { t.Error("it was read"); return nil }), "the database is damaged, and a copy of it would be")
	assert.Empty(t, beside())
}

// TestACopyTakesNothingsPlace writes no copy over what is there, and none where it cannot be.
func TestACopyTakesNothingsPlace(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, err := Open(t.Context(), filepath.Join(dir, "andamio.db"))
	require.NoError(t, err)
	defer s.Close()
	there := filepath.Join(dir, "there")
	require.NoError(t, os.WriteFile(there, []byte("mine"), 0o600))
	require.ErrorIs(t, s.CopyTo(t.Context(), there), os.ErrExist)
	text, err := os.ReadFile(there)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(text))
	require.ErrorIs(t, s.CopyTo(t.Context(), filepath.Join(dir, "none", "copy.db")), os.ErrNotExist)
	copied := filepath.Join(dir, "copy.db")
	require.NoError(t, s.CopyTo(t.Context(), copied))
	info, err := os.Stat(copied)
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077, "it is its owner's alone")
}

// TestWhoWritesIsSeen says that somebody writes while they do, and not before or after.
func TestWhoWritesIsSeen(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "andamio.db")
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	defer s.Close()
	assert.False(t, s.Busy(t.Context()))
	other, err := sql.Open("sqlite", dsn(path, time.Second))
	require.NoError(t, err)
	defer other.Close()
	hold, err := other.Begin()
	require.NoError(t, err)
	assert.True(t, s.Busy(t.Context()))
	require.NoError(t, hold.Rollback())
	assert.False(t, s.Busy(t.Context()))
	assert.False(t, busy(errors.New("another reason")))
	assert.Nil(t, s.Changed(store.TopicTrail), "nobody tells: it is looked at now and then")
}

// TestQuestionsAreParsedOnce keeps what was parsed, as many as may be kept, answers alike beyond that, and says what is wrong with one that cannot be.
func TestQuestionsAreParsedOnce(t *testing.T) {
	t.Parallel()
	s, err := Open(t.Context(), filepath.Join(t.TempDir(), "andamio.db"))
	require.NoError(t, err)
	defer s.Close()
	first := s.db.statement(t.Context(), `SELECT 1`)
	require.NotNil(t, first)
	assert.Same(t, first, s.db.statement(t.Context(), `SELECT 1`))
	assert.Nil(t, s.db.statement(t.Context(), `SELECT FROM lake`))
	_, err = s.db.QueryContext(t.Context(), `SELECT FROM lake`)
	require.ErrorContains(t, err, "syntax error")
	for i := range mostKept + 2 {
		query := fmt.Sprintf(`SELECT %d`, i+10)
		var n int
		require.NoError(t, s.db.QueryRowContext(t.Context(), query).Scan(&n))
		assert.Equal(t, i+10, n)
		rows, err := s.db.QueryContext(t.Context(), query)
		require.NoError(t, err)
		require.True(t, rows.Next())
		require.NoError(t, rows.Close())
	}
	assert.Len(t, s.db.kept, mostKept)
	assert.Nil(t, s.db.statement(t.Context(), `SELECT 999999`), "there is no room for another")
	assert.Same(t, first, s.db.statement(t.Context(), `SELECT 1`))
}

// TestHowManyEntriesThereEverWereIsTakenOver has a copy of the trail know that its last entries are missing, as the original does; where the trail is not copied nothing is.
func TestHowManyEntriesThereEverWereIsTakenOver(t *testing.T) {
	t.Parallel()
	from, err := Open(t.Context(), filepath.Join(t.TempDir(), "from.db"))
	require.NoError(t, err)
	defer from.Close()
	ever := func(s *Store) int64 {
		n, err := relational.Ever(t.Context(), asked2{s.db})
		require.NoError(t, err)
		return n
	}
	for _, already := range []bool{false, true} {
		to, err := Open(t.Context(), filepath.Join(t.TempDir(), "to.db"))
		require.NoError(t, err)
		defer to.Close()
		if already {
			_, err := to.Note(t.Context(), anEntry("run 9"))
			require.NoError(t, err)
		}
		was := ever(to)
		require.NoError(t, to.db.Settle(t.Context(), asked2{from.db}, asked2{to.db}, []string{"trail"}), "there never was any")
		assert.Equal(t, was, ever(to))
	}
	for i := range 3 {
		_, err := from.Note(t.Context(), anEntry(fmt.Sprint("run ", i)))
		require.NoError(t, err)
	}
	_, err = from.db.ExecContext(t.Context(), `DROP TRIGGER trail_is_not_shortened`)
	require.NoError(t, err)
	_, err = from.db.ExecContext(t.Context(), `DELETE FROM trail WHERE seq = 3`)
	require.NoError(t, err)
	for _, already := range []bool{false, true} {
		to, err := Open(t.Context(), filepath.Join(t.TempDir(), "to.db"))
		require.NoError(t, err)
		defer to.Close()
		if already {
			_, err := to.Note(t.Context(), anEntry("run 9"))
			require.NoError(t, err)
		}
		was := ever(to)
		require.NoError(t, to.db.Settle(t.Context(), asked2{from.db}, asked2{to.db}, []string{"runs"}))
		assert.Equal(t, was, ever(to))
		require.NoError(t, to.db.Settle(t.Context(), asked2{from.db}, asked2{to.db}, []string{"runs", "trail"}))
		assert.Equal(t, int64(3), ever(to))
		var rows int
		require.NoError(t, to.db.QueryRowContext(t.Context(), `SELECT count(*) FROM sqlite_sequence WHERE name = 'trail'`).Scan(&rows))
		assert.Equal(t, 1, rows)
		gone, cancel := context.WithCancel(t.Context())
		cancel()
		require.Error(t, to.db.Settle(gone, asked2{from.db}, asked2{to.db}, []string{"trail"}))
	}
}

// asked2 asks a database outside any transaction.
type asked2 struct{ *database }

func (a asked2) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return a.DB.ExecContext(ctx, query, args...)
}

// TestMeasuresKnowHowLargeTheyAre counts the pages that are in use, in the size that they have.
func TestMeasuresKnowHowLargeTheyAre(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "measures.db")
	m, err := OpenMeasures(t.Context(), path)
	require.NoError(t, err)
	defer m.Close()
	before, err := m.db.size(t.Context())
	require.NoError(t, err)
	assert.Positive(t, before)
	var size int64
	require.NoError(t, m.db.DB.QueryRowContext(t.Context(), `PRAGMA page_size`).Scan(&size))
	assert.Zero(t, before%size)
	_, err = m.db.ExecContext(t.Context(), `CREATE TABLE heap (x BLOB)`)
	require.NoError(t, err)
	_, err = m.db.ExecContext(t.Context(), `INSERT INTO heap VALUES (zeroblob(1048576))`)
	require.NoError(t, err)
	larger, err := m.db.size(t.Context())
	require.NoError(t, err)
	assert.InDelta(t, before+1<<20, larger, float64(8*size))
	_, err = m.db.ExecContext(t.Context(), `DROP TABLE heap`)
	require.NoError(t, err)
	after, err := m.db.size(t.Context())
	require.NoError(t, err)
	assert.Less(t, after, larger, "what is free is not in use")
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = m.db.size(gone)
	require.Error(t, err)
}
