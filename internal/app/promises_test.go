package app

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/core/window"
	"andamio/internal/service/deployments"
	"andamio/internal/service/requests"
	"andamio/internal/store"
)

// ofScenario is a deployment of the scenario that stands.
func ofScenario(t *testing.T, a *App) int64 {
	t.Helper()
	r, err := a.Run(ctx, worked(t, a, draft(t, a, nil)))
	require.NoError(t, err)
	return r.Deployment
}

func powerOf(t *testing.T, a *App, id int64) (run.Status, int) {
	t.Helper()
	d, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	return d.State(), len(deployments.OffIn(d.Stand))
}

// TestWhatIsSavedByRuleIsThinned saves a deployment again and again, and looks that the newest are kept, and what people took too.
func TestWhatIsSavedByRuleIsThinned(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	now := time.Now()
	when := promise.When{Rule: "FREQ=DAILY", Zone: "Europe/Madrid", Start: now.Truncate(time.Minute)}
	_, err := a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Saved, Saved: &promise.SavedTerms{When: when, Keep: 2, Of: []string{"register"}}}, now)
	require.NoError(t, err)
	_, err = a.SetPromise(ctx, promise.Promise{Deployment: 99, Kind: promise.Saved}, now)
	assert.Equal(t, fault.NotFound, fault.CodeOf(err))
	_, err = a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Saved}, now)
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	for n := range 4 {
		note, err := a.Due(ctx, promise.DueSave, id, now.AddDate(0, 0, n))
		require.NoError(t, err)
		assert.Contains(t, note, "run ")
	}
	due := now.AddDate(0, 0, 0).Truncate(time.Minute) // the snapshots were taken after that, whatever time it was said to be
	note, err := a.Due(ctx, promise.DueSave, id, due.Add(time.Hour))
	require.NoError(t, err)
	assert.Contains(t, note, "was taken before", "who waited for it may have ended meanwhile")
	sets, err := a.Snapshots(ctx, id)
	require.NoError(t, err)
	require.Len(t, sets, 2)
	assert.Equal(t, "auto-"+now.AddDate(0, 0, 2).UTC().Format("20060102-1504"), sets[0].Name)
	for _, s := range sets {
		assert.Len(t, s.Disks, 2, "of the register alone")
	}
	kept, err := a.PromisesOf(ctx, id, now)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.Equal(t, promise.DueSave, kept[0].Does)
	assert.True(t, kept[0].Next.After(now))
	assert.True(t, kept[0].Proof.Unproven(), "the clock did nothing yet")
	o, err := a.Retiring(ctx, id)
	carriedTo(t, a, o, err, run.Retired)
	note, err = a.Due(ctx, promise.DueSave, id, now.AddDate(0, 0, 9))
	require.NoError(t, err)
	assert.Contains(t, note, "nothing stands of it any more")
	kept, err = a.Promises(ctx, now)
	require.NoError(t, err)
	assert.Empty(t, kept)
}

// carriedTo makes a run of an order and works on it to its end, which must be as said, and returns its number.
func carriedTo(t *testing.T, a *App, o deployments.Order, err error, want run.Status) int64 {
	t.Helper()
	require.NoError(t, err)
	id, err := a.NewRun(ctx, o)
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, id))
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	require.Equal(t, want, deployments.EndOf(r), explainRun(s))
	return id
}

