package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/service/offers"
	"andamio/internal/store"
)

const offersDir = "../../examples/offers"

func offerFile(t *testing.T, name string) []byte {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(offersDir, name+".yaml"))
	require.NoError(t, err)
	return text
}

// offering is a workspace in which the scenario's offers are published, for the scenario's people.
func offering(t *testing.T) *App {
	t.Helper()
	a, _ := aWorkspace(t, 0.003)
	text, err := os.ReadFile("../../examples/flood-watch/teams.yaml")
	require.NoError(t, err)
	_, err = a.SetDirectory(ctx, []byte(strings.Replace(string(text), "user: ana", `user: "`+a.Actor().Name+`"`, 1)))
	require.NoError(t, err)
	a = another(t, a)
	levels(t, a)
	for _, name := range []string{"trial-map", "worker-pool", "gauge-node"} {
		_, report, err := a.Publish(ctx, offerFile(t, name), offersDir)
		require.NoError(t, err, name)
		assert.Empty(t, report.Failed)
	}
	return a
}

// TestWhatIsOfferedIsSeenByItsAudience lists and opens offers as people of several teams: to those whom one is not for there is none.
func TestWhatIsOfferedIsSeenByItsAudience(t *testing.T) {
	t.Parallel()
	a := offering(t)
	for who, want := range map[string]string{"ana": "gauge-node trial-map worker-pool", "eva": "gauge-node", "teo": "trial-map worker-pool", "ibo": "trial-map", "lia": "", "mia": ""} {
		all, err := a.As(Actor{Name: who, Way: ByScreen}).Offers(ctx)
		require.NoError(t, err)
		var names []string
		for _, o := range all {
			names = append(names, o.Name)
		}
		assert.Equal(t, want, strings.Join(names, " "), who)
	}
	eva := a.As(Actor{Name: "eva", Way: ByScreen})
	_, err := eva.Offer(ctx, "trial-map", 0)
	_, none := eva.Offer(ctx, "no-such", 0)
	assert.Equal(t, strings.Replace(none.Error(), "no-such", "trial-map", 1), err.Error(), "what is not for them is as what is not there")
	assert.Equal(t, fault.NotFound, fault.CodeOf(err))
	_, _, err = eva.Publish(ctx, offerFile(t, "gauge-node"), offersDir)
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(eva.WithdrawOffer(ctx, "gauge-node")))
	require.NoError(t, a.WithdrawOffer(ctx, "gauge-node"))
	_, err = eva.Offer(ctx, "gauge-node", 0)
	assert.Equal(t, fault.NotFound, fault.CodeOf(err))
	o, err := a.Offer(ctx, "gauge-node", 1)
	require.NoError(t, err)
	assert.Equal(t, store.OfferWithdrawn, o.State)
}

