package sqlite

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/durable"
	"andamio/internal/store"
)

// aged is a database as a program of some time ago left it: its schema is of that version.
func aged(t *testing.T, version int64) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "andamio.db")
	db := connect(dsn(path, time.Second))
	defer db.Close()
	p, err := goose.NewProvider(goose.DialectSQLite3, db, folder(migrations, "migrations"), goose.WithLogger(goose.NopLogger()))
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), version)
	require.NoError(t, err)
	return path
}

// TestADatabaseOfAnyAgeIsLookedAtAndBroughtUpToDate finds each one whole, looks in each for what it can have wrong, and brings it up to date, with a copy of it as it was; of one that is new there is nothing to copy.
func TestADatabaseOfAnyAgeIsLookedAtAndBroughtUpToDate(t *testing.T) {
	t.Parallel()
	type row map[string]any
	wrong := map[int64]struct {
		table string
		row   row
		want  string
	}{
		1:                 {"runs", row{"id": 7, "plan": 5, "state": "waiting"}, "run 7 is of a plan that is not there"},
		sinceReservations: {"reservations", row{"site": "vega", "value": "vlan 7", "run": 9}, "an address is reserved for run 9, which is not there"},
		sinceDeployments:  {"runs", row{"id": 7, "plan": 5, "state": "waiting", "deployment": 4}, "run 7 is of a deployment that is not there"},
		sinceSources:      {"sources", row{"digest": "0123", "body": "x"}, "the files of the template 0123 cannot be read"},
		sinceTrail:        {"trail", row{"seq": 1}, "of the trail of what was done"},
		sinceProposals:    {"proposals", row{"id": 3, "plan": 5}, "proposal 3 is of a plan that is not there"},
	}
	newest := int64(0)
	for version := int64(1); version == 1 || version <= newest; version++ {
		path := aged(t, version)
		got, err := Verify(t.Context(), path)
		require.NoError(t, err, "version %d", version)
		assert.Equal(t, &Verified{Schema: version}, got)
		if c, has := wrong[version]; has {
			bad := aged(t, version)
			inserted(t, bad, c.table, c.row)
			_, err = Verify(t.Context(), bad)
			require.ErrorContains(t, err, c.want, "version %d", version)
		}
		s, err := Open(t.Context(), path)
		require.NoError(t, err, "version %d", version)
		newest = s.Schema()
		copied := s.CopiedTo()
		require.NoError(t, s.Close())
		if version == newest {
			assert.Empty(t, copied, "it was up to date")
			continue
		}
		assert.Equal(t, fmt.Sprintf("%s.before-%04d", path, newest), copied)
		was, err := Verify(t.Context(), copied)
		require.NoError(t, err)
		assert.Equal(t, version, was.Schema)
		assert.Equal(t, ", or use the copy "+copied, lastCopy(path))
	}
	fresh := filepath.Join(t.TempDir(), "andamio.db")
	s, err := Open(t.Context(), fresh)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	assert.Empty(t, s.CopiedTo())
	assert.Empty(t, lastCopy(fresh))
}

// inserted writes a row, with 0 in each column that must have something and is given nothing.
func inserted(t *testing.T, path, table string, row map[string]any) {
	t.Helper()
	db := connect("file:" + path)
	defer db.Close()
	rows, err := db.Query(`SELECT name FROM pragma_table_info(?) WHERE "notnull" = 1 AND dflt_value IS NULL`, table)
	require.NoError(t, err)
	defer rows.Close()
	all := map[string]any{}
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		all[name] = 0
	}
	require.NoError(t, rows.Err())
	maps.Copy(all, row)
	var columns, marks []string
	var values []any
	for name, v := range all {
		columns, marks, values = append(columns, name), append(marks, "?"), append(values, v)
	}
	_, err = db.Exec(fmt.Sprintf(`INSERT INTO %s (%s) VALUES (%s)`, table, strings.Join(columns, ", "), strings.Join(marks, ", ")), values...)
	require.NoError(t, err)
}