// TestALeaseEnds has a lease be said, extended within its bounds by whoever it is of and nobody else, end, and be taken away after its grace.
func TestALeaseEnds(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	_, err := a.SetDirectory(ctx, []byte(teams()+"- { to: everybody, role: requester, teams: [ own ] }\n"))
	require.NoError(t, err)
	a = a.As(Actor{Name: "ana", Way: ByCommand})
	id := ofScenario(t, a)
	require.NoError(t, a.Give(ctx, id, guard.Owner{Team: "map"}))
	now := time.Now()
	until := now.Add(30 * 24 * time.Hour)
	p := promise.Promise{Deployment: id, Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: until, Grace: 7 * 24 * time.Hour, Notice: []time.Duration{24 * time.Hour}, By: 24 * time.Hour, Times: 1}}
	eva, ibo := a.As(Actor{Name: "eva", Way: ByScreen}), a.As(Actor{Name: "ibo", Way: ByScreen})
	_, err = ibo.SetPromise(ctx, p, now)
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err), "its end is not for whoever asked to set")
	_, err = a.SetPromise(ctx, p, now)
	require.NoError(t, err)
	note, err := a.Due(ctx, promise.DueNotice, id, until.Add(-24*time.Hour))
	require.NoError(t, err)
	assert.Contains(t, note, until.UTC().Format("2006-01-02"))
	told, err := eva.ExtendLease(ctx, id, now)
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err), "it is another team's")
	assert.Equal(t, promise.Promise{}, told, "nor is it told when it ends")
	later, err := ibo.ExtendLease(ctx, id, now)
	require.NoError(t, err)
	assert.WithinDuration(t, until.Add(24*time.Hour), later.Lease.Until, time.Second)
	_, err = ibo.ExtendLease(ctx, id, now)
	require.ErrorContains(t, err, "extended 1 times of 1")
	end := later.Lease.Until
	_, err = a.Due(ctx, promise.DueEnd, id, end)
	require.NoError(t, err)
	word, off := powerOf(t, a, id)
	assert.Equal(t, []any{run.Standing, 10}, []any{word, off}, "all machines are off, with what is on them")
	note, err = a.Due(ctx, promise.DueEnd, id, end)
	require.NoError(t, err)
	assert.Equal(t, "it was so already", note)
	note, err = a.Due(ctx, promise.DueEnd, id, end.Add(8*24*time.Hour))
	require.NoError(t, err)
	assert.Contains(t, note, "its grace is over too")
	_, err = a.Due(ctx, promise.DueGone, id, end.Add(8*24*time.Hour))
	require.NoError(t, err)
	word, _ = powerOf(t, a, id)
	assert.Equal(t, run.Retired, word)
	dues, err := a.store.Dues(ctx)
	require.NoError(t, err)
	for _, d := range dues {
		assert.NotContains(t, []string{promise.DueEnd, promise.DueGone, promise.DueNotice}, d.Kind)
	}
}

// TestOffHours has machines go off and come back, where both were due while nobody looked the later counts, and what has ended stays off.
func TestOffHours(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	morning := time.Date(2027, 3, 1, 7, 0, 0, 0, time.UTC) // a Monday
	on := promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: morning}
	off := promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: morning.Add(12 * time.Hour)}
	p, err := a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Hours, Hours: &promise.HoursTerms{Off: off, On: on}}, morning.Add(time.Hour))
	require.NoError(t, err)
	assert.GreaterOrEqual(t, p.Hours.Lead, time.Minute)
	evening := morning.Add(12 * time.Hour)
	_, err = a.Due(ctx, promise.DueOff, id, evening)
	require.NoError(t, err)
	_, n := powerOf(t, a, id)
	assert.Equal(t, 10, n)
	note, err := a.Due(ctx, promise.DueOff, id, evening.Add(13*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, "it is on again by now", note, "nobody looked all night")
	note, err = a.Due(ctx, promise.DueOn, id, evening.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, "it is off again by now", note)
	dawn := morning.AddDate(0, 0, 1).Add(-p.Hours.Lead)
	_, err = a.Due(ctx, promise.DueOn, id, dawn)
	require.NoError(t, err)
	_, n = powerOf(t, a, id)
	assert.Zero(t, n)
	_, err = a.Due(ctx, promise.DueOff, id, evening.AddDate(0, 0, 1))
	require.NoError(t, err)
	_, err = a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: evening.AddDate(0, 0, 1), Grace: 72 * time.Hour}}, morning)
	require.NoError(t, err)
	note, err = a.Due(ctx, promise.DueOn, id, dawn.AddDate(0, 0, 1))
	require.NoError(t, err)
	assert.Equal(t, "its lease is over", note)
	require.NoError(t, a.DropPromise(ctx, id, promise.Lease))
	require.NoError(t, a.DropPromise(ctx, id, promise.Hours))
	assert.Equal(t, fault.NotFound, fault.CodeOf(a.DropPromise(ctx, id, promise.Hours)))
}

