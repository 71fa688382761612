package app

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/templates"
	"andamio/internal/site"
)

// kindsOf are the kinds of things, each once, in their order.
func kindsOf(all []reconcile.Thing) []reconcile.ThingKind {
	var out []reconcile.ThingKind
	seen := map[reconcile.ThingKind]bool{}
	for _, t := range all {
		if !seen[t.Kind] {
			seen[t.Kind] = true
			out = append(out, t.Kind)
		}
	}
	return out
}

func TestEverythingWithANameIsFound(t *testing.T) {
	t.Parallel()
	a, _, _ := deployed(t)
	sites, err := a.Sites()
	require.NoError(t, err)
	made, err := sites["vega"].Create(ctx, site.Request{Kind: kinds.Instance, Name: "archive-9", Cores: 1, MemoryGiB: 1, Image: "debian-12"})
	require.NoError(t, err)
	stands(t, sites["vega"], made)
	inv := surveyedAll(t, a)
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	all, err := a.Things(ctx, inv, tmpl)
	require.NoError(t, err)
	assert.ElementsMatch(t, reconcile.ThingKinds, kindsOf(all), "of every sort there is one")
	first := func(text string) reconcile.Thing {
		found := reconcile.Find(text, all)
		require.NotEmpty(t, found, text)
		return found[0]
	}
	assert.Equal(t, reconcile.ASite, first("vega").Kind)
	assert.Equal(t, reconcile.ARun, first("run 1").Kind)
	host := first("instance contacts-host-1 127.")
	assert.Equal(t, "contacts-host-1", host.ID)
	require.Len(t, host.Addresses, 2, "the one inside, and the one outside")
	for _, address := range host.Addresses {
		names := []string{}
		for _, x := range reconcile.Find(address, all) {
			names = append(names, x.Name)
		}
		assert.Contains(t, names, "contacts-host-1", "by its address %s", address)
	}
	assert.Equal(t, reconcile.AFinding, first("unmanaged archive-9").Kind)
	assert.Equal(t, reconcile.ATemplate, first("node template contacts-host").Kind)
	assert.Empty(t, reconcile.Find("nothing of this name", all))
	none, err := a.Things(ctx, nil, nil)
	require.NoError(t, err)
	assert.NotContains(t, kindsOf(none), reconcile.AFinding, "without an inventory there are none")
}

func TestARecordIsInTheMap(t *testing.T) {
	t.Parallel()
	a, _, inv := deployed(t)
	m, err := a.ServiceMap(ctx, inv)
	require.NoError(t, err)
	found := 0
	for i := range inv.RecordedRecords {
		if r := &inv.RecordedRecords[i]; r.Class == kinds.Instance && inv.MapNode(m, r.ID) != "" {
			found++
		}
	}
	assert.NotZero(t, found)
	assert.Empty(t, inv.MapNode(m, "no such record"))
}
