package watch

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
	"andamio/internal/store"
	"andamio/internal/store/sqlite"
)

var began = time.Date(2026, 5, 4, 0, 0, 0, 0, time.UTC)

// failing is a store of measures, and of alerts, that fails when it is told to.
type failing struct {
	store.MeasuresStore
	Store
	fails  bool
	alerts []alarm.Alert
	calls  int
}

var errFull = errors.New("the disk is full")

func (f *failing) KeepRows(ctx context.Context, rows []measure.Row, upTo int64) error {
	if f.fails {
		return errFull
	}
	return f.MeasuresStore.KeepRows(ctx, rows, upTo)
}

func (f *failing) KeepAlerts(_ context.Context, all []alarm.Alert) error {
	if f.calls++; f.fails {
		return errFull
	}
	f.alerts = append(f.alerts, all...)
	return nil
}

// atSite is a watch over one site, with what there is to be asked.
func atSite(t *testing.T) (*Service, *failing, *known, measure.Thing) {
	t.Helper()
	m, err := sqlite.OpenMeasures(t.Context(), filepath.Join(t.TempDir(), "m.db"))
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	thing := measure.Thing{Key: measure.SiteKey("dam"), Kind: measure.OfSite, Name: "dam", Site: "dam"}
	f := &failing{MeasuresStore: m}
	memory := &Memory{head: measure.NewHead(began), ids: map[string]kept{}, book: &alarm.Book{}}
	k := &known{things: map[string]*measure.Thing{thing.Key: &thing}, graph: alarm.NewGraph(nil), rests: map[string]string{}, wants: map[string][]*alarm.Threshold{}, file: alarm.Default()}
	return &Service{store: f, memory: memory, log: slog.New(slog.DiscardHandler)}, f, k, thing
}

func answers(v float64) *round {
	r := &round{of: map[string]*figures{}}
	r.put(measure.SiteKey("dam"), measure.SiteAnswers, v)
	return r
}

// TestWhatCouldNotBeKeptIsKeptLater has the store fail where a row is full, and holds that nothing of it is lost.
func TestWhatCouldNotBeKeptIsKeptLater(t *testing.T) {
	svc, f, k, thing := atSite(t)
	now, rounds := began, 0
	for now.Before(began.Add(measure.Raw.Row() + 5*Every)) {
		f.fails = now.After(began.Add(measure.Raw.Row()-Every)) && now.Before(began.Add(measure.Raw.Row()+2*Every))
		err := svc.keep(t.Context(), f, k, answers(1), now)
		if f.fails {
			require.ErrorIs(t, err, errFull)
		} else {
			require.NoError(t, err)
			rounds++
		}
		now = now.Add(Every)
	}
	points, err := newReader(f).curve(t.Context(), svc.memory.ids[thing.Key].id, measure.SiteAnswers, began, now, Every)
	require.NoError(t, err)
	known := 0
	for _, p := range points {
		known += p.N
	}
	assert.Equal(t, rounds, known, "each round that was kept is there once")
}

// TestAnAlertThatCouldNotBeKeptIsKeptLater has the store fail when an alert begins, and when it ends; while nothing changes nothing is written.
func TestAnAlertThatCouldNotBeKeptIsKeptLater(t *testing.T) {
	svc, f, k, _ := atSite(t)
	now := began
	step := func(v float64) error {
		now = now.Add(Every)
		return svc.judge(t.Context(), f, k, answers(v), now)
	}
	require.NoError(t, step(1))
	require.NoError(t, step(0))
	f.fails = true
	require.ErrorIs(t, step(0), errFull)
	f.fails = false
	require.NoError(t, step(0))
	require.Len(t, f.alerts, 1)
	assert.True(t, f.alerts[0].Ended.IsZero())
	calls := f.calls
	for range 10 {
		require.NoError(t, step(0))
	}
	assert.Equal(t, calls, f.calls, "it is as it was")
	f.fails = true
	require.ErrorIs(t, step(1), errFull)
	f.fails = false
	require.NoError(t, step(1))
	require.Len(t, f.alerts, 2)
	assert.False(t, f.alerts[1].Ended.IsZero())
}

// TestWhatWasMeasuredBeforeAPauseIsMadeCoarserAfterIt measures for some hours, pauses for days as where nobody serves, and holds that hours of before are kept by five minutes and by the hour.
func TestWhatWasMeasuredBeforeAPauseIsMadeCoarserAfterIt(t *testing.T) {
	svc, f, k, thing := atSite(t)
	now := began
	for now.Before(began.Add(9 * time.Hour)) {
		require.NoError(t, svc.keep(t.Context(), f, k, answers(1), now))
		now = now.Add(time.Minute)
	}
	now = now.AddDate(0, 0, 5)
	for range 200 {
		require.NoError(t, svc.keep(t.Context(), f, k, answers(1), now))
		require.NoError(t, svc.tidy(t.Context(), f, now))
		now = now.Add(tidyEvery)
	}
	id := svc.memory.ids[thing.Key].id
	for _, level := range []measure.Level{measure.Fine, measure.Coarse} {
		rows, err := f.Rows(t.Context(), id, level, 0, level.Slot(began.Add(9*time.Hour)))
		require.NoError(t, err)
		points, err := measure.Curve(rows, measure.SiteAnswers, began, began.Add(9*time.Hour), level.Step())
		require.NoError(t, err)
		for _, p := range points {
			assert.Positive(t, p.N, "%v of level %d", p.At, level)
		}
	}
}
