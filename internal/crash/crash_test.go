package crash

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"andamio/internal/testprogram"
)

var program string

func TestMain(m *testing.M) { testprogram.Main(m, &program) }

// TestARunSurvivesAnything is the short form of make soak: workers killed with SIGKILL at random instants, every fault on.
func TestARunSurvivesAnything(t *testing.T) {
	out, err := Trial{Program: program, Dir: t.TempDir(), Seed: 1, Kills: 24, Faults: 0.02, Pace: 0.02, Log: t.Logf}.Run(context.Background())
	t.Logf("%+v", out)
	require.NoError(t, err)
}
