package app

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/reconcile"
	"andamio/internal/store"
)

// seeds is how many streams of changes the property is tried with.
func seeds(t *testing.T) int {
	if n, err := strconv.Atoi(os.Getenv("ANDAMIO_DRIFT_SEEDS")); err == nil {
		return n
	}
	return 100
}

// surveyed surveys all sites and reconciles.
func surveyedAll(t *testing.T, a *App) *reconcile.Inventory {
	t.Helper()
	surveys, errs := a.SurveyAll(ctx, false, nil)
	for i, err := range errs {
		require.NoError(t, err)
		require.Equal(t, store.SurveyDone, surveys[i].State, "%+v", surveys[i])
	}
	inv, err := a.Reconcile(ctx)
	require.NoError(t, err)
	require.Empty(t, inv.Unmapped)
	return inv
}

// expected is the finding that a change by hand must lead to: its type, and the attribute that must differ.
var expected = map[sandbox.Change]struct {
	kind      inventory.Type
	attribute []string
}{
	sandbox.Resized: {inventory.Changed, []string{"cores", "memory_gib", "disk_gib", "size"}}, sandbox.Deleted: {inventory.Missing, nil},
	sandbox.Renamed: {inventory.Changed, []string{"name"}}, sandbox.Created: {inventory.Unmanaged, nil},
	sandbox.Addressed: {inventory.Changed, []string{"inside_address"}}, sandbox.Tagged: {inventory.Changed, []string{"tag.owner", "tag.ticket", "tag.night-off"}},
}

// found asserts that the findings are exactly what was done.
func found(t *testing.T, inv *reconcile.Inventory, done []sandbox.Drifted) {
	t.Helper()
	left := map[string]*inventory.Finding{}
	for i := range inv.Findings {
		f := &inv.Findings[i]
		for _, r := range []*inventory.Record{f.Observed, f.Recorded, f.Declared} {
			if r != nil {
				left[r.Site+"/"+r.Provider] = f
				break
			}
		}
	}
	require.Len(t, left, len(inv.Findings))
	for _, d := range done {
		key := d.Site + "/" + d.ID
		f := left[key]
		require.NotNil(t, f, "%s %s %s (%s) was not found", d.Change, d.Site, d.ID, d.Title)
		delete(left, key)
		want := expected[d.Change]
		assert.Equal(t, want.kind, f.Type, "%+v", d)
		for _, x := range f.Differences {
			assert.Contains(t, want.attribute, x.Attribute, "%s of %s", d.Change, d.Title)
		}
		assert.Equal(t, want.attribute != nil, len(f.Differences) > 0)
	}
	for key, f := range left {
		t.Errorf("%s was found %s and nobody did that: %v", key, f.Type, f.Why)
	}
}

// TestEveryChangeByHandIsFoundAndCanBeSettled lets the deployed scenario drift, over and over: every change is found and
// classified, nothing else is; each finding is settled in a way drawn from those that it has; and nothing disagrees
// then. Deployments go on from what the settling left.
func TestEveryChangeByHandIsFoundAndCanBeSettled(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, 0.003)
	worked(t, a, draft(t, a, nil))
	inv := surveyedAll(t, a)
	require.Empty(t, inv.Findings, "what was just built agrees")
	require.NotEmpty(t, inv.New, "and is recorded by itself")
	ways := map[string]int{}
	for seed := range uint64(seeds(t)) {
		done := box.Drift(sandbox.DriftRequest{Seed: seed, Count: 1 + int(seed%5)})
		inv = surveyedAll(t, a)
		found(t, inv, done)
		if t.Failed() {
			t.Fatalf("seed %d: %+v", seed, done)
		}
		inv = ignoredFirst(t, a, inv, seed, ways)
		settleAll(t, a, inv, seed, ways)
		inv = surveyedAll(t, a)
		for _, f := range inv.Findings {
			t.Errorf("seed %d: after settling, %s %s still: %v", seed, f.Type, f.Name, f.Why)
		}
		if t.Failed() {
			t.Fatalf("seed %d: %+v", seed, done)
		}
	}
	t.Log("settled", ways)
	for _, must := range []string{"changed adopt", "changed correct-record", "changed correct-site", "changed ignore", "missing correct-site",
		"missing retire", "missing ignore", "unmanaged adopt", "unmanaged retire", "unmanaged ignore"} {
		if seeds(t) >= 100 {
			assert.Positive(t, ways[must], "%s was never tried; tried were %v", must, slices.Sorted(maps.Keys(ways)))
		}
	}
}

