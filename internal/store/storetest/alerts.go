package storetest

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/store"
)

// alertsAreAsTheyBecameLast holds that an alert is what it became last, and that what was said of it is nobody's who works alerts out.
func alertsAreAsTheyBecameLast(t *testing.T, open Opener) {
	name := fresh(t)
	s := open(t, name)
	last, err := s.LastAlert(ctx)
	require.NoError(t, err)
	assert.Zero(t, last)
	one := alarm.Alert{ID: 1, Cause: "host s/h", Rank: "host", Name: "h", Site: "s", Severity: alarm.Critical, Words: "all fails", Since: noon, Down: []string{"map"},
		Alarms: []alarm.Alarm{{Thing: "x", Kind: measure.OfEndpoint, Threshold: "no answer", Measure: measure.Answers, Severity: alarm.Critical, Since: noon, Words: "silent"}}}
	two := alarm.Alert{ID: 2, Cause: "y", Severity: alarm.Warning, Since: noon.Add(-time.Hour), Words: "slow"}
	three := alarm.Alert{ID: 3, Cause: "z", Severity: alarm.Warning, Since: noon.Add(-2 * time.Hour), Ended: noon.Add(-time.Hour), Words: "over"}
	require.NoError(t, s.KeepAlerts(ctx, []alarm.Alert{one, two, three}))
	known := &alarm.Said{By: "ana", At: noon, Say: "I am at it"}
	require.NoError(t, s.SayOfAlert(ctx, 1, store.Acknowledged, known))
	require.NoError(t, s.SayOfAlert(ctx, 1, store.Silenced, &alarm.Said{By: "eva", At: noon, Until: noon.Add(time.Hour), Say: "planned"}))
	muted := &alarm.Said{By: "eva", At: noon, Until: noon.Add(2 * time.Hour), Say: "longer"}
	require.NoError(t, s.SayOfAlert(ctx, 1, store.Silenced, muted))
	one.Severity = alarm.Warning
	require.NoError(t, s.KeepAlerts(ctx, []alarm.Alert{one})) // by who knows nothing of what was said
	s = open(t, name)
	want := one
	want.Known, want.Muted = known, muted
	got, err := s.OpenAlerts(ctx)
	require.NoError(t, err)
	assert.Equal(t, []alarm.Alert{two, want}, got)
	all, err := s.AlertsSince(ctx, noon.Add(-time.Hour), 9)
	require.NoError(t, err)
	assert.Equal(t, []alarm.Alert{want, two, three}, all)
	all, err = s.AlertsSince(ctx, noon.Add(-time.Hour+1), 1)
	require.NoError(t, err)
	assert.Equal(t, []alarm.Alert{want}, all)
	require.NoError(t, s.SayOfAlert(ctx, 1, store.Silenced, nil))
	alone, err := s.Alert(ctx, 1)
	require.NoError(t, err)
	assert.True(t, alone.Muted == nil && alone.Known != nil)
	_, err = s.Alert(ctx, 9)
	require.ErrorIs(t, err, store.ErrNotFound)
	require.ErrorIs(t, s.SayOfAlert(ctx, 9, store.Acknowledged, known), store.ErrNotFound)
	last, err = s.LastAlert(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 3, last)
}

// MeasuresOpener opens the measures of that name, and makes them if there are none.
type MeasuresOpener func(t *testing.T, name string) store.MeasuresStore

// RunMeasures runs the suite of what keeps measures.
func RunMeasures(t *testing.T, open MeasuresOpener) {
	t.Run("ThingsKeepTheirNumbers", func(t *testing.T) { t.Parallel(); thingsKeepTheirNumbers(t, open) })
	t.Run("WhatIsInARowIsInNoTail", func(t *testing.T) { t.Parallel(); whatIsInARowIsInNoTail(t, open) })
	t.Run("RowsAreFoundByTheirTime", func(t *testing.T) { t.Parallel(); rowsAreFoundByTheirTime(t, open) })
}

func thingsKeepTheirNumbers(t *testing.T, open MeasuresOpener) {
	name := fresh(t)
	s := open(t, name)
	a := measure.Thing{Key: "instance s/1", Kind: measure.OfInstance, Name: "one", Site: "s", Tags: map[string]string{"env": "live"}}
	b := measure.Thing{Key: "site s", Kind: measure.OfSite, Name: "s"}
	got, err := s.KeepThings(ctx, []measure.Thing{a, b})
	require.NoError(t, err)
	require.Len(t, got, 2)
	a.ID, b.ID = got[0].ID, got[1].ID
	assert.Equal(t, []measure.Thing{a, b}, got)
	assert.True(t, a.ID > 0 && b.ID > 0 && a.ID != b.ID)
	renamed := a
	renamed.Name, renamed.ID = "first", 0
	again, err := open(t, name).KeepThings(ctx, []measure.Thing{{Key: "site t"}, renamed})
	require.NoError(t, err)
	assert.Equal(t, a.ID, again[1].ID)
	all, err := s.Things(ctx)
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.Equal(t, "first", all[0].Name)
	assert.Equal(t, b, all[1])
}