// savedDaily promises snapshots of a disk every day, the next in a moment.
func savedDaily(t *testing.T, a *App, id int64, now time.Time) {
	t.Helper()
	_, err := a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Saved, Saved: &promise.SavedTerms{Keep: 3, Of: []string{"register"},
		When: promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: now.Add(-24 * time.Hour).Add(2 * time.Second)}}}, now)
	require.NoError(t, err)
}

// TestTheClockKeepsPromises serves a workspace, and looks that what is due is done once, and that this is the proof.
func TestTheClockKeepsPromises(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	began := time.Now()
	savedDaily(t, a, id, began)
	_, end := serving(t, a)
	require.Eventually(t, func() bool {
		kept, err := a.PromisesOf(ctx, id, time.Now())
		return err == nil && len(kept) == 1 && kept[0].Proof.Kept == 1
	}, 2*time.Minute, 50*time.Millisecond)
	require.NoError(t, end())
	sets, err := a.Snapshots(ctx, id)
	require.NoError(t, err)
	require.Len(t, sets, 1)
	fired, err := a.store.PromiseFirings(ctx, id, promise.Saved, 10)
	require.NoError(t, err)
	require.Len(t, fired, 1)
	assert.Equal(t, store.FiringDone, fired[0].State, fired[0].Note)
	kept, err := a.PromisesOf(ctx, id, time.Now())
	require.NoError(t, err)
	assert.False(t, kept[0].Proof.Unproven())
	assert.WithinDuration(t, began.Add(24*time.Hour), kept[0].Next, 10*time.Second)
}

// TestWhatIsOfferedEnds asks for what ends by its offer: whoever asked sees when, has it end later as often as is said, and what ends is switched off in the
// name of whoever offers it.
func TestWhatIsOfferedEnds(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	ibo := as("ibo")
	r, err := ibo.AskFor(ctx, requests.Asked{Offer: "trial-map", Why: "for the open day"})
	require.NoError(t, err)
	nowServing(t, a, r)
	have, err := ibo.Have(ctx, r.ID, time.Now())
	require.NoError(t, err)
	require.NotNil(t, have.Ends)
	assert.WithinDuration(t, time.Now().Add(30*24*time.Hour), *have.Ends, time.Minute)
	assert.Equal(t, 2, have.Extensions)
	for left := 1; left >= 0; left-- {
		_, err := ibo.ExtendLease(ctx, r.Deployment, time.Now())
		require.NoError(t, err)
		have, err = ibo.Have(ctx, r.ID, time.Now())
		require.NoError(t, err)
		assert.Equal(t, left, have.Extensions)
	}
	_, err = ibo.ExtendLease(ctx, r.Deployment, time.Now())
	assert.Equal(t, fault.Refused, fault.CodeOf(err))
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(ibo.DropPromise(ctx, r.Deployment, promise.Lease)))
	kept, err := a.PromisesOf(ctx, r.Deployment, time.Now())
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.NotEqual(t, "ibo", kept[0].By.Name, "it is done in the name of whoever offers it")
	var ends []string
	dues, err := a.store.Dues(ctx)
	require.NoError(t, err)
	for _, d := range dues {
		if id, err := promise.DeploymentOf(d.Subject); err == nil && id == r.Deployment {
			ends = append(ends, d.Kind)
		}
	}
	assert.ElementsMatch(t, []string{promise.DueNotice, promise.DueNotice, promise.DueEnd, promise.DueGone}, ends)
}