// TestADatabaseThatCannotBeUsedSaysWhy names the file and the reason, leaves nothing open, and nothing of it changed.
func TestADatabaseThatCannotBeUsedSaysWhy(t *testing.T) {
	t.Parallel()
	nowhere := filepath.Join(t.TempDir(), "none", "andamio.db")
	folderIs := t.TempDir()
	for name, c := range map[string]struct {
		path string
		is   error
	}{"there is no folder": {nowhere, os.ErrNotExist}, "it is a folder": {folderIs, nil}} {
		_, err := openFile(t.Context(), c.path, time.Second)
		require.Error(t, err, name)
		assert.ErrorContains(t, err, c.path, name)
		_, err = OpenMeasures(t.Context(), c.path)
		require.Error(t, err, name)
		if c.is != nil {
			assert.ErrorIs(t, err, c.is, name)
		}
	}
	newer := filepath.Join(t.TempDir(), "andamio.db")
	s, err := Open(t.Context(), newer)
	require.NoError(t, err)
	_, err = s.db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)`, s.Schema()+1)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	for range 3 {
		_, err = openFile(t.Context(), newer, time.Second)
		require.ErrorIs(t, err, store.ErrNewer)
	}
	assert.Empty(t, opened(t, newer), "what cannot be used is closed again")
	blocked := aged(t, 5)
	require.NoError(t, os.MkdirAll(blocked+".before-"+fmt.Sprintf("%04d", s.Schema())+".part/full", 0o700))
	_, err = openFile(t.Context(), blocked, time.Second)
	require.ErrorContains(t, err, "no copy can be made before the schema is brought from 5 to")
	was, err := Verify(t.Context(), blocked)
	require.NoError(t, err)
	assert.Equal(t, int64(5), was.Schema, "so it stays as it is")
	odd := aged(t, 5)
	db := connect("file:" + odd)
	_, err = db.Exec(`CREATE TABLE sources (x INTEGER)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = openFile(t.Context(), odd, time.Second)
	require.ErrorContains(t, err, "sources", "the next schema does not fit what somebody made there")
	was, err = Verify(t.Context(), lastOf(t, odd))
	require.NoError(t, err)
	assert.Equal(t, int64(5), was.Schema, "and there is a copy of what was")

	torn := aged(t, 5)
	data, err := os.ReadFile(torn)
	require.NoError(t, err)
	for i := len(data) - 4096; i < len(data); i++ {
		data[i] = 0xff
	}
	require.NoError(t, os.WriteFile(torn, data, 0o600))
	_, err = openFile(t.Context(), torn, time.Second)
	require.ErrorContains(t, err, "no copy can be made before the schema is brought from 5 to", "what cannot be copied whole stays as it is")
	db = connect("file:" + torn + "?mode=ro")
	var schema int64
	require.NoError(t, db.QueryRow(`SELECT max(version_id) FROM goose_db_version`).Scan(&schema))
	require.NoError(t, db.Close())
	assert.Equal(t, int64(5), schema)

	held := aged(t, s.Schema())
	unlock, err := durable.Lock(t.Context(), held+".lock", time.Second)
	require.NoError(t, err)
	soon, over := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer over()
	_, err = Open(soon, held)
	require.ErrorContains(t, err, held, "somebody else is at it")
	_, err = OpenMeasures(soon, held)
	require.ErrorContains(t, err, held)
	unlock()

	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Verify(gone, newer)
	require.Error(t, err)
	_, err = openFile(gone, newer, time.Second)
	require.ErrorIs(t, err, context.Canceled)
	_, err = OpenMeasures(gone, filepath.Join(t.TempDir(), "measures.db"))
	require.ErrorIs(t, err, context.Canceled)
}

// lastOf is the copy that was made of a database before its schema was brought up to date.
func lastOf(t *testing.T, path string) string {
	t.Helper()
	all, err := filepath.Glob(path + ".before-*")
	require.NoError(t, err)
	require.Len(t, all, 1)
	return all[0]
}

// opened are the files that this process has open whose names begin so.
func opened(t *testing.T, path string) (out []string) {
	t.Helper()
	fds, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return nil // elsewhere it is not told
	}
	for _, fd := range fds {
		if at, err := os.Readlink("/proc/self/fd/" + fd.Name()); err == nil && strings.HasPrefix(at, path) {
			out = append(out, at)
		}
	}
	return out
}

// TestManyAskAtOnceAndStayConnected keeps as many connections as asked at once, for those who ask next.
func TestManyAskAtOnceAndStayConnected(t *testing.T) {
	t.Parallel()
	s, err := Open(t.Context(), filepath.Join(t.TempDir(), "andamio.db"))
	require.NoError(t, err)
	defer s.Close()
	const many = 8
	var all, here sync.WaitGroup
	here.Add(many)
	for range many {
		all.Go(func() {
			c, err := s.db.Conn(t.Context())
			here.Done()
			if !assert.NoError(t, err) {
				return
			}
			here.Wait()
			assert.NoError(t, c.Close())
		})
	}
	all.Wait()
	assert.GreaterOrEqual(t, s.db.Stats().Idle, many)
}

// TestWhatTheDatabaseItselfFindsIsSaid tells what SQLite finds of a file whose rows refer to none.
func TestWhatTheDatabaseItselfFindsIsSaid(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "andamio.db")
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	db := connect("file:" + path)
	_, err = db.Exec(`CREATE TABLE gauges (id INTEGER PRIMARY KEY); CREATE TABLE levels (gauge INTEGER REFERENCES gauges (id)); INSERT INTO levels VALUES (5), (6)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Verify(t.Context(), path)
	require.Error(t, err)
	assert.Equal(t, 2, strings.Count(err.Error(), "PRAGMA foreign_key_check: levels"))
	assert.NotContains(t, err.Error(), "integrity_check")
}
