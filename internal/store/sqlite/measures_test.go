package sqlite

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/measure"
	"andamio/internal/store"
	"andamio/internal/store/storetest"
)

func openMeasures(t *testing.T, path string) *Measures {
	t.Helper()
	m, err := OpenMeasures(ctx, path)
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	return m
}

func TestItKeepsMeasures(t *testing.T) {
	storetest.RunMeasures(t, func(t *testing.T, name string) store.MeasuresStore { return openMeasures(t, name) })
}

func TestMeasuresThatCannotBeUsedAreSaidToBe(t *testing.T) {
	path := filepath.Join(t.TempDir(), "measures.db")
	require.NoError(t, openMeasures(t, path).Close())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (999, 1)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = OpenMeasures(ctx, path)
	require.ErrorIs(t, err, store.ErrNewer)
	require.NoError(t, os.WriteFile(path, []byte("this is no database, however long it is looked at"), 0o600))
	_, err = OpenMeasures(ctx, path)
	assert.ErrorContains(t, err, "removes the file")
	_, err = OpenMeasures(ctx, filepath.Join(t.TempDir(), "nowhere", "m.db"))
	assert.Error(t, err)
}

// TestNothingOfMeasuresIsKeptByHalves has each statement of each write fail, and holds that nothing is changed then.
func TestNothingOfMeasuresIsKeptByHalves(t *testing.T) {
	writes := map[string]func(m *Measures, c *cutting) error{
		"things": func(m *Measures, c *cutting) error {
			_, err := m.KeepThings(c, []measure.Thing{{Key: "a"}, {Key: "b"}})
			return err
		},
		"tails": func(m *Measures, c *cutting) error {
			return m.KeepTails(c, []measure.Tail{{From: 3, Body: []byte("x")}, {From: 4, Body: []byte("y")}})
		},
		"rows": func(m *Measures, c *cutting) error {
			return m.KeepRows(c, []measure.Row{{Thing: 1, Body: []byte("x")}, {Thing: 2, Body: []byte("y")}}, 9)
		},
		"drop": func(m *Measures, c *cutting) error { return m.Drop(c, measure.Raw, 99) },
	}
	for name, write := range writes {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for at := int64(1); at < 40; at++ {
				path := filepath.Join(t.TempDir(), "m.db")
				m := openMeasures(t, path)
				require.NoError(t, m.KeepTails(ctx, []measure.Tail{{From: 1, Body: []byte("t")}}))
				require.NoError(t, m.KeepRows(ctx, []measure.Row{{Thing: 7, Body: []byte("r")}}, -1))
				before := contents(t, path)
				c := &cutting{Context: ctx, at: at}
				err := write(m, c)
				if !c.cut.Load() {
					require.NoError(t, err)
					assert.NotEqual(t, before, contents(t, path))
					return
				}
				if err != nil {
					assert.Equal(t, before, contents(t, path), "cut at %d", at)
				}
			}
			t.Error("it asks too often")
		})
	}
}
