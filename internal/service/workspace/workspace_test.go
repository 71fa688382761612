package workspace_test

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

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/service/workspace"
)

func opened(t *testing.T) *workspace.Workspace {
	t.Helper()
	w, err := workspace.Open(filepath.Join(t.TempDir(), "ws"))
	require.NoError(t, err)
	return w
}

func aSite(name string) workspace.Connection {
	return workspace.Connection{Site: name, Kind: estate.Private, TimeZone: "Europe/Lisbon", Schedule: "FREQ=DAILY;INTERVAL=2;BYHOUR=3"}
}

func TestWhatIsKeptOfASiteIsItsOwn(t *testing.T) {
	w, ctx := opened(t), context.Background()
	var group sync.WaitGroup
	for i := range 8 { // side by side, as several processes do
		group.Go(func() { assert.NoError(t, w.KeepConnection(ctx, aSite(fmt.Sprintf("site-%d", i)), true)) })
	}
	group.Wait()
	all, err := w.Connections()
	require.NoError(t, err)
	assert.Len(t, all, 8)
	err = w.KeepConnection(ctx, aSite("site-1"), true)
	assert.Equal(t, fault.Conflict, fault.CodeOf(err), err)
	err = w.KeepConnection(ctx, aSite("alto"), false)
	assert.Equal(t, fault.NotFound, fault.CodeOf(err), err)
	c, err := w.Connection("site-1")
	require.NoError(t, err)
	require.NoError(t, w.DropConnection(ctx, c))
	_, err = w.Connection("site-1")
	assert.Equal(t, fault.NotFound, fault.CodeOf(err))
	assert.ErrorContains(t, err, "there are site-")
}

func TestAScheduleCountsFromWhenItWasSet(t *testing.T) {
	w, ctx := opened(t), context.Background()
	require.NoError(t, w.KeepConnection(ctx, aSite("vega"), true))
	c, err := w.Connection("vega")
	require.NoError(t, err)
	require.False(t, c.Since.IsZero())
	first, err := c.Next(time.Now())
	require.NoError(t, err)
	second, err := c.Next(first)
	require.NoError(t, err)
	assert.InDelta(t, 48, second.Sub(first).Hours(), 1, "every other day, whenever it is asked")
	again, err := c.Next(first.Add(25 * time.Hour))
	require.NoError(t, err)
	assert.Equal(t, second, again)
	since := c.Since
	c.Account = "other"
	require.NoError(t, w.KeepConnection(ctx, c, false))
	c, err = w.Connection("vega")
	require.NoError(t, err)
	assert.Equal(t, since, c.Since, "another account is no other schedule")
	c.Schedule = "FREQ=HOURLY"
	require.NoError(t, w.KeepConnection(ctx, c, false))
	c, err = w.Connection("vega")
	require.NoError(t, err)
	assert.True(t, c.Since.After(since))
}

func TestWhatIsWrongWithAConnectionIsSaid(t *testing.T) {
	for says, change := range map[string]func(*workspace.Connection){
		"the kind is edge":        func(c *workspace.Connection) { c.Kind = "lunar" },
		"is no time zone":         func(c *workspace.Connection) { c.TimeZone = "Ribera/Alta" },
		"never occurs":            func(c *workspace.Connection) { c.Schedule = "FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30" },
		"has an INTERVAL of 0":    func(c *workspace.Connection) { c.Schedule = "FREQ=HOURLY;INTERVAL=0" },
		`there is no kind "moon"`: func(c *workspace.Connection) { c.Filter.Kinds = []kinds.Kind{"moon"} },
	} {
		c := aSite("vega")
		change(&c)
		err := c.Check()
		assert.ErrorContains(t, err, says)
		assert.Equal(t, fault.Invalid, fault.CodeOf(err), says)
	}
}

func TestNamesOfSitesAreChecked(t *testing.T) {
	w := opened(t)
	require.NoError(t, w.KeepConnection(context.Background(), aSite("vega"), true))
	for name, want := range map[string]fault.Code{"alto": "", "vega": fault.Conflict, "": fault.Invalid, "Alto": fault.Invalid, "9": fault.Invalid, "a/b": fault.Invalid} {
		assert.Equal(t, want, fault.CodeOf(w.CheckSiteName(name)), name)
	}
}

