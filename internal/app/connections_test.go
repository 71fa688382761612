package app

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/clock"
	"andamio/internal/core/estate"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/sandbox"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
)

// unconnected is a workspace without sites, and how vega could be connected to it.
func unconnected(t *testing.T) (*App, *sandbox.Sandbox, workspace.Connection) {
	t.Helper()
	a, box := aWorkspace(t, 0.003)
	c, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	require.NoError(t, a.workspace.SetConnections(nil))
	fresh := workspace.Connection{Site: "vega", Kind: estate.Private, TimeZone: "Europe/Lisbon"}
	tell(t, &fresh, workspace.Values{"url": c.Address(), "token": c.Credential()})
	return a, box, fresh
}

func TestASiteIsTriedBeforeItIsKept(t *testing.T) {
	t.Parallel()
	a, box, good := unconnected(t)
	for name, c := range map[string]struct {
		change func(*workspace.Connection)
		says   string
	}{
		"name":       {func(c *workspace.Connection) { c.Site = "Vega 1" }, "small letters"},
		"other name": {func(c *workspace.Connection) { c.Site = "altair" }, `calls itself "vega"`},
		"kind":       {func(c *workspace.Connection) { c.Kind = "home" }, "edge, private or public"},
		"zone":       {func(c *workspace.Connection) { c.TimeZone = "Mars/Base" }, "no time zone"},
		"address":    {func(c *workspace.Connection) { tell(t, c, workspace.Values{"url": "ftp://x"}) }, "https or http"},
		"password":   {func(c *workspace.Connection) { tell(t, c, workspace.Values{"url": "https://me:secret@x"}) }, "no credential belongs into the address"},
		"nobody":     {func(c *workspace.Connection) { tell(t, c, workspace.Values{"url": "http://127.0.0.1:9"}) }, "does not answer"},
		"token":      {func(c *workspace.Connection) { tell(t, c, workspace.Values{"token": "wrong"}) }, "does not take the credential"},
		"no token":   {func(c *workspace.Connection) { tell(t, c, workspace.Values{"token": ""}) }, "no credential"},
		"region":     {func(c *workspace.Connection) { c.Regions = []string{"z"} }, `no region "z"; it has a, b`},
		"schedule":   {func(c *workspace.Connection) { c.Schedule = "now and then" }, "no recurrence rule"},
	} {
		try := good
		c.change(&try)
		_, err := a.Connect(ctx, try)
		require.ErrorContains(t, err, c.says, name)
		assert.NotContains(t, err.Error(), good.Credential(), "no error tells a credential")
		all, err := a.workspace.Connections()
		require.NoError(t, err)
		assert.Empty(t, all, "%s: nothing is kept", name)
	}
	tested, err := a.Connect(ctx, good)
	require.NoError(t, err)
	assert.Equal(t, []string{"read", "create", "change", "delete"}, tested.Access.May)
	assert.Equal(t, []string{"a", "b"}, tested.Access.Regions)
	kept, err := a.workspace.Files().Read(workspace.FileSites)
	require.NoError(t, err)
	assert.NotContains(t, string(kept), good.Credential())
	_, err = a.Connect(ctx, good)
	assert.ErrorContains(t, err, "connected already")

	reader := good
	tell(t, &reader, workspace.Values{"token": box.Account("vega", "auditor", false, "read")})
	told, err := a.Test(ctx, reader)
	require.NoError(t, err)
	assert.Equal(t, []string{"create", "change", "delete"}, told.Access.MayNot)
	assert.Contains(t, strings.Join(told.Warns, " "), "nothing can be deployed there")
	_, err = reader.Open().Create(ctx, site.Request{Kind: kinds.Volume, Name: "x", DiskGiB: 1})
	assert.ErrorContains(t, err, "auditor may not create here", "and that is so")
}

func TestACredentialForFirstUseIsChangedAtOnce(t *testing.T) {
	t.Parallel()
	a, box, c := unconnected(t)
	first := box.Account("vega", "deploy-bot", true, "read", "create", "change", "delete")
	tell(t, &c, workspace.Values{"token": first})
	_, err := c.Open().Describe(ctx)
	require.ErrorContains(t, err, "first use only")
	_, err = a.Connect(ctx, c)
	require.NoError(t, err)
	kept, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	assert.NotEqual(t, first, kept.Credential())
	assert.False(t, kept.Rotated.IsZero())
	_, err = kept.Open().Describe(ctx)
	assert.NoError(t, err)
	_, err = c.Open().Describe(ctx)
	assert.ErrorContains(t, err, "the token is missing or wrong", "the first one is worth nothing any more")
}