// TestWhatFailsIsBrokenThoughItIsTriedAgain has what is due fail: it is not said to be under way because it will be tried again.
func TestWhatFailsIsBrokenThoughItIsTriedAgain(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	now := time.Now()
	_, err := a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Saved, Saved: &promise.SavedTerms{Keep: 3, Of: []string{"no-such-tier"},
		When: promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: now.Add(-24 * time.Hour).Add(time.Second)}}}, now)
	require.NoError(t, err)
	told, end := serving(t, a)
	f := until(t, told, func(f Firing) bool { return f.Kind == promise.DueSave })
	require.Equal(t, FiringFailed, f.State)
	require.False(t, f.Again.IsZero(), "it is tried again")
	kept, err := a.PromisesOf(ctx, id, time.Now())
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.Equal(t, 1, kept[0].Proof.Broken)
	assert.Contains(t, kept[0].Proof.Marks[0].Note, "no-such-tier")
	require.NoError(t, end())
}

// TestABlackoutHoldsWhatIsDoneByItself has a snapshot that is due be held by a blackout, and be done, late, when that is lifted; what takes service away waits for a window, and
// people, and what was promised for its time, do not.
func TestABlackoutHoldsWhatIsDoneByItself(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	blackout := "version: andamio.windows/1\nblackouts:\n- { name: season, from: \"2020-01-01\", until: \"2100-01-01\", when: 'deployment.name == \"flood-watch\"', say: Wait. }\n"
	_, err := a.SetWindows(ctx, []byte(blackout))
	require.NoError(t, err)
	began := time.Now()
	savedDaily(t, a, id, began)
	_, end := serving(t, a)
	state := func() (promise.State, string) {
		kept, err := a.PromisesOf(ctx, id, time.Now())
		if err != nil || len(kept[0].Proof.Marks) == 0 {
			return "", ""
		}
		m := kept[0].Proof.Marks[len(kept[0].Proof.Marks)-1]
		return m.State, m.Note
	}
	require.Eventually(t, func() bool { s, _ := state(); return s == promise.Held }, time.Minute, 20*time.Millisecond)
	_, note := state()
	assert.Contains(t, note, "held by the blackout season until 1 Jan 00:00 UTC: Wait.")
	c, err := a.Clock(ctx, time.Now(), 10)
	require.NoError(t, err)
	require.Len(t, c.Blackouts, 1)
	_, err = a.SetWindows(ctx, []byte("version: andamio.windows/1\n"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { s, _ := state(); return s == promise.Kept || s == promise.Late }, time.Minute, 20*time.Millisecond)
	require.NoError(t, end())

	closed := "version: andamio.windows/1\nmaintenance:\n- { name: new year, rule: FREQ=YEARLY;BYMONTH=1;BYMONTHDAY=1, at: \"00:00\", for: 1m }\n"
	_, err = a.SetWindows(ctx, []byte(closed))
	require.NoError(t, err)
	_, err = a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Saved, Saved: &promise.SavedTerms{Keep: 3, Of: []string{"register"}, Barrier: true,
		When: promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: time.Now().Add(2 * time.Second)}}}, began)
	require.NoError(t, err)
	clock := a.As(guard.Actor{Name: "ana", Way: guard.Schedule})
	_, err = clock.Due(ctx, promise.DueSave, id, time.Now().Add(time.Minute))
	var held *window.Held
	require.ErrorAs(t, err, &held)
	assert.Equal(t, "new year", held.Span)
	_, err = a.Due(ctx, promise.DueSave, id, time.Now().Add(time.Minute))
	require.NoError(t, err, "a person may")
	require.NoError(t, a.DropPromise(ctx, id, promise.Saved))

	_, err = a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Lease, Lease: &promise.LeaseTerms{Until: began.Add(time.Hour), Grace: time.Hour}}, began)
	require.NoError(t, err)
	_, err = clock.Due(ctx, promise.DueEnd, id, began.Add(time.Hour))
	require.NoError(t, err, "the time was promised")
	_, off := powerOf(t, a, id)
	assert.Equal(t, 10, off)
	_, err = a.SetWindows(ctx, []byte(blackout))
	require.NoError(t, err)
	_, err = clock.Due(ctx, promise.DueGone, id, began.Add(3*time.Hour))
	require.ErrorAs(t, err, &held)
	assert.True(t, held.Blackout)
	_, err = a.SetWindows(ctx, []byte("version: andamio.windows/1\n"))
	require.NoError(t, err)
	_, err = clock.Due(ctx, promise.DueGone, id, began.Add(3*time.Hour))
	require.NoError(t, err)
	status, _ := powerOf(t, a, id)
	assert.Equal(t, run.Retired, status)
	_, err = a.SetWindows(ctx, []byte("version: andamio.windows/2\n"))
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
}

