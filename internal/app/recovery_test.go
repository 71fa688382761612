package app

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/site"
)

// fallen is a deployment of the scenario whose machines are raised again, with the place where one of them is.
type fallen struct {
	t   *testing.T
	a   *App
	id  int64
	now time.Time
}

func (f *fallen) terms() *promise.RecoveredTerms {
	f.t.Helper()
	all, err := f.a.PromisesOf(ctx, f.id, f.now)
	require.NoError(f.t, err)
	for i := range all {
		if all[i].Kind == promise.Recovered {
			return all[i].Recovered
		}
	}
	f.t.Fatal("it is not promised")
	return nil
}

// at is the site of a machine, with the machine's id there.
func (f *fallen) at(machine string) (site.Site, string) {
	f.t.Helper()
	d, err := f.a.Deployment(ctx, f.id)
	require.NoError(f.t, err)
	sites, err := f.a.Sites()
	require.NoError(f.t, err)
	return sites[d.Stand.Plan.Resource(machine).Site], d.Stand.Plan.Known[machine]["site.id"]
}

// switched has somebody switch a machine off or on at its site.
func (f *fallen) switched(machine, action string, want site.State) {
	f.t.Helper()
	at, id := f.at(machine)
	_, err := at.Invoke(ctx, kinds.Instance, id, action)
	require.NoError(f.t, err)
	require.Eventually(f.t, func() bool {
		got, err := at.Read(ctx, kinds.Instance, id)
		return err == nil && got.State == want
	}, 20*time.Second, 20*time.Millisecond)
}

// watched looks at all machines, as the clock does.
func (f *fallen) watched(later time.Duration) *promise.RecoveredTerms {
	f.t.Helper()
	f.now = f.now.Add(later)
	require.NoError(f.t, f.a.WatchPromises(ctx, f.now))
	return f.terms()
}

// due does what is due then.
func (f *fallen) due() (string, error) {
	f.t.Helper()
	at := f.terms().At
	require.False(f.t, at.IsZero(), "something is due")
	f.now = at
	return f.a.As(guard.Actor{Name: "ana", Way: guard.Schedule}).Due(ctx, promise.DueRecover, f.id, f.now)
}

// serves says that all machines are well by what is seen of them.
func (f *fallen) serves() {
	f.t.Helper()
	assert.Empty(f.t, f.watched(time.Second).Down)
	state, off := powerOf(f.t, f.a, f.id)
	assert.Equal(f.t, run.Standing, state)
	assert.Zero(f.t, off)
}