func TestAFilterTakesWhatIsAskedFor(t *testing.T) {
	f := workspace.FilterOf([]string{" instance", "", "owner=telemetry", "night"})
	assert.Equal(t, []kinds.Kind{kinds.Instance}, f.Kinds)
	tagged := func(owner, night string) *mapping.Observation {
		raw := map[string]string{}
		if owner != "" {
			raw["andamio.tag.owner"] = owner
		}
		if night != "" {
			raw["andamio.tag.night"] = night
		}
		return &mapping.Observation{Raw: raw}
	}
	assert.True(t, f.Takes(kinds.Instance, tagged("telemetry", "off")))
	assert.False(t, f.Takes(kinds.Volume, tagged("telemetry", "off")))
	assert.False(t, f.Takes(kinds.Instance, tagged("payroll", "off")))
	assert.False(t, f.Takes(kinds.Instance, tagged("telemetry", "")))
	assert.True(t, f.Takes(kinds.Volume, &mapping.Observation{Mark: "andamio d1 x/create #r"}), "what deployments made always concerns us")
}

func TestKeyPairsAreMadeOnceAndBroughtWhole(t *testing.T) {
	w := opened(t)
	public, private, err := w.MakeKey("bastion")
	require.NoError(t, err)
	_, _, err = w.MakeKey("bastion")
	assert.Equal(t, fault.Conflict, fault.CodeOf(err))
	_, _, err = w.MakeKey("No Name")
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	again, err := w.BringKey("other", []byte(private))
	require.NoError(t, err)
	assert.Equal(t, public, again)
	_, err = w.BringKey("third", []byte("hunter2"))
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	assert.NotContains(t, err.Error(), "hunter2")
	all, err := w.Keys()
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, []bool{false, true}, []bool{all[0].Kept, all[1].Kept}, "what was given out is not kept")
}

func TestSecretsComeFromTheEnvironmentOrAreKept(t *testing.T) {
	w := opened(t)
	require.NoError(t, w.SetSecrets(map[string]string{"kept": "a"}))
	t.Setenv(workspace.SecretVariable("given.one"), "b")
	got, err := w.Secrets([]string{"kept", "given.one"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"kept": "a", "given.one": "b"}, got)
	missing, err := w.MissingSecrets([]string{"kept", "lost"})
	require.NoError(t, err)
	assert.Equal(t, []string{"lost"}, missing)
	_, err = w.Secrets([]string{"lost"})
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	assert.ErrorContains(t, err, "ANDAMIO_SECRET_LOST")
}

func TestAFileThatIsDamagedIsNamed(t *testing.T) {
	w := opened(t)
	for name, read := range map[string]func() error{
		workspace.FileSites:    func() error { _, err := w.Connections(); return err },
		workspace.FileRules:    func() error { _, err := w.Rules(); return err },
		workspace.FileSettling: func() error { _, err := w.SettlingRules(); return err },
		workspace.FileMapping:  func() error { _, err := w.Mapping(); return err },
		workspace.FileZone:     func() error { _, err := w.Zone(); return err },
	} {
		require.NoError(t, read(), "%s need not be there", name)
		require.NoError(t, os.WriteFile(w.Path(name), []byte("{ not this"), 0o600))
		assert.ErrorContains(t, read(), name)
		require.NoError(t, os.Remove(w.Path(name)))
	}
}

func TestOnlyAnEmptyFolderIsMarkedForStandIns(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new")
	require.NoError(t, workspace.MarkForStandIns(dir))
	require.NoError(t, workspace.MarkForStandIns(dir), "one that is marked stays so")
	require.NoError(t, workspace.New(dir).OfStandIns())
	w := opened(t)
	assert.Equal(t, fault.NotFound, fault.CodeOf(w.OfStandIns()))
	require.NoError(t, os.WriteFile(w.Path("letter"), []byte("dear"), 0o600))
	assert.Equal(t, fault.Conflict, fault.CodeOf(workspace.MarkForStandIns(w.Dir)))
	require.NoError(t, w.WriteJSON(workspace.FileMark, workspace.Mark{Format: "of tomorrow"}))
	assert.Equal(t, fault.Refused, fault.CodeOf(w.OfStandIns()))
}