func TestCredentialsAreChangedAndSitesRemovedSafely(t *testing.T) {
	t.Parallel()
	a, _, c := unconnected(t)
	_, err := a.Connect(ctx, c)
	require.NoError(t, err)
	require.NoError(t, a.Rotate(ctx, "vega", ""))
	now, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	assert.NotEqual(t, c.Credential(), now.Credential())
	require.ErrorContains(t, a.Rotate(ctx, "vega", "wrong"), "does not take the credential")
	still, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	assert.Equal(t, now.Credential(), still.Credential(), "one that does not work is not kept")
	_, err = a.Survey(ctx, reconcile.SurveyRequest{Site: "vega"})
	require.NoError(t, err)

	_, err = a.MakeSenderSecret(ctx, "vega")
	require.NoError(t, err)
	_, err = a.secretOf("vega")
	require.NoError(t, err)
	require.NoError(t, a.Disconnect(ctx, "vega"))
	assert.ErrorContains(t, a.Disconnect(ctx, "vega"), "none is connected")
	for _, shelf := range []string{workspace.ShelfSites, workspace.ShelfNotices, workspace.ShelfSenders} {
		left, err := a.workspace.Vault.Get(shelf, "vega")
		require.NoError(t, err)
		assert.Empty(t, left, "another site of the name has other secrets than %s", shelf)
	}
	seen, err := a.store.Observations(ctx)
	require.NoError(t, err)
	assert.Empty(t, seen)
}

func TestASiteWithSomethingStandingIsNotRemoved(t *testing.T) {
	t.Parallel()
	a, _, _ := deployed(t)
	err := a.Disconnect(ctx, "vega")
	require.ErrorContains(t, err, "retire it before the site is removed")
	_, err = a.workspace.Connection("vega")
	assert.NoError(t, err)
}

