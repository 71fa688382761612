package storetest

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/store"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func seen(ids ...string) []mapping.Observation {
	var out []mapping.Observation
	for _, id := range ids {
		out = append(out, mapping.Observation{Site: "vega", Region: "a", Type: "compute", ID: id, Name: id})
	}
	return out
}

func observed(t *testing.T, s store.Store) []string {
	t.Helper()
	all, err := s.Observations(ctx)
	require.NoError(t, err)
	out := []string{}
	for _, o := range all {
		out = append(out, o.ID)
	}
	return out
}

// onlyAWholeRegionTakesThePlaceOfWhatWasSeen stages pages, and ends a region well, badly and not at all.
func onlyAWholeRegionTakesThePlaceOfWhatWasSeen(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	id, err := s.BeginSurvey(ctx, "vega", false, []string{"a"}, noon)
	require.NoError(t, err)
	require.NoError(t, s.Stage(ctx, id, store.SurveyPart{Region: "a", Kind: "instance", Cursor: "i-2"}, seen("i-1", "i-2")))
	assert.Empty(t, observed(t, s), "what is staged is not observed")
	v, err := s.Survey(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, "i-2", v.Parts[0].Cursor, "and says how far it got")
	assert.Equal(t, 2, v.Found())
	require.NoError(t, s.EndRegion(ctx, id, "vega", "a", nil, noon))
	assert.Equal(t, []string{"i-1", "i-2"}, observed(t, s))
	require.NoError(t, s.EndSurvey(ctx, id, store.SurveyDone, noon))

	id, err = s.BeginSurvey(ctx, "vega", false, []string{"a"}, noon)
	require.NoError(t, err)
	require.NoError(t, s.Stage(ctx, id, store.SurveyPart{Region: "a"}, seen("i-3")))
	require.NoError(t, s.EndRegion(ctx, id, "vega", "a", errors.New("it was silent"), noon.Add(time.Hour)))
	assert.Equal(t, []string{"i-1", "i-2"}, observed(t, s), "one that failed changes nothing")
	covered, err := s.Coverage(ctx)
	require.NoError(t, err)
	assert.Equal(t, []store.Covered{{Site: "vega", Region: "a", Seen: noon, Tried: noon.Add(time.Hour), Error: "it was silent"}}, covered)

	n, err := s.Observed(ctx, []store.Sight{{Site: "vega", ID: "i-1", Notices: []string{"x", "y"}}, {Site: "vega", ID: "i-9", Observation: &seen("i-9")[0], Notices: []string{"z"}}}, noon)
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	assert.Equal(t, []string{"i-2", "i-9"}, observed(t, s), "notices change single things")
	n, err = s.Observed(ctx, []store.Sight{{Site: "vega", ID: "i-2", Notices: []string{"x"}}}, noon)
	require.NoError(t, err)
	assert.Zero(t, n, "one that was taken changes nothing")
	assert.Equal(t, []string{"i-2", "i-9"}, observed(t, s))
	require.NoError(t, s.ForgetSite(ctx, "vega"))
	assert.Empty(t, observed(t, s))
	_, err = s.LastSurvey(ctx, "presa")
	assert.ErrorIs(t, err, store.ErrNotFound)
}

// actsAreKeptAndTakenBackWhole does an act of every sort and undoes it.
func actsAreKeptAndTakenBackWhole(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	before := inventory.Record{ID: "r", Class: kinds.Instance, Name: "store", Site: "vega", Attributes: map[string]string{"cores": "4"}}
	require.NoError(t, s.Revise(ctx, 0, "andamio", noon, []store.RecordChange{{ID: "r", After: &before, Why: "built"}}))
	stamp, err := s.InventoryStamp(ctx)
	require.NoError(t, err)
	after := before.Clone()
	after.Set("cores", "8")
	other := inventory.Record{ID: "s", Class: kinds.Volume}
	act, err := s.RecordSettlement(ctx, "somebody", noon, store.SettlementChanges{Body: []byte("{}"), Changes: []store.RecordChange{{ID: "r", Before: &before, After: &after, Why: "as observed"}, {ID: "s", After: &other, Why: "adopted"}},
		Ignore: []store.Ignoring{{Ignored: inventory.Ignored{Finding: "f", Until: noon}, Reason: "why not"}}, Decide: []inventory.Decision{{Site: "vega", Provider: "i", Record: "r", Same: true}}})
	require.NoError(t, err)
	records, err := s.Records(ctx)
	require.NoError(t, err)
	assert.Equal(t, inventory.Records{after.Normal(), other.Normal()}, records)
	ignored, err := s.Ignored(ctx)
	require.NoError(t, err)
	assert.Equal(t, []store.Ignoring{{Ignored: inventory.Ignored{Finding: "f", Until: noon}, Reason: "why not", Act: act}}, ignored)
	later, err := s.InventoryStamp(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, stamp, later)
	seen := after.Clone()
	seen.Seen = noon.Add(time.Hour)
	history, err := s.History(ctx, "r")
	require.NoError(t, err)
	require.NoError(t, s.Touch(ctx, []inventory.Record{seen, {ID: "nobody", Class: kinds.Volume}}))
	records, err = s.Records(ctx)
	require.NoError(t, err)
	assert.Equal(t, inventory.Records{seen.Normal(), other.Normal()}, records, "when it was seen last is kept, and nothing is made of what there is not")
	again, err := s.History(ctx, "r")
	require.NoError(t, err)
	assert.Equal(t, history, again, "that is no change")

	require.NoError(t, s.UndoSettlement(ctx, act, "somebody", noon))
	assert.ErrorIs(t, s.UndoSettlement(ctx, act, "somebody", noon), store.ErrNotFound)
	records, err = s.Records(ctx)
	require.NoError(t, err)
	assert.Equal(t, inventory.Records{before.Normal()}, records)
	ignored, err = s.Ignored(ctx)
	require.NoError(t, err)
	assert.Empty(t, ignored)
	decided, err := s.Identities(ctx)
	require.NoError(t, err)
	assert.Empty(t, decided)
	history, err = s.History(ctx, "r")
	require.NoError(t, err)
	require.Len(t, history, 3, "the history keeps all of it")
	assert.Contains(t, history[0].Why, "was undone")
	assert.Equal(t, "8", history[0].Before.Attributes["cores"])
	acts, err := s.Settlements(ctx, 5)
	require.NoError(t, err)
	assert.True(t, acts[0].Undone)
}

// onlyTheLastRunThatCountsIsTakenBack voids runs of a deployment in the wrong order and in the right one.
func onlyTheLastRunThatCountsIsTakenBack(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	first := newRun(t, s)
	r, err := s.Run(ctx, first)
	require.NoError(t, err)
	second := anotherRun(t, s, r.Plan, r.Deployment)
	assert.ErrorContains(t, s.Void(ctx, first), "a later run of its deployment builds on it")
	require.NoError(t, s.Void(ctx, second))
	require.NoError(t, s.Void(ctx, first))
	r, err = s.Run(ctx, first)
	require.NoError(t, err)
	assert.True(t, r.Void)
}
