package crash

import (
	"context"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"andamio/internal/store/postgres/server"
	"andamio/internal/testprogram"
)

var program string

func TestMain(m *testing.M) { testprogram.Main(m, &program, databases.Close) }

// databases has the server of those trials whose workspaces are kept in a database.
var databases server.Shared

// database is the server, where the tests of a name have their workspaces in one: some do, and all where the environment says so.
func database(t *testing.T, some bool) *server.Server {
	t.Helper()
	if !some && os.Getenv("ANDAMIO_TEST_STORES") != "postgres" {
		return nil
	}
	db, err := databases.Server()
	require.NoError(t, err)
	return db // nil where PostgreSQL is not installed
}

// TestARunSurvivesAnything is the short form of make soak: workers killed with SIGKILL at random instants, every fault on.
func TestARunSurvivesAnything(t *testing.T) {
	out, err := Trial{Program: program, Dir: t.TempDir(), Seed: 1, Kills: 24, Faults: 0.02, Pace: 0.02, Log: t.Logf}.Run(context.Background())
	t.Logf("%+v", out)
	require.NoError(t, err)
}

// TestAMoveSurvivesAnything is the short form of make soak for moves: never do two sides serve, no block is lost.
func TestAMoveSurvivesAnything(t *testing.T) {
	kills := 12
	if n, err := strconv.Atoi(os.Getenv("ANDAMIO_MOVE_KILLS")); err == nil {
		kills = n
	}
	out, err := Trial{Program: program, Dir: t.TempDir(), Seed: uint64(time.Now().UnixNano() % 1e6), Kills: kills, Pace: 0.02, Log: t.Logf}.Moves(context.Background())
	t.Logf("%+v", out)
	require.NoError(t, err)
}

// TestWholeLivesOnStandIns is the short form of make soak for lives: whatever is done to deployments one after another,
// the sites hold what is declared, everything serves, nothing disagrees and nothing is lost.
func TestWholeLivesOnStandIns(t *testing.T) {
	lives, acts := 10, 6
	if n, err := strconv.Atoi(os.Getenv("ANDAMIO_LIVES")); err == nil {
		lives, acts = n, 10
	}
	first := uint64(time.Now().UnixNano() % 1e6)
	if n, err := strconv.ParseUint(os.Getenv("ANDAMIO_SEED"), 10, 64); err == nil {
		first = n
	}
	for n := range lives {
		t.Run(strconv.FormatUint(first+uint64(n), 10), func(t *testing.T) {
			t.Parallel()
			trial := Trial{Dir: t.TempDir(), Seed: first + uint64(n), Pace: 0.01, Log: t.Logf, Database: database(t, n%5 == 2)}
			if n%2 == 1 { // its workers are processes, and some are killed
				trial.Program, trial.Kills = program, 3
			}
			out, err := trial.Life(t.Context(), acts)
			t.Logf("%+v", out)
			require.NoError(t, err)
		})
	}
}
