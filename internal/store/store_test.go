package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
)

var ctx = context.Background()

func open(t *testing.T, path string) *Store {
	t.Helper()
	s, err := Open(ctx, path)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func newRun(t *testing.T, s *Store) int64 {
	t.Helper()
	p := plantest.Plan(t, "drill")
	planID, err := s.SavePlan(ctx, p)
	require.NoError(t, err)
	id, err := s.CreateRun(ctx, planID, len(p.Steps))
	require.NoError(t, err)
	return id
}

func TestPlansComeBackAsTheyWere(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "odd name?#%.db"))
	p := plantest.Plan(t, "drill")
	id, err := s.SavePlan(ctx, p)
	require.NoError(t, err)
	again, err := s.Plan(ctx, id)
	require.NoError(t, err)
	want, _ := p.Write()
	got, _ := again.Write()
	assert.Equal(t, string(want), string(got))
	_, err = s.Plan(ctx, 99)
	assert.ErrorIs(t, err, ErrNotFound)
	_, err = s.Run(ctx, 99)
	assert.ErrorIs(t, err, ErrNotFound)
}

func TestOnlyOneWorkerGetsARun(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	first, second := open(t, path), open(t, path)
	id := newRun(t, first)
	var group sync.WaitGroup
	got := make(chan bool, 16)
	for i, s := range []*Store{first, second, first, second, first, second} {
		group.Go(func() {
			mine, err := s.Claim(ctx, id, 100+i)
			assert.NoError(t, err)
			got <- mine
		})
	}
	group.Wait()
	close(got)
	winners := 0
	for mine := range got {
		if mine {
			winners++
		}
	}
	assert.Equal(t, 1, winners)
}

func TestRunsLiveThroughTheirStates(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	id := newRun(t, s)
	r, err := s.Run(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Planned, r.State)
	assert.Equal(t, "flood-watch", r.Name)
	assert.Equal(t, "drill", r.Preset)
	assert.True(t, r.Ended.IsZero())
	_, err = s.Claim(ctx, id, 7)
	require.NoError(t, err)
	cancel, err := s.Beat(ctx, id)
	require.NoError(t, err)
	assert.False(t, cancel)
	require.NoError(t, s.Cancel(ctx, id))
	cancel, err = s.Beat(ctx, id)
	require.NoError(t, err)
	assert.True(t, cancel, "the worker hears of it at its next beat")
	require.NoError(t, s.Finish(ctx, id, run.Stopped))
	second := newRun(t, s)
	all, err := s.Runs(ctx)
	require.NoError(t, err)
	assert.Equal(t, []int64{second, id}, []int64{all[0].ID, all[1].ID}, "the newest first")
	assert.Equal(t, run.Stopped, all[1].State)
	assert.False(t, all[1].Ended.IsZero())
}

func TestEventsComeBackInOrderToEverybody(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	writer, reader := open(t, path), open(t, path)
	id := newRun(t, writer)
	j, err := writer.Journal(ctx, id)
	require.NoError(t, err)
	now := time.Date(2026, 11, 23, 8, 0, 0, 123456789, time.UTC)
	want := []run.Event{
		{Kind: run.RunStarted, At: now},
		{Kind: run.StepAsked, At: now, Step: "a/create", Resource: "a", Attributes: map[string]string{"site.id": "x"}},
		{Kind: run.SiteSays, At: now, Resource: "a", Text: "active ñ", Good: true},
	}
	require.NoError(t, j.Append(want[:2]...))
	require.NoError(t, j.Append(want[2]))
	require.NoError(t, j.Close())
	got, err := reader.Events(ctx, id, 0, 100)
	require.NoError(t, err)
	for i := range want {
		want[i].Seq = int64(i + 1)
	}
	assert.Equal(t, want, got)
	got, err = reader.Events(ctx, id, 1, 1)
	require.NoError(t, err)
	assert.Equal(t, want[1:2], got, "after a number, at most so many")
	again, err := writer.Journal(ctx, id)
	require.NoError(t, err)
	defer again.Close()
	require.NoError(t, again.Append(run.Event{Kind: run.RunEnded, At: now}))
	got, err = reader.Events(ctx, id, 3, 10)
	require.NoError(t, err)
	assert.Equal(t, int64(4), got[0].Seq, "a journal opened again goes on counting")
}

func TestJournalTakesConcurrentWriters(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	id := newRun(t, s)
	j, err := s.Journal(ctx, id)
	require.NoError(t, err)
	defer j.Close()
	var group sync.WaitGroup
	for w := range 8 {
		group.Go(func() {
			for i := range 25 {
				assert.NoError(t, j.Append(run.Event{Kind: run.Logged, At: time.Now(), Text: fmt.Sprint(w, i)}))
			}
		})
	}
	group.Wait()
	got, err := s.Events(ctx, id, 0, 1000)
	require.NoError(t, err)
	require.Len(t, got, 200)
	for i, e := range got {
		assert.Equal(t, int64(i+1), e.Seq)
	}
}

func TestADamagedFileIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	require.NoError(t, os.WriteFile(path, []byte("this is no database, and long enough to be looked at as one"), 0o600))
	_, err := Open(ctx, path)
	assert.ErrorContains(t, err, "cannot be used")
	data, _ := os.ReadFile(path)
	assert.Contains(t, string(data), "no database", "and left as it was")
}

func TestNothingIsHeldTwice(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "r.db"))
	first, second := newRun(t, s), newRun(t, s)
	require.NoError(t, s.Reserve(ctx, first, []Reservation{{Site: "hall", Value: "10.0.0.4"}, {Site: "hall", Value: "vlan 7"}}))
	err := s.Reserve(ctx, second, []Reservation{{Site: "hall", Value: "10.0.0.5"}, {Site: "hall", Value: "vlan 7"}})
	assert.ErrorContains(t, err, "vlan 7 at hall is held by run 1")
	held, err := s.Reservations(ctx)
	require.NoError(t, err)
	assert.Len(t, held, 2, "all or nothing")
	require.NoError(t, s.Reserve(ctx, second, []Reservation{{Site: "dam", Value: "vlan 7"}}))
	n, err := s.Release(ctx, first)
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	require.NoError(t, s.Reserve(ctx, second, []Reservation{{Site: "hall", Value: "vlan 7"}}))
	require.NoError(t, s.Forget(ctx, first))
	_, err = s.Run(ctx, first)
	assert.Error(t, err)
}
