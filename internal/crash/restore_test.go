package crash

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/sandbox"
	"andamio/internal/service/snapshots"
)

// TestRestoringSurvivesAnything takes snapshots of a workload that writes all the time, restores them and drops them, with workers that are killed at random, where sites keep snapshots
// and where disks are copied: it is switched on with what was kept of one moment, and nothing is left over.
func TestRestoringSurvivesAnything(t *testing.T) {
	kills := 8
	if n, err := strconv.Atoi(os.Getenv("ANDAMIO_RESTORE_KILLS")); err == nil {
		kills = n
	}
	for name, copied := range map[string]bool{"kept": false, "copied": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			trial := Trial{Program: program, Dir: t.TempDir(), Seed: uint64(time.Now().UnixNano() % 1e6), Kills: kills, Pace: 0.02, Log: t.Logf, Copied: copied}
			out, err := trial.Restores(t.Context())
			t.Logf("seed %d: %+v", trial.Seed, out)
			require.NoError(t, err)
		})
	}
}

// Restores restores a workload until so many workers were killed.
func (t Trial) Restores(ctx context.Context) (out Result, err error) {
	begun := time.Now()
	r := rand.New(rand.NewPCG(t.Seed, 23))
	m, err := t.beginMoving(ctx, r)
	if err != nil {
		return out, err
	}
	defer m.close()
	for n := 0; out.Kills < t.Kills; n++ {
		if err := m.restore(ctx, r, fmt.Sprintf("round-%d", n), &out); err != nil {
			return out, fmt.Errorf("round %d of seed %d, after %d kills: %w", n, t.Seed, out.Kills, err)
		}
	}
	out.Seconds = time.Since(begun).Seconds()
	return out, nil
}

// restore takes a set, has the workload write on, restores the set, and drops it with what was kept before.
func (m *mover) restore(ctx context.Context, r *rand.Rand, set string, out *Result) error {
	o, err := m.a.Taking(ctx, m.deployment, snapshots.TakeRequest{Name: set, Barrier: r.IntN(2) == 0}, time.Now())
	if err != nil {
		return err
	}
	if err := m.carry(ctx, r, o, out); err != nil {
		return err
	}
	kept, err := m.keptIn(ctx, set)
	if err != nil {
		return err
	}
	off := r.IntN(2) == 0
	if off { // what is switched on writes, and its disks hold more then
		if err := m.power(ctx, r, false, out); err != nil {
			return err
		}
	}
	o, err = m.a.Restoring(ctx, m.deployment, snapshots.RestoreRequest{Set: set, Discard: r.IntN(2) == 0}, time.Now())
	if err != nil {
		return err
	}
	if err := m.carry(ctx, r, o, out); err != nil {
		return err
	}
	if off {
		if err := errors.Join(m.holds(ctx, kept), m.power(ctx, r, true, out)); err != nil {
			return err
		}
	}
	if err := m.serves(ctx, m.at); err != nil {
		return err
	}
	return m.dropAll(ctx, r, out)
}

// power switches the workload off or on, with kills.
func (m *mover) power(ctx context.Context, r *rand.Rand, on bool, out *Result) error {
	o, err := m.a.Powering(ctx, m.deployment, "", on)
	if err != nil {
		return err
	}
	return m.carry(ctx, r, o, out)
}

// holds looks that disks of what is off hold what was kept of them.
func (m *mover) holds(ctx context.Context, kept map[string]string) error {
	d, err := m.a.Deployment(ctx, m.deployment)
	if err != nil {
		return err
	}
	for id, want := range kept {
		got, err := m.box.DiskDigest(m.at, d.Stand.Plan.Known[id]["site.id"])
		if err != nil {
			return err
		}
		if got != want {
			return fmt.Errorf("%s holds %s, and %s was kept", id, got, want)
		}
	}
	return nil
}

// keptIn are the digests of what a set keeps, by disk: its volume alone where the machine stood still for it, since a system that is restored then notes on its disk that it was off.
func (m *mover) keptIn(ctx context.Context, set string) (map[string]string, error) {
	d, err := m.a.Deployment(ctx, m.deployment)
	if err != nil {
		return nil, err
	}
	if !change.Whole(d.Stand, set) {
		return nil, fmt.Errorf("the run that took %s stands, and it is not whole", set)
	}
	out := map[string]string{}
	for _, id := range []string{theHost, "log-vol-1"} {
		snapshot := change.SnapshotID(id, set)
		if id == theHost && d.Stand.Plan.Resource(snapshot).AsSnapshot().Barrier {
			continue
		}
		if out[id], err = m.box.DiskDigest(m.at, d.Stand.Plan.Known[snapshot]["site.id"]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// dropAll drops all sets, and looks that no snapshot is left at the site, nor a copy that is one.
func (m *mover) dropAll(ctx context.Context, r *rand.Rand, out *Result) error {
	sets, err := m.a.Snapshots(ctx, m.deployment)
	if err != nil {
		return err
	}
	for _, s := range sets {
		o, err := m.a.DroppingSnapshot(ctx, m.deployment, s.Name)
		if err != nil {
			return err
		}
		if err := m.carry(ctx, r, o, out); err != nil {
			return err
		}
	}
	volumes := 0 // a copy that is left is one
	for _, h := range m.box.Holds() {
		switch {
		case h.Term == "snapshot":
			return fmt.Errorf("a snapshot is left at %s: %+v", h.Site, h)
		case h.Term == "storage":
			volumes++
		}
	}
	if volumes != 1 {
		return fmt.Errorf("there are %d volumes, and one is wanted: %+v", volumes, m.box.Holds())
	}
	return nil
}

// withoutSnapshots has no stand-in keep snapshots of its own.
func withoutSnapshots(features []string) []string {
	return append(slices.DeleteFunc(slices.Clone(features), func(f string) bool { return f == "snapshots" }), sandbox.FeatureNoSnapshots)
}