// TestServiceIsTakenAwayByItselfOnlyWhenItMay has a schedule switch machines off within guarded hours, then without having said so, and then when it was said
// long enough before; people, and what was promised for its time, are not held.
func TestServiceIsTakenAwayByItselfOnlyWhenItMay(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	began := time.Now()
	rule := a.As(guard.Actor{Name: "ana", Way: guard.Rule})
	turning := func(on bool) deployments.Order {
		o, err := a.Powering(ctx, id, "", on)
		require.NoError(t, err)
		return o
	}
	guarding := func(g *promise.GuardedTerms, err error) {
		require.NoError(t, err)
		_, err = a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Guarded, Guarded: g}, time.Now())
		require.NoError(t, err)
	}
	from := began.Add(-time.Hour).UTC()
	guarding(promise.Guarding(began, "FREQ=DAILY", from.Format("15:04"), "3h", "", "UTC"))
	_, err := rule.Begin(ctx, turning(false))
	var held *window.Held
	require.ErrorAs(t, err, &held)
	assert.True(t, held.Guarded)
	assert.Equal(t, from.Truncate(time.Minute).Add(3*time.Hour), held.Until.UTC())
	assert.ErrorContains(t, err, "flood-watch is guarded until")
	assert.Equal(t, fault.Refused, fault.CodeOf(err))
	done := func(by *App, o deployments.Order) {
		run, err := by.Begin(ctx, o)
		require.NoError(t, err)
		ended(t, a, run)
	}
	_, err = a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Saved, Saved: &promise.SavedTerms{Keep: 3, Of: []string{"register"}, Barrier: true,
		When: promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: began.Add(time.Second)}}}, began)
	require.NoError(t, err)
	clock := a.As(guard.Actor{Name: "ana", Way: guard.Schedule})
	_, err = clock.Due(ctx, promise.DueSave, id, began.Add(time.Minute))
	require.ErrorAs(t, err, &held, "machines would stand still for it")
	assert.True(t, held.Guarded)
	require.NoError(t, a.DropPromise(ctx, id, promise.Saved))
	savedDaily(t, a, id, began)
	_, err = clock.Due(ctx, promise.DueSave, id, began.Add(time.Minute))
	require.NoError(t, err, "nothing stands still for that")
	require.NoError(t, a.DropPromise(ctx, id, promise.Saved))
	promised := turning(false)
	promised.Bound = deployments.BoundByBlackouts
	done(rule, promised) // its time is what was promised
	done(rule, turning(true))
	done(a, turning(false)) // a person may
	done(a, turning(true))
	notice := 400 * time.Millisecond
	guarding(&promise.GuardedTerms{Notice: notice}, nil)
	timed := turning(false)
	timed.Bound = deployments.BoundByWindows
	done(rule, timed) // that it is done was promised, and so said
	done(rule, turning(true))
	_, err = rule.Begin(ctx, turning(false))
	require.ErrorAs(t, err, &held)
	assert.True(t, held.Announced)
	said := held.Until
	assert.WithinRange(t, said, began.Add(notice), time.Now().Add(notice))
	_, err = rule.Begin(ctx, turning(false))
	require.ErrorAs(t, err, &held)
	assert.Equal(t, said, held.Until, "it is said once")
	c, err := a.Clock(ctx, began, 10)
	require.NoError(t, err)
	is := func(u Upcoming) bool { return u.Kind == promise.DueAnnounced && u.At.Equal(said) }
	assert.True(t, slices.ContainsFunc(c.Next, is), "Today has it")
	require.Eventually(t, func() bool { _, err := rule.Begin(ctx, turning(false)); return err == nil }, time.Minute, 20*time.Millisecond)
	assert.False(t, time.Now().Before(said))
	note, err := a.Due(ctx, promise.DueAnnounced, id, said)
	require.NoError(t, err)
	assert.Contains(t, note, "may be done for 1d")
	require.NoError(t, a.DropPromise(ctx, id, promise.Guarded))
	c, err = a.Clock(ctx, began, 10)
	require.NoError(t, err)
	assert.False(t, slices.ContainsFunc(c.Next, is))
}