func TestSchedulesAreMeantInTheSitesTimeZone(t *testing.T) {
	t.Parallel()
	c := workspace.Connection{TimeZone: "Europe/Lisbon", Schedule: "FREQ=DAILY;BYHOUR=2;BYMINUTE=30;BYSECOND=0"}
	next, err := c.Next(time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Equal(t, "2026-07-02T01:30:00Z", next.UTC().Format(time.RFC3339), "summer time")
	next, err = c.Next(time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Equal(t, "2026-12-02T02:30:00Z", next.UTC().Format(time.RFC3339), "winter time")
	c.Schedule = ""
	next, err = c.Next(time.Now())
	require.NoError(t, err)
	assert.True(t, next.IsZero())

	a, _ := aWorkspace(t, 0.003)
	hourly, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	isDue := func(now time.Time) bool {
		d, err := a.surveyDue(ctx, &hourly, now)
		require.NoError(t, err)
		v, err := clock.Judge(&d, clock.CatchUp, now)
		require.NoError(t, err)
		assert.Zero(t, v.Missed)
		return !v.Do.IsZero()
	}
	assert.True(t, isDue(time.Now()), "what was never surveyed is due")
	s, err := a.Survey(ctx, reconcile.SurveyRequest{Site: "vega"})
	require.NoError(t, err)
	assert.False(t, isDue(s.Started))
	assert.True(t, isDue(s.Started.Add(61*time.Minute)))
}

// TestAFilterLeavesOutOthersAndMakesNothingMissing surveys a site for what bears a tag alone.
func TestAFilterLeavesOutOthersAndMakesNothingMissing(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	tagged := box.Drift(sandbox.DriftRequest{Seed: 3, Count: 4, Sorts: []sandbox.Change{sandbox.Created}})
	require.NotEmpty(t, tagged)
	inv := surveyedAll(t, a)
	var choices []reconcile.Choice
	for _, f := range inv.Findings {
		choices = append(choices, reconcile.Choice{Finding: f, Way: inventory.Adopt})
	}
	s, err := a.Settling(ctx, inv, choices, "", time.Time{})
	require.NoError(t, err)
	_, _, err = a.Settle(ctx, s)
	require.NoError(t, err)
	all, err := a.workspace.Connections()
	require.NoError(t, err)
	for i := range all {
		all[i].Filter = workspace.FilterOf([]string{"instance", " owner=nobody "})
	}
	require.NoError(t, a.workspace.SetConnections(all))
	assert.Empty(t, surveyedAll(t, a).Findings, "what the filter leaves out is not gone, and what deployments made is always seen")
}

func TestSecretsAreNowhereInTheOpen(t *testing.T) {
	t.Parallel()
	a, _, c := unconnected(t)
	_, err := a.Connect(ctx, c)
	require.NoError(t, err)
	_, private, err := a.workspace.MakeKey("bastion")
	require.NoError(t, err)
	kept, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	shown, err := json.Marshal(kept)
	require.NoError(t, err)
	assert.NotContains(t, string(shown), c.Credential())
	files, err := filepath.Glob(filepath.Join(a.workspace.Dir, "*"))
	require.NoError(t, err)
	for _, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.NotContains(t, string(data), c.Credential(), f)
		assert.NotContains(t, string(data), private, f)
	}
	keys, err := a.workspace.Keys()
	require.NoError(t, err)
	require.Len(t, keys, 1)
	assert.False(t, keys[0].Kept, "the private half was given out, and is not kept")
	_, _, err = a.workspace.MakeKey("bastion")
	assert.ErrorContains(t, err, "already")
	_, err = a.workspace.BringKey("mine", []byte("no key"))
	assert.ErrorContains(t, err, "no private key")
	public, err := a.workspace.BringKey("mine", []byte(private))
	require.NoError(t, err)
	assert.Contains(t, public, "ssh-ed25519")
}

func TestOnlyStandInsDrift(t *testing.T) {
	t.Parallel()
	a, _, _ := unconnected(t)
	_, err := a.Drift(ctx, sites.DriftRequest{Count: 1})
	assert.ErrorContains(t, err, "no such site")
	b, _ := aWorkspace(t, 0.003)
	done, err := b.Drift(ctx, sites.DriftRequest{Seed: 4, Count: 3, Sorts: []string{"created"}})
	require.NoError(t, err)
	assert.Len(t, done, 3)
	_, err = b.Drift(ctx, sites.DriftRequest{Count: 1, Sorts: []string{"burnt"}})
	assert.ErrorContains(t, err, `no change "burnt"`)
}

// tell tells a connection's driver something.
func tell(t *testing.T, c *workspace.Connection, v workspace.Values) {
	t.Helper()
	require.NoError(t, c.Tell(v))
}

// TestConnectionsOfBeforeThereWereDrivers reads what earlier programs kept.
func TestConnectionsOfBeforeThereWereDrivers(t *testing.T) {
	t.Parallel()
	a, _, _ := unconnected(t)
	old := `[{"site": "vega", "kind": "private", "url": "https://vega.test:8443", "authorities": "PEM", "pin": "abc", "certificate": "CERT", "account": "ops"},
		{"site": "presa", "kind": "edge", "url": "http://10.0.0.1:80", "insecure": true}]`
	require.NoError(t, a.workspace.Files().Write(workspace.FileSites, []byte(old)))
	got, err := a.workspace.Connections()
	require.NoError(t, err)
	assert.Equal(t, workspace.Values{"url": "https://vega.test:8443", "authority": "PEM", "pin": "abc", "certificate": "CERT"}, got[0].Settings)
	assert.Equal(t, "ops", got[0].Account)
	assert.Equal(t, workspace.Values{"url": "http://10.0.0.1:80", "insecure": workspace.On}, got[1].Settings)
	assert.Contains(t, got[1].Exposed(), "in clear")
	require.NoError(t, a.workspace.NoteConnection(ctx, "presa", func(c *workspace.Connection) { c.Account = "bot" }))
	again, err := a.workspace.Connection("presa")
	require.NoError(t, err)
	assert.Equal(t, got[1].Settings, again.Settings, "and they are kept anew as they were")
}

// TestAConnectionOfAnUnknownDriverIsNoLostOne leaves what a later program connected as it is, and says so.
func TestAConnectionOfAnUnknownDriverIsNoLostOne(t *testing.T) {
	t.Parallel()
	a, _, good := unconnected(t)
	text := `[{"site": "azud", "driver": "semaphore", "settings": {"mast": "7"}}]`
	require.NoError(t, a.workspace.Files().Write(workspace.FileSites, []byte(text)))
	_, err := a.workspace.Connections()
	require.ErrorContains(t, err, `no driver is called "semaphore"; there are occi`)
	require.ErrorContains(t, err, workspace.FileSites)
	_, err = a.Connect(ctx, good)
	require.NoError(t, err)
	var kept []workspace.Connection
	require.NoError(t, a.workspace.ReadJSON(workspace.FileSites, &kept))
	require.Len(t, kept, 2)
	assert.Equal(t, "semaphore", kept[0].Driver)
	assert.Equal(t, workspace.Values{"mast": "7"}, kept[0].Settings)
	err = (&workspace.Connection{Driver: "semaphore"}).Tell(workspace.Values{"mast": "7"})
	require.Error(t, err)
	_, err = (&workspace.Connection{Site: "azud", Driver: "semaphore"}).Open().Describe(ctx)
	assert.ErrorContains(t, err, "semaphore")
}
