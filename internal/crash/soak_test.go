//go:build soak

package crash

import (
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// How many kills there are if KILLS does not say, and for how many a seed is used.
const (
	soakKills = 500
	killsEach = 50
	// Whole lives are lived beside: one for so many kills, of so many acts, with so many kills of their own.
	killsALife  = 25
	soakActs    = 10
	killsInLife = 5
)

// TestSoak kills the workers of runs at random instants while the stand-ins misbehave, and checks that nothing is lost,
// doubled or left over: 500 times, or as often as KILLS says. Then it lives whole lives of deployments.
func TestSoak(t *testing.T) {
	most := soakKills
	if text := os.Getenv("KILLS"); text != "" {
		n, err := strconv.Atoi(text)
		require.NoError(t, err, "KILLS is a number")
		most = n
	}
	first := uint64(time.Now().UnixNano() % 1e6)
	all := Result{}
	for seed := first; all.Kills < most; seed++ {
		out, err := Trial{Program: program, Dir: t.TempDir(), Seed: seed, Kills: min(killsEach, most-all.Kills), Faults: 0.02, Pace: 0.02, Log: t.Logf}.Run(t.Context())
		require.NoError(t, err)
		all.Runs, all.Kills, all.Resumes, all.Seconds = all.Runs+out.Runs, all.Kills+out.Kills, all.Resumes+out.Resumes, all.Seconds+out.Seconds
		t.Logf("seed %d: %d runs survived %d kills and %d decisions, in %.0f s", seed, out.Runs, out.Kills, out.Resumes, out.Seconds)
	}
	t.Logf("%d runs survived %d kills and %d decisions in %.0f s: nothing lost, nothing doubled, nothing left over", all.Runs, all.Kills, all.Resumes, all.Seconds)
	soakLives(t, first, max(most/killsALife, 4))
}

// soakLives lives whole lives of deployments, with a few kills in each.
func soakLives(t *testing.T, first uint64, lives int) {
	all := Result{}
	for n := range lives {
		out, err := Trial{Program: program, Dir: t.TempDir(), Seed: first + uint64(n), Kills: killsInLife, Pace: 0.02, Log: t.Logf}.Life(t.Context(), soakActs)
		require.NoError(t, err)
		all.Runs, all.Kills, all.Seconds = all.Runs+out.Runs, all.Kills+out.Kills, all.Seconds+out.Seconds
	}
	t.Logf("%d lives of %d acts, %d runs and %d kills in %.0f s: what is declared is there, and nothing else", lives, soakActs, all.Runs, all.Kills, all.Seconds)
}