// TestOffHoursFollowTheSun has machines go off and come back by the clocks of their sites, of which one is far to the west.
func TestOffHoursFollowTheSun(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	all, err := a.workspace.Connections()
	require.NoError(t, err)
	for i := range all {
		if all[i].TimeZone = "Europe/Madrid"; all[i].Site == "tramonta" {
			all[i].TimeZone = "America/Santiago"
		}
	}
	require.NoError(t, a.workspace.SetConnections(all))
	id := ofScenario(t, a)
	off := func() map[string]int {
		d, err := a.Deployment(ctx, id)
		require.NoError(t, err)
		out := map[string]int{}
		for i := range d.Stand.Plan.Resources {
			if r := &d.Stand.Plan.Resources[i]; r.Off {
				out[r.Site]++
			}
		}
		return out
	}
	day := time.Date(2027, 6, 1, 12, 0, 0, 0, time.UTC)
	terms := promise.HoursTerms{Local: true}
	terms.Off, err = promise.Daily(day, "FREQ=DAILY", "19:00", "UTC")
	require.NoError(t, err)
	terms.On, err = promise.Daily(day, "FREQ=DAILY", "07:00", "UTC")
	require.NoError(t, err)
	p, err := a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Hours, Hours: &terms}, day)
	require.NoError(t, err)
	assert.Equal(t, "America/Santiago", p.Hours.Zones["tramonta"])
	assert.Equal(t, "Europe/Madrid", p.Hours.Zones["vega"])
	at := func(kind, when string) string {
		moment, err := time.Parse(time.RFC3339, when)
		require.NoError(t, err)
		note, err := a.Due(ctx, kind, id, moment)
		require.NoError(t, err)
		return note
	}
	at(promise.DueOff, "2027-06-01T17:00:00Z") // seven in the evening in Madrid, one in the afternoon in Santiago
	slept := off()
	assert.NotEmpty(t, slept["vega"])
	assert.Zero(t, slept["tramonta"])
	at(promise.DueOff, "2027-06-01T23:00:00Z")
	night := off()
	assert.NotZero(t, night["tramonta"])
	assert.Equal(t, slept["vega"], night["vega"])
	at(promise.DueOn, "2027-06-02T05:00:00Z")
	assert.Equal(t, map[string]int{"tramonta": night["tramonta"]}, off(), "it is day in Madrid alone")
	at(promise.DueOn, "2027-06-02T11:00:00Z")
	assert.Empty(t, off())
	assert.Equal(t, "it is on again by now", at(promise.DueOff, "2027-06-02T12:00:00Z"))
	assert.Equal(t, "it was so already", at(promise.DueOn, "2027-06-02T12:00:00Z"))

	events, err := a.Calendar(ctx, id, day, day.AddDate(0, 0, 1))
	require.NoError(t, err)
	assert.Len(t, events, 4, "each site's evening and morning")
}
