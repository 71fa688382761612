package postgres

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"andamio/internal/store"
	"andamio/internal/store/postgres/server"
	"andamio/internal/store/storetest"
)

// shared has the server that the tests of this package ask, each in schemas of its own.
var shared server.Shared

func TestMain(m *testing.M) {
	code := m.Run()
	shared.Close()
	os.Exit(code)
}

// envStore is the address that a process of a test is to open.
const envStore = "ANDAMIO_TEST_POSTGRES"

var noName = regexp.MustCompile(`[^a-z0-9]+`)

// schemaOf is a schema for a name, as files have it; the same for the same name.
func schemaOf(name string) string {
	name = noName.ReplaceAllString(strings.ToLower(name), "_")
	return "w" + name[max(0, len(name)-60):]
}

// needed is the server.
func needed(t *testing.T) *server.Server {
	t.Helper()
	db, err := shared.Server()
	require.NoError(t, err)
	if db == nil {
		t.Skip("PostgreSQL is not installed: nothing is tried with it (make test installs it)")
	}
	return db
}

func open(t *testing.T, name string) *Store {
	t.Helper()
	s, err := Open(t.Context(), needed(t).Address(schemaOf(name)), "")
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestItIsAStore(t *testing.T) {
	storetest.Run(t, func(t *testing.T, name string) store.Store { return open(t, name) })
}

func TestItKeepsMeasures(t *testing.T) {
	storetest.RunMeasures(t, func(t *testing.T, name string) store.MeasuresStore { return open(t, name).Measures() })
}