// ignoredFirst ignores some of the findings: they are none then. That is undone: they are found again.
func ignoredFirst(t *testing.T, a *App, inv *reconcile.Inventory, seed uint64, ways map[string]int) *reconcile.Inventory {
	t.Helper()
	if seed%3 != 0 || len(inv.Findings) == 0 {
		return inv
	}
	var choices []reconcile.Choice
	for _, f := range inv.Findings[:1+len(inv.Findings)/2] {
		choices = append(choices, reconcile.Choice{Finding: f, Way: inventory.Ignore})
		ways[fmt.Sprintf("%s %s", f.Type, inventory.Ignore)]++
	}
	s, err := a.Settling(ctx, inv, choices, "left to its owner", time.Time{})
	require.NoError(t, err)
	act, _, err := a.Settle(ctx, s)
	require.NoError(t, err)
	after, err := a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Len(t, after.Findings, len(inv.Findings)-len(choices))
	assert.Len(t, after.Ignored, len(choices))
	_, err = a.Undo(ctx, act)
	require.NoError(t, err)
	again, err := a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Len(t, again.Findings, len(inv.Findings))
	return again
}

// settleAll settles every finding in a way drawn by the seed.
func settleAll(t *testing.T, a *App, inv *reconcile.Inventory, seed uint64, ways map[string]int) {
	t.Helper()
	rng := rand.New(rand.NewPCG(seed, 77))
	var choices []reconcile.Choice
	for _, f := range inv.Findings {
		w := f.Ways[rng.IntN(len(f.Ways)-1)] // the last is to ignore it
		choices = append(choices, reconcile.Choice{Finding: f, Way: w})
		ways[fmt.Sprintf("%s %s", f.Type, w)]++
		t.Logf("seed %d: %s %s %s: %s", seed, f.Type, f.Class, f.Name, w)
	}
	s, err := a.Settling(ctx, inv, choices, "left to its owner", time.Time{})
	if err != nil && strings.Contains(err.Error(), "there is no room for") { // said before it is begun: what has the room goes first
		settleInTurns(t, a, choices)
		return
	}
	require.NoError(t, err)
	carryOut(t, a, s)
}

func carryOut(t *testing.T, a *App, s *reconcile.Settling) {
	t.Helper()
	_, runs, err := a.Settle(ctx, s)
	require.NoError(t, err)
	for _, id := range runs {
		ended(t, a, id)
	}
}

// settleInTurns retires first what is to be retired, and asks for less room as long as there is none for the rest.
func settleInTurns(t *testing.T, a *App, choices []reconcile.Choice) {
	t.Helper()
	inv, err := a.Reconcile(ctx)
	require.NoError(t, err)
	for _, less := range []func(*reconcile.Choice){freeRoom, leaveMissing, nil} {
		var first, rest []reconcile.Choice
		for _, c := range choices {
			if c.Way == inventory.Retire {
				first = append(first, c)
			} else {
				rest = append(rest, c)
			}
		}
		if len(first) > 0 {
			s, err := a.Settling(ctx, inv, first, "left to its owner", time.Time{})
			require.NoError(t, err)
			carryOut(t, a, s)
			inv = surveyedAll(t, a)
		}
		if len(rest) == 0 {
			return
		}
		s, err := a.Settling(ctx, inv, rest, "left to its owner", time.Time{})
		if err == nil {
			carryOut(t, a, s)
			return
		}
		require.ErrorContains(t, err, "there is no room for")
		require.NotNil(t, less, "%v", err)
		for i := range rest {
			less(&rest[i])
		}
		choices = rest
	}
}

// freeRoom takes away what nobody declared instead of adopting it, gives up what is missing where nothing needs it, and leaves
// sizes as they are.
func freeRoom(c *reconcile.Choice) {
	switch {
	case c.Way == inventory.Adopt && c.Finding.Type == inventory.Unmanaged:
		c.Way = inventory.Retire
	case c.Way == inventory.CorrectSite && c.Finding.Type == inventory.Missing && c.Finding.Can(inventory.Retire):
		c.Way = inventory.Retire
	case c.Way == inventory.CorrectSite && c.Finding.Can(inventory.CorrectRecord):
		c.Way = inventory.CorrectRecord
	}
}

// leaveMissing leaves what is missing and cannot be given up to whoever makes room for it.
func leaveMissing(c *reconcile.Choice) {
	if c.Way == inventory.CorrectSite && c.Finding.Type == inventory.Missing {
		c.Way = inventory.Ignore
	}
}

// ended waits until a run stands.
func ended(t *testing.T, a *App, id int64) {
	t.Helper()
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for b := range a.Watch(ctx, id, 0) {
		require.NoError(t, b.Err)
	}
	r, err := a.store.Run(ctx, id)
	require.NoError(t, err)
	if r.State != run.Standing {
		s, err := a.Replay(ctx, id)
		require.NoError(t, err)
		t.Fatalf("run %d: %s", id, explainRun(s))
	}
}