// TestANewVersionSaysWhatChanges publishes another version, whose template is another by then, and asks by the old one.
func TestANewVersionSaysWhatChanges(t *testing.T) {
	t.Parallel()
	a := offering(t)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(dir, "map"), os.DirFS(filepath.Join(offersDir, "map"))))
	template, err := os.ReadFile(filepath.Join(dir, "map", "template.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "map", "template.yaml"), []byte(strings.Replace(string(template), "disk_size: 8 GiB", "disk_size: 80 GiB", 1)), 0o644))
	text := strings.NewReplacer("to: 3", "to: 2", "stage: trial", "stage: test", "  - { input: first, ask: Which level does it show first?, more: true }\n", "").Replace(string(offerFile(t, "trial-map")))
	now, report, err := a.Publish(ctx, []byte(text), dir)
	require.NoError(t, err)
	assert.EqualValues(t, 2, now.Number)
	assert.Equal(t, []string{"its template has changed", "stage: trial → test", "asks for first no more", "fronts: from 1 to 3 → from 1 to 2"}, report.Changes)
	assert.True(t, report.Whole)
	assert.Equal(t, 4, report.Tried)
	was, err := a.Offer(ctx, "trial-map", 1)
	require.NoError(t, err)
	assert.Equal(t, store.OfferSuperseded, was.State)
	require.NoError(t, os.RemoveAll(dir))
	prices := map[int64]money.Amount{}
	for _, o := range []offers.Offer{was, now} {
		q, err := another(t, a).Quote(ctx, o, nil, "", false)
		require.NoError(t, err)
		require.Empty(t, q.Cannot)
		prices[o.Number] = q.PerHour
	}
	assert.Less(t, prices[1], prices[2], "each is worked out of its template as it was published")
	_, err = a.As(Actor{Name: "ibo", Way: ByScreen}).Offer(ctx, "trial-map", 1)
	assert.Equal(t, fault.NotFound, fault.CodeOf(err), "what is superseded nobody asks for")
}

// TestAnOfferThatCannotBeHadIsNotPublished asks more of the dam than it has, and names what is not there.
func TestAnOfferThatCannotBeHadIsNotPublished(t *testing.T) {
	t.Parallel()
	a := offering(t)
	gauge := string(offerFile(t, "gauge-node"))
	_, report, err := a.Publish(ctx, []byte(strings.Replace(gauge, "value: 16 GiB", "value: 100 GiB", 1)), offersDir)
	require.NoError(t, err, "the dam has that")
	assert.Empty(t, report.Failed)
	pool := strings.NewReplacer(`sites: ["alisio-*", tramonta]`, "sites: [presa]", "variants:\n  - { sites: [tramonta], inputs: { memory: 16 GiB }, note: its smallest large size has that }\n", "").Replace(string(offerFile(t, "worker-pool")))
	_, report, err = a.Publish(ctx, []byte(pool), offersDir)
	require.ErrorContains(t, err, "of 12 answers that were tried cannot be had, such as cores ")
	assert.Equal(t, fault.Refused, fault.CodeOf(err))
	assert.NotEmpty(t, report.Failed)
	assert.NotEmpty(t, report.Failed[0].Why)
	o, err := a.Offer(ctx, "worker-pool", 0)
	require.NoError(t, err)
	assert.EqualValues(t, 1, o.Number, "what was published stays")
	for was, says := range map[string]string{
		"template: gauge\n->template: nowhere\n":                 "nowhere",
		`"team:gauging"->"team:delta"`:                           `audience[0]: "team:delta" is neither a person`,
		"- { input: reach, ask: Which reach of the river? }\n->": "",
		"stage: production->stage: production\npreset: small":    "preset: ",
		"name: \"gauge-${number}\"->name: \"Gauge ${number}\"":   `name: it makes names such as "Gauge 1", which no deployment can have`,
		"sites: [presa]->sites: [atlantis]":                      "it may stand at none of the sites that answer",
	} {
		from, to, _ := strings.Cut(was, "->")
		require.Contains(t, gauge, from)
		report, err := a.CheckOffer(ctx, []byte(strings.Replace(gauge, from, to, 1)), offersDir)
		switch {
		case says == "":
			assert.NoError(t, err, was)
		case err != nil:
			assert.ErrorContains(t, err, says)
		default:
			require.NotEmpty(t, report.Failed, was)
			assert.Contains(t, report.Failed[0].Why, says)
		}
	}
}

// TestAQuoteComparesSites asks what answers give: the cheapest place, and the same at every site.
func TestAQuoteComparesSites(t *testing.T) {
	t.Parallel()
	a := offering(t)
	teo := a.As(Actor{Name: "teo", Way: ByScreen})
	pool, err := teo.Offer(ctx, "worker-pool", 0)
	require.NoError(t, err)
	q, err := teo.Quote(ctx, pool, offer.Answers{"workers": "4", "cores": "hurried"}, "workers-1", true)
	require.NoError(t, err)
	require.Empty(t, q.Cannot)
	assert.Equal(t, offers.Size{Instances: 4, Cores: 32, MemoryGiB: 64, DiskGiB: 64, Addresses: 4}, q.Size)
	require.Len(t, q.Sites, 3)
	assert.Equal(t, q.PerHour, q.Sites[0].PerHour, "nothing is cheaper than the cheapest site")
	assert.LessOrEqual(t, q.Sites[0].PerHour, q.Sites[1].PerHour)
	assert.Equal(t, q.PerHour*offers.HoursPerMonth, q.PerMonth)
	assert.Equal(t, "workers-1", q.Draft().Plan.Name)
	q, err = teo.Quote(ctx, pool, offer.Answers{"workers": "3"}, "", true)
	require.NoError(t, err)
	assert.Equal(t, []offer.Wrong{{Input: "workers", Ask: "How many workers?", Why: "3 is not offered; it goes from 2 to 8 in steps of 2"}}, q.Wrong)
	assert.Nil(t, q.Draft())
	fixed := money.Of(1.5)
	pool.Price = offer.Price{PerHour: &fixed}
	q, err = teo.Quote(ctx, pool, nil, "", false)
	require.NoError(t, err)
	assert.Equal(t, fixed, q.PerHour)
	pool.Price.Hidden = true
	q, err = teo.Quote(ctx, pool, nil, "", false)
	require.NoError(t, err)
	assert.True(t, q.Hidden)
	assert.Zero(t, q.PerHour)
}

// TestWhereSitesAreReachedIsNotToldWhoAsks has all sites be away: whoever asks learns that nothing can be priced, and no address; the engineer
// learns which does not answer where.
func TestWhereSitesAreReachedIsNotToldWhoAsks(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, 0.003)
	text, err := os.ReadFile("../../examples/flood-watch/teams.yaml")
	require.NoError(t, err)
	_, err = a.SetDirectory(ctx, []byte(strings.Replace(string(text), "user: ana", `user: "`+a.Actor().Name+`"`, 1)))
	require.NoError(t, err)
	a = another(t, a)
	_, _, err = a.Publish(ctx, offerFile(t, "trial-map"), offersDir)
	require.NoError(t, err)
	o, err := a.Offer(ctx, "trial-map", 0)
	require.NoError(t, err)
	box.Close()
	for who, told := range map[string]bool{"ana": true, "ibo": false} {
		_, err := a.As(Actor{Name: who, Way: ByScreen}).Quote(ctx, o, nil, "x", false)
		require.ErrorContains(t, err, "no site answers")
		assert.Equal(t, fault.Unavailable, fault.CodeOf(err))
		assert.Equal(t, told, strings.Contains(err.Error(), "127."), who)
	}
}