func whatIsInARowIsInNoTail(t *testing.T, open MeasuresOpener) {
	name := fresh(t)
	s := open(t, name)
	tail := func(group, first, from int64, body string) measure.Tail {
		return measure.Tail{Group: group, First: first, From: from, Body: []byte(body)}
	}
	require.NoError(t, s.KeepTails(ctx, []measure.Tail{tail(0, 120, 121, "b"), tail(1, 120, 121, "c"), tail(0, 120, 120, "a"), tail(0, 240, 240, "d")}))
	require.NoError(t, s.KeepTails(ctx, []measure.Tail{tail(0, 120, 120, "again")}))
	s = open(t, name)
	got, err := s.Tails(ctx, -1)
	require.NoError(t, err)
	assert.Equal(t, []measure.Tail{tail(0, 120, 120, "again"), tail(0, 120, 121, "b"), tail(1, 120, 121, "c"), tail(0, 240, 240, "d")}, got)
	got, err = s.Tails(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, []measure.Tail{tail(1, 120, 121, "c")}, got)
	require.NoError(t, s.KeepRows(ctx, []measure.Row{{Thing: 1, First: 120, Body: []byte("row")}}, 120))
	got, err = s.Tails(ctx, -1)
	require.NoError(t, err)
	assert.Equal(t, []measure.Tail{tail(0, 240, 240, "d")}, got)
}

func rowsAreFoundByTheirTime(t *testing.T, open MeasuresOpener) {
	name := fresh(t)
	s := open(t, name)
	row := func(thing int64, level measure.Level, first int64, body string) measure.Row {
		return measure.Row{Thing: thing, Level: level, First: first, Body: []byte(body)}
	}
	_, has, err := s.Oldest(ctx, measure.Raw)
	require.NoError(t, err)
	assert.False(t, has)
	require.NoError(t, s.KeepRows(ctx, []measure.Row{row(1, measure.Raw, 240, "b"), row(1, measure.Raw, 120, "a"), row(1, measure.Fine, 120, "f"), row(2, measure.Raw, 120, "o"), row(3, measure.Raw, 480, "z")}, -1))
	require.NoError(t, s.KeepRows(ctx, []measure.Row{row(1, measure.Raw, 240, "B")}, -1))
	s = open(t, name)
	rows := func(thing int64, level measure.Level, from, to int64) []measure.Row {
		got, err := s.Rows(ctx, thing, level, from, to)
		require.NoError(t, err)
		return got
	}
	assert.Equal(t, []measure.Row{row(1, measure.Raw, 120, "a"), row(1, measure.Raw, 240, "B")}, rows(1, measure.Raw, 120, 241))
	assert.Equal(t, []measure.Row{row(1, measure.Raw, 120, "a")}, rows(1, measure.Raw, 0, 240))
	assert.Equal(t, []measure.Row{row(1, measure.Fine, 120, "f")}, rows(1, measure.Fine, 0, 1000))
	assert.Empty(t, rows(9, measure.Raw, 0, 1000))
	todo, err := s.Unrolled(ctx, measure.Raw, 0, 480, 96, 9)
	require.NoError(t, err)
	assert.ElementsMatch(t, []int64{1, 2}, todo)
	todo, err = s.Unrolled(ctx, measure.Raw, 0, 480, 120, 9)
	require.NoError(t, err)
	assert.Equal(t, []int64{2}, todo)
	todo, err = s.Unrolled(ctx, measure.Raw, 0, 481, 96, 1)
	require.NoError(t, err)
	assert.Len(t, todo, 1)
	oldest, has, err := s.Oldest(ctx, measure.Raw)
	require.NoError(t, err)
	assert.True(t, has)
	assert.EqualValues(t, 120, oldest)
	size, err := s.Size(ctx)
	require.NoError(t, err)
	assert.Positive(t, size)
	require.NoError(t, s.Drop(ctx, measure.Raw, 240))
	assert.Equal(t, []measure.Row{row(1, measure.Raw, 240, "B")}, rows(1, measure.Raw, 0, 1000))
	assert.Len(t, rows(1, measure.Fine, 0, 1000), 1, "of other levels nothing goes")
	assert.Empty(t, rows(2, measure.Raw, 0, 1000))
}