// TestWhatFellIsRaisedAgain has machines be switched off, hang and vanish, sites be silent, and people work on them, and looks what is done by itself.
func TestWhatFellIsRaisedAgain(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, 0.003)
	f := &fallen{t: t, a: a, id: ofScenario(t, a), now: time.Now()}
	terms, err := promise.Recovering("5m", 4, true)
	require.NoError(t, err)
	_, err = a.SetPromise(ctx, promise.Promise{Deployment: f.id, Kind: promise.Recovered, Recovered: terms}, f.now)
	require.NoError(t, err)
	assert.Empty(t, f.watched(time.Second).Down)

	f.switched("contacts-host-1", "stop", site.Stopped)
	down := f.watched(time.Second).Down
	require.NotEmpty(t, down)
	assert.Equal(t, promise.Fall{Machine: "contacts-host-1", How: promise.FellOff, Level: down[0].Level, Since: f.now.UTC()}, down[0])
	assert.Equal(t, f.now.Add(5*time.Minute).UTC(), f.terms().At)
	note, err := f.a.Due(ctx, promise.DueRecover, f.id, f.now.Add(4*time.Minute))
	require.NoError(t, err)
	assert.Contains(t, note, "been down for less", "not as soon as that")
	f.watched(4 * time.Minute)
	note, err = f.due()
	require.NoError(t, err)
	assert.Contains(t, note, "contacts-host-1 was off")
	f.serves()

	f.switched("map-host-1", "stop", site.Stopped) // somebody starts it by hand, and nothing runs on it
	f.switched("map-host-1", "start", site.Active)
	down = f.watched(time.Second).Down
	require.NotEmpty(t, down)
	assert.Equal(t, promise.FellSilent, down[0].How, "%+v", down)
	f.watched(time.Minute)
	note, err = f.due()
	require.NoError(t, err)
	assert.Contains(t, note, "map-host-1 was silent")
	f.serves()

	at, id := f.at("forecast-host-2")
	require.NoError(t, at.Delete(ctx, kinds.Instance, id))
	require.Eventually(t, func() bool { _, err := at.Read(ctx, kinds.Instance, id); return site.ClassOf(err) == site.NotFound }, 20*time.Second, 20*time.Millisecond)
	f.watched(time.Second)
	f.watched(5 * time.Minute)
	box.Misbehave(sandbox.Rule{Fault: sandbox.Unavailable, Site: "alisio-norte"})
	note, err = f.due()
	require.NoError(t, err)
	assert.Contains(t, note, "nobody can say now", "a site that is silent does not have what it has gone")
	box.Misbehave()
	assert.False(t, f.watched(2*time.Minute).At.IsZero(), "it is tried again")
	note, err = f.due()
	require.NoError(t, err)
	assert.Contains(t, note, "forecast-host-2 was gone")
	f.serves()

	f.switched("gauge-node-1", "stop", site.Stopped)
	down = f.watched(time.Second).Down
	raise := func() {
		o, err := a.RaisingAgain(ctx, f.id, down)
		carriedTo(t, a, o, err, run.Standing)
	}
	raise() // somebody was faster
	f.now = f.now.Add(5 * time.Minute)
	note, err = f.due()
	require.NoError(t, err)
	assert.Equal(t, "all came back by itself", note)
	assert.Zero(t, f.terms().At)

	for range 2 { // the fourth time, and one that is too many
		f.switched("gauge-node-1", "stop", site.Stopped)
		f.watched(time.Second)
		f.watched(5 * time.Minute)
		note, err = f.due()
	}
	assert.ErrorIs(t, err, promise.ErrCalled, note)
	assert.Zero(t, f.watched(time.Hour).At, "nothing more is done by itself")
	assert.False(t, f.terms().Called.IsZero())
	raise()
	f.serves()
	assert.True(t, f.terms().Called.IsZero(), "all is well again")

	o, err := a.Powering(ctx, f.id, "forecast-host", false)
	carriedTo(t, a, o, err, run.Standing)
	assert.Empty(t, f.watched(48*time.Hour).Down, "what somebody switched off is off")
	_, err = a.As(guard.Actor{Name: "zoe", Way: guard.Schedule}).Due(ctx, promise.DueRecover, f.id, f.now)
	assert.NoError(t, err)
	kept, err := a.PromisesOf(ctx, f.id, f.now)
	require.NoError(t, err)
	assert.Equal(t, "in force", kept[0].Unproven())
}

// TestWhatIsGoneIsNotBuiltAgainUnlessThatWasSaid holds that what a rebuilt machine loses is for somebody to say.
func TestWhatIsGoneIsNotBuiltAgainUnlessThatWasSaid(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	f := &fallen{t: t, a: a, id: ofScenario(t, a), now: time.Now()}
	_, err := a.SetPromise(ctx, promise.Promise{Deployment: f.id, Kind: promise.Recovered, Recovered: &promise.RecoveredTerms{After: time.Minute}}, f.now)
	require.ErrorContains(t, err, "tries: ")
	_, err = a.SetPromise(ctx, promise.Promise{Deployment: f.id, Kind: promise.Recovered, Recovered: &promise.RecoveredTerms{After: time.Minute, Tries: 3}}, f.now)
	require.NoError(t, err)
	at, id := f.at("forecast-host-2")
	require.NoError(t, at.Delete(ctx, kinds.Instance, id))
	require.Eventually(t, func() bool { _, err := at.Read(ctx, kinds.Instance, id); return site.ClassOf(err) == site.NotFound }, 20*time.Second, 20*time.Millisecond)
	f.watched(time.Second)
	f.watched(time.Minute)
	_, err = f.due()
	assert.ErrorContains(t, err, "forecast-host-2 is gone from its site, and is not built again by itself")
	assert.Empty(t, f.terms().Tried, "nothing was tried")
	assert.False(t, f.watched(2*time.Minute).At.IsZero(), "it is said again")
}
