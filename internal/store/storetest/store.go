package storetest

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

var ctx = context.Background()

func newRun(t *testing.T, s store.Store) int64 {
	t.Helper()
	p := plantest.Plan(t, "drill")
	planID, err := s.SavePlan(ctx, p)
	require.NoError(t, err)
	deployment, err := s.CreateDeployment(ctx, p.Name, "", guard.Owner{})
	require.NoError(t, err)
	return anotherRun(t, s, planID, deployment)
}

func anotherRun(t *testing.T, s store.Store, planID, deployment int64) int64 {
	t.Helper()
	id, err := s.CreateRun(ctx, store.Run{Plan: planID, Deployment: deployment, Wanted: planID, Steps: 82, Limits: "{}"})
	require.NoError(t, err)
	return id
}

func alive(store.Run) bool { return true }
func dead(store.Run) bool  { return false }

func plansComeBackAsTheyWere(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	p := plantest.Plan(t, "drill")
	id, err := s.SavePlan(ctx, p)
	require.NoError(t, err)
	again, err := s.Plan(ctx, id)
	require.NoError(t, err)
	want, _ := p.Write()
	got, _ := again.Write()
	assert.Equal(t, string(want), string(got))
	_, err = s.Plan(ctx, 99)
	assert.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.Run(ctx, 99)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func onlyOneWorkerGetsARun(t *testing.T, open Opener) {
	path := fresh(t)
	first, second := open(t, path), open(t, path)
	id := newRun(t, first)
	var group sync.WaitGroup
	got := make(chan bool, 16)
	for i, s := range []store.Store{first, second, first, second, first, second} {
		group.Go(func() {
			_, err := s.Claim(ctx, id, 0, store.WorkerOn("host", 100+i), alive)
			if err != nil {
				assert.ErrorIs(t, err, store.ErrTaken)
			}
			got <- err == nil
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

func runsLiveThroughTheirStates(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	id := newRun(t, s)
	r, err := s.Run(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Planned, r.State)
	assert.Equal(t, "flood-watch", r.Name)
	assert.Equal(t, "drill", r.Preset)
	assert.True(t, r.Ended.IsZero())
	epoch, err := s.Claim(ctx, id, 0, "host/7", alive)
	require.NoError(t, err)
	cancel, err := s.Beat(ctx, id, epoch)
	require.NoError(t, err)
	assert.False(t, cancel)
	require.NoError(t, s.Cancel(ctx, id))
	cancel, err = s.Beat(ctx, id, epoch)
	require.NoError(t, err)
	assert.True(t, cancel, "the worker hears of it at its next beat")
	require.NoError(t, s.Finish(ctx, id, epoch, run.Stopped))
	second := newRun(t, s)
	all, err := s.Runs(ctx)
	require.NoError(t, err)
	assert.Equal(t, []int64{second, id}, []int64{all[0].ID, all[1].ID}, "the newest first")
	assert.Equal(t, run.Stopped, all[1].State)
	assert.False(t, all[1].Ended.IsZero())
}

func eventsComeBackInOrderToEverybody(t *testing.T, open Opener) {
	path := fresh(t)
	writer, reader := open(t, path), open(t, path)
	id := newRun(t, writer)
	j, err := writer.Journal(ctx, id, 0)
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
	again, err := writer.Journal(ctx, id, 0)
	require.NoError(t, err)
	defer again.Close()
	require.NoError(t, again.Append(run.Event{Kind: run.RunEnded, At: now}))
	got, err = reader.Events(ctx, id, 3, 10)
	require.NoError(t, err)
	assert.Equal(t, int64(4), got[0].Seq, "a journal opened again goes on counting")
}

func journalTakesConcurrentWriters(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	id := newRun(t, s)
	j, err := s.Journal(ctx, id, 0)
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

func nothingIsHeldTwice(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	first, second := newRun(t, s), newRun(t, s)
	require.NoError(t, s.Reserve(ctx, first, []store.Reservation{{Site: "hall", Value: "10.0.0.4"}, {Site: "hall", Value: "vlan 7"}}))
	err := s.Reserve(ctx, second, []store.Reservation{{Site: "hall", Value: "10.0.0.5"}, {Site: "hall", Value: "vlan 7"}})
	assert.ErrorContains(t, err, "vlan 7 at hall is held by run 1")
	held, err := s.Reservations(ctx)
	require.NoError(t, err)
	assert.Len(t, held, 2, "all or nothing")
	require.NoError(t, s.Reserve(ctx, second, []store.Reservation{{Site: "dam", Value: "vlan 7"}}))
	n, err := s.Release(ctx, first)
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	require.NoError(t, s.Reserve(ctx, second, []store.Reservation{{Site: "hall", Value: "vlan 7"}}))
	require.NoError(t, s.Forget(ctx, first))
	_, err = s.Run(ctx, first)
	assert.Error(t, err)
}

func twoRunsOfADeploymentAreNotWorkedOnAtOnce(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	first := newRun(t, s)
	r, err := s.Run(ctx, first)
	require.NoError(t, err)
	second := anotherRun(t, s, r.Plan, r.Deployment)
	epoch, err := s.Claim(ctx, first, 0, "host/1", alive)
	require.NoError(t, err)
	_, err = s.Claim(ctx, second, 0, "host/2", alive)
	assert.ErrorIs(t, err, store.ErrTaken)
	assert.ErrorContains(t, err, "run 1 of the same deployment is under way")
	other := newRun(t, s)
	_, err = s.Claim(ctx, other, 0, "host/3", alive)
	require.NoError(t, err, "another deployment is nobody's business")
	_, err = s.Claim(ctx, second, 0, "host/2", dead)
	require.NoError(t, err, "the first one's worker is dead")
	require.NoError(t, s.Finish(ctx, first, epoch, run.Failed))
}

func aWorkerThatWasReplacedCanWriteNothing(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	id := newRun(t, s)
	old, err := s.Claim(ctx, id, 0, "host/1", alive)
	require.NoError(t, err)
	j, err := s.Journal(ctx, id, old)
	require.NoError(t, err)
	defer j.Close()
	require.NoError(t, j.Append(run.Event{Kind: run.RunStarted, At: time.Now()}))
	now, err := s.Claim(ctx, id, old, "host/2", alive)
	require.NoError(t, err)
	_, err = s.Claim(ctx, id, old, "host/3", alive)
	assert.ErrorIs(t, err, store.ErrTaken, "who looked before the last claim comes too late")
	assert.ErrorIs(t, j.Append(run.Event{Kind: run.StepStarted, At: time.Now()}), store.ErrTaken)
	_, err = s.Beat(ctx, id, old)
	assert.ErrorIs(t, err, store.ErrTaken)
	require.NoError(t, s.Finish(ctx, id, old, run.Failed))
	r, err := s.Run(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.UnderWay, r.State, "the old worker does not end the new one's run")
	assert.Equal(t, now, r.Epoch)
	events, err := s.Events(ctx, id, 0, 10)
	require.NoError(t, err)
	assert.Len(t, events, 1)
	assert.ErrorIs(t, j.Append(run.Event{Kind: run.Logged, At: time.Now()}), store.ErrTaken, "and it stays so")
}

func decisionsAreTakenOnce(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	id := newRun(t, s)
	require.NoError(t, s.Decide(ctx, id, store.Decision{Step: "a/create", Verb: run.Retry}))
	require.NoError(t, s.Decide(ctx, id, store.Decision{Step: "b/create", Verb: run.Skip}))
	all, err := s.Decisions(ctx, id)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "a/create", all[0].Step)
	require.NoError(t, s.Taken(ctx, all[0].ID))
	all, err = s.Decisions(ctx, id)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, run.Skip, all[0].Verb)
}

func durationsAreOfTheLastRuns(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	for id := range int64(5) {
		require.NoError(t, s.Learn(ctx, id+1, []store.Took{{Key: "vega/create/volume", Step: "v/create", Seconds: float64(id + 1), At: time.Now()}}))
	}
	require.NoError(t, s.Learn(ctx, 5, []store.Took{{Key: "vega/create/volume", Step: "v/create", Seconds: 9, At: time.Now()}}))
	got, err := s.Durations(ctx, 2)
	require.NoError(t, err)
	require.Len(t, got, 2, "once for a step, of two runs")
	assert.Equal(t, 4.0, got[0].Seconds)
	assert.Equal(t, 9.0, got[1].Seconds)
	assert.Equal(t, int64(5), got[1].Run)
}

func whatADeploymentKeepsIsItsOwn(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	first := newRun(t, s)
	r, err := s.Run(ctx, first)
	require.NoError(t, err)
	second, other := anotherRun(t, s, r.Plan, r.Deployment), newRun(t, s)
	a, b := store.Reservation{Site: "vega", Value: "10.0.0.4"}, store.Reservation{Site: "vega", Value: "10.0.0.5"}
	require.NoError(t, s.Reserve(ctx, first, []store.Reservation{a, b}))
	require.NoError(t, s.Reserve(ctx, second, []store.Reservation{a}), "a later run of the deployment takes it over")
	assert.ErrorContains(t, s.Reserve(ctx, other, []store.Reservation{a}), "held by run 2")
	require.NoError(t, s.Keep(ctx, r.Deployment, []store.Reservation{a}))
	all, err := s.Reservations(ctx)
	require.NoError(t, err)
	assert.Equal(t, []store.Reservation{{Site: "vega", Value: "10.0.0.4", Run: second}}, all)
}
