package crash

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/replicas"
)

// TestFailingOverSurvivesAnything keeps copies of a workload elsewhere, fails over to them, and commits or goes back, with workers that are killed at random: what
// is begun with is what was kept of one moment, never two sides are on, and nothing is left.
func TestFailingOverSurvivesAnything(t *testing.T) {
	kills := 10
	if n, err := strconv.Atoi(os.Getenv("ANDAMIO_FAILOVER_KILLS")); err == nil {
		kills = n
	}
	out, err := Trial{Program: program, Dir: t.TempDir(), Seed: uint64(time.Now().UnixNano() % 1e6), Kills: kills, Pace: 0.02, Log: t.Logf}.FailOvers(t.Context())
	t.Logf("%+v", out)
	require.NoError(t, err)
}

// FailOvers fails a workload over until so many workers were killed.
func (t Trial) FailOvers(ctx context.Context) (Result, error) {
	begun := time.Now()
	r := rand.New(rand.NewPCG(t.Seed, 19))
	m, err := t.beginMoving(ctx, r)
	if err != nil {
		return Result{}, err
	}
	defer m.close()
	m.copies = true
	return t.rounds(ctx, m, r, begun)
}

// carry carries an order out, with kills.
func (m *mover) carry(ctx context.Context, r *rand.Rand, o deployments.Order, out *Result) error {
	id, err := m.a.NewRun(ctx, o)
	if err != nil {
		return err
	}
	return m.t.toTheEnd(ctx, m.a, r, id, out)
}

// failOver keeps copies at another site, twice, goes on there, and commits or goes back.
func (m *mover) failOver(ctx context.Context, r *rand.Rand, out *Result) error {
	to := m.at
	for to == m.at {
		to = m.sites[r.IntN(len(m.sites))]
	}
	m.t.Log("copies from %s to %s", m.at, to)
	for range 1 + r.IntN(2) {
		o, err := m.a.Replicating(ctx, m.deployment, replicas.Request{Site: to, Barrier: r.IntN(2) == 0}, time.Now())
		if err != nil {
			return err
		}
		if err := m.carry(ctx, r, o, out); err != nil {
			return err
		}
	}
	kept, err := m.kept(ctx, to)
	if err != nil {
		return err
	}
	d, err := m.a.DraftFailOver(ctx, m.deployment, moves.FailOver{To: to})
	if err != nil {
		return err
	}
	id, runID, err := m.a.StartMove(ctx, d, nil)
	if err != nil {
		return err
	}
	there, err := m.there(ctx, r, runID, out)
	if err != nil {
		return err
	}
	if !there {
		return m.end(ctx, r, id, to, false, out)
	}
	if err := m.begunWith(ctx, kept, to); err != nil {
		return err
	}
	return m.end(ctx, r, id, to, r.IntN(2) == 0, out)
}

// kept are the digests of what is kept at a site, by disk, which are those of the snapshots that were copied from.
func (m *mover) kept(ctx context.Context, to string) (map[string]string, error) {
	d, err := m.a.Deployment(ctx, m.deployment)
	if err != nil {
		return nil, err
	}
	p, set := d.Stand.Plan, change.NewestCopy(d.Stand, to)
	out := map[string]string{}
	for _, id := range []string{theHost, "log-vol-1"} {
		from := change.SnapshotID(id, change.ShippedPrefix+strings.TrimPrefix(set, change.CopiedPrefix))
		was, err := m.box.DiskDigest(m.at, p.Known[from]["site.id"])
		if err != nil {
			return nil, err
		}
		is, err := m.box.DiskDigest(to, p.Known[change.SnapshotID(change.CopyID(id, to), set)]["site.id"])
		if err != nil {
			return nil, err
		}
		if was != is {
			return nil, fmt.Errorf("of %s there was %s, and %s is kept", id, was, is)
		}
		if id == theHost && p.Resource(from).AsSnapshot().Barrier {
			continue // it stood still when it was kept, and is switched on as one that did not: its disk says so
		}
		out[id] = is
	}
	return out, nil
}

// begunWith checks that the workload was switched on with what was kept, and serves.
func (m *mover) begunWith(ctx context.Context, kept map[string]string, to string) error {
	d, err := m.a.Deployment(ctx, m.deployment)
	if err != nil {
		return err
	}
	there := m.box.Digests()
	for id, digest := range kept {
		if now := d.Stand.Plan.Known[id]["site.id"]; there[now] != digest {
			return fmt.Errorf("%s had %s on it when it was switched on at %s, and %s was kept", id, there[now], to, digest)
		}
	}
	return m.serves(ctx, to)
}

// drop takes the copies at a site away.
func (m *mover) drop(ctx context.Context, r *rand.Rand, at string, out *Result) error {
	o, err := m.a.DroppingReplica(ctx, m.deployment, at)
	if err != nil {
		return err
	}
	return m.carry(ctx, r, o, out)
}
