package inventory_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/inventory"
	"andamio/internal/core/inventory/damage"
	"andamio/internal/core/kinds"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// at is an instance at a site, with attributes in pairs.
func at(site, provider string, pairs ...string) inventory.Record {
	r := inventory.Record{ID: site + "/" + provider, Class: kinds.Instance, Name: provider, Site: site, Region: "a", Provider: provider, Seen: noon.Add(-time.Hour)}
	for i := 0; i < len(pairs); i += 2 {
		r.Set(pairs[i], pairs[i+1])
	}
	return r
}

func with(r inventory.Record, change func(*inventory.Record)) inventory.Record {
	r = r.Clone()
	change(&r)
	return r
}

// the reconciliation of three lists, with everything seen.
func reconciled(d, r, o inventory.Records) *inventory.Report {
	return inventory.Reconcile(inventory.Input{Declared: d, Recorded: r, Observed: o, Now: noon})
}

// TestWhoseWordCounts has a case for every authority and every combination of who says what.
func TestWhoseWordCounts(t *testing.T) {
	for name, c := range map[string]struct {
		attribute, d, r, o string
		finds              bool
		right              string
		follows            bool
		ways               []inventory.Way
	}{
		"declared counts":                     {"cores", "4", "4", "8", true, "4", false, []inventory.Way{"correct-site", "adopt", "ignore"}},
		"the record follows the declared":     {"cores", "4", "2", "4", false, "", true, nil},
		"recorded counts if nobody declares":  {"cores", "", "4", "8", true, "4", false, []inventory.Way{"correct-record", "ignore"}},
		"equal numbers are equal":             {"cores", "4", "4", "4.0", false, "", false, nil},
		"tags are as recorded":                {"tag.owner", "", "maps", "alerts", true, "maps", false, []inventory.Way{"correct-record", "correct-site", "ignore"}},
		"a tag taken away":                    {"tag.owner", "", "maps", "", true, "maps", false, []inventory.Way{"correct-record", "correct-site", "ignore"}},
		"a tag added":                         {"tag.owner", "", "", "maps", true, "", false, []inventory.Way{"correct-record", "correct-site", "ignore"}},
		"the site knows its hosts":            {"host", "", "a-1", "a-2", false, "", true, nil},
		"nobody counts costs":                 {"cost_per_hour", "1", "2", "3", false, "", false, nil},
		"what is not said is no disagreement": {"kernel", "", "6.1", "", false, "", false, nil},
	} {
		d, r, o := at("vega", "i-1", c.attribute, c.d), at("vega", "i-1", c.attribute, c.r), at("vega", "i-1", c.attribute, c.o)
		var declared inventory.Records
		if c.d != "" {
			declared = inventory.Records{d}
		}
		report := reconciled(declared, inventory.Records{r}, inventory.Records{o})
		require.Equal(t, c.finds, len(report.Findings) == 1, name)
		assert.Equal(t, c.follows, len(report.Follows) == 1, name)
		if c.finds {
			f := report.Findings[0]
			require.Len(t, f.Differences, 1, name)
			assert.Equal(t, c.right, f.Differences[0].Right, name)
			assert.Equal(t, c.ways, f.Ways, name)
			assert.NotEmpty(t, f.Why, name)
		}
	}
}

func TestEverySortOfFinding(t *testing.T) {
	known := at("vega", "i-1", "mac", "02:aa", "cores", "4")
	known.Mark = "mark one"
	copied := with(at("vega", "i-9"), func(r *inventory.Record) { r.Mark = "mark one" })
	elsewhere := with(known, func(r *inventory.Record) { r.Site, r.Provider, r.ID = "presa", "p-1", "presa/p-1" })
	second := with(known, func(r *inventory.Record) { r.ID, r.Provider = "other", "" })
	for name, c := range map[string]struct {
		d, r, o inventory.Records
		kind    inventory.Type
		review  bool
	}{
		"missing":            {nil, inventory.Records{known}, nil, inventory.Missing, false},
		"declared, missing":  {inventory.Records{known}, nil, nil, inventory.Missing, false},
		"unmanaged":          {nil, nil, inventory.Records{known}, inventory.Unmanaged, false},
		"a copy of the mark": {nil, inventory.Records{known}, inventory.Records{known, copied}, inventory.Duplicate, false},
		"recorded twice":     {nil, inventory.Records{known, second}, inventory.Records{known}, inventory.Duplicate, false},
		"moved":              {nil, inventory.Records{known}, inventory.Records{elsewhere}, inventory.Moved, false},
	} {
		report := reconciled(c.d, c.r, c.o)
		require.Len(t, report.Findings, 1, name)
		f := report.Findings[0]
		assert.Equal(t, c.kind, f.Type, name)
		assert.Equal(t, c.review, f.Review, name)
		assert.Equal(t, inventory.Ignore, f.Ways[len(f.Ways)-1], name)
	}
	assert.Empty(t, reconciled(inventory.Records{known}, inventory.Records{known}, inventory.Records{known}).Findings)
	fresh := reconciled(inventory.Records{known}, nil, inventory.Records{known})
	assert.Empty(t, fresh.Findings)
	assert.Len(t, fresh.New, 1, "what is declared and there is recorded by itself")
}

// TestWhatWeMovedIsAsItIsThere: the record of what a deployment moved follows it to where it is, with what only the site that it was at had said of it;
// what people said of it stays.
func TestWhatWeMovedIsAsItIsThere(t *testing.T) {
	r := at("vega", "i-1", "cores", "4", "zone", "b", "inside_address", "10.1.0.2", "tag.owner", "maps")
	there := func(pairs ...string) inventory.Record {
		x := with(at("presa", "p-1", pairs...), func(x *inventory.Record) { x.Mark = "mark one" })
		x.ID = r.ID
		return x
	}
	r.Mark = "mark one"
	d := there("cores", "4", "tag.owner", "maps")
	report := reconciled(inventory.Records{d}, inventory.Records{r}, inventory.Records{there("cores", "4", "zone", "dam", "tag.owner", "maps")})
	assert.Empty(t, report.Findings)
	require.Len(t, report.Follows, 1)
	right := map[string]string{}
	for _, x := range report.Follows[0].Changes {
		right[x.Attribute] = x.Right
	}
	assert.Equal(t, map[string]string{"site": "presa", "provider_id": "p-1", "name": "p-1", "zone": "dam", "inside_address": ""}, right)

	called := with(there("cores", "8", "zone", "dam", "tag.owner", "alerts"), func(x *inventory.Record) { x.Name = "as it was called there before" })
	report = reconciled(inventory.Records{d}, inventory.Records{r}, inventory.Records{called})
	require.Len(t, report.Findings, 1)
	var differ []string
	for _, x := range report.Findings[0].Differences {
		differ = append(differ, x.Attribute)
	}
	assert.Equal(t, []string{"cores", "tag.owner"}, differ)
}

func TestNothingIsGoneThatWasNotLookedFor(t *testing.T) {
	r := inventory.Records{at("vega", "i-1"), with(at("vega", "i-2"), func(r *inventory.Record) { r.Region = "b" }), with(at("vega", "i-3"), func(r *inventory.Record) { r.Region = "" })}
	in := inventory.Input{Recorded: r, Observed: inventory.Records{}, Now: noon, Coverage: inventory.Coverage{{Site: "vega", Region: "a"}: noon},
		Regions: []inventory.Region{{Site: "vega", Region: "a"}, {Site: "vega", Region: "b"}}}
	report := inventory.Reconcile(in)
	require.Len(t, report.Findings, 1)
	assert.Equal(t, "i-1", report.Findings[0].Name, "only what stood in the region that was seen")

	in.Now = noon.Add(72 * time.Hour)
	for _, f := range inventory.Reconcile(in).Findings {
		if f.Name != "i-1" {
			assert.Equal(t, inventory.Stale, f.Type, "what was not seen for long is stale, and not gone")
		}
	}
	in.Coverage[inventory.Region{Site: "vega", Region: "b"}] = noon
	assert.Len(t, inventory.Reconcile(in).Findings, 3, "all regions were seen")
}

func TestWhatFollowsIsNoFindingOfItsOwn(t *testing.T) {
	host := at("vega", "i-1")
	nic := with(at("vega", "n-1", "instance", "i-1"), func(r *inventory.Record) { r.Class = kinds.Interface })
	vol := with(at("vega", "v-1", "attached_to", "i-1", "disk_gib", "10"), func(r *inventory.Record) { r.Class = kinds.Volume })
	left := with(vol, func(r *inventory.Record) { r.Set("attached_to", "") })
	report := reconciled(nil, inventory.Records{nic, host, vol}, inventory.Records{left})
	require.Len(t, report.Findings, 1)
	assert.ElementsMatch(t, []string{"interface n-1", "volume v-1"}, report.Findings[0].Carries)

	grown := with(left, func(r *inventory.Record) { r.Set("disk_gib", "20") })
	report = reconciled(nil, inventory.Records{nic, host, vol}, inventory.Records{grown})
	require.Len(t, report.Findings, 2, "the volume has grown besides")
	for _, f := range report.Findings {
		if f.Class == kinds.Volume {
			require.Len(t, f.Differences, 1)
			assert.Equal(t, "disk_gib", f.Differences[0].Attribute)
		}
	}
}

func TestDecisionsAndWhatIsIgnoredAreObeyed(t *testing.T) {
	r := at("vega", "i-1", "mac", "02:aa", "cores", "4", "hostname", "gauge-1")
	o := with(r, func(x *inventory.Record) { x.Provider, x.ID = "i-2", "vega/i-2" })
	in := inventory.Input{Recorded: inventory.Records{r}, Observed: inventory.Records{o}, Now: noon}
	require.Empty(t, inventory.Reconcile(in).Findings, "evidence says that they are one")
	in.Decisions = []inventory.Decision{{Site: "vega", Provider: "i-2", Record: r.ID}}
	two := inventory.Reconcile(in)
	require.Len(t, two.Findings, 2, "a person says that they are two")

	in.Ignored = []inventory.Ignored{{Finding: two.Findings[0].ID, Until: noon.Add(time.Hour)}}
	assert.Len(t, inventory.Reconcile(in).Findings, 1)
	assert.Len(t, inventory.Reconcile(in).Ignored, 1)
	in.Now = noon.Add(2 * time.Hour)
	assert.Len(t, inventory.Reconcile(in).Findings, 2, "until its end")

	in.Decisions[0].Same, in.Ignored = true, nil
	other := at("vega", "i-2", "mac", "02:bb", "cores", "1", "hostname", "other")
	in.Observed = inventory.Records{other}
	one := inventory.Reconcile(in)
	require.Len(t, one.Findings, 1)
	assert.Equal(t, "decision", one.Findings[0].Match.By)
}

// TestAnIgnoredFindingComesBackWhenItIsAnother changes what was ignored further.
func TestAnIgnoredFindingComesBackWhenItIsAnother(t *testing.T) {
	r := at("vega", "i-1", "cores", "4")
	in := inventory.Input{Recorded: inventory.Records{r}, Observed: inventory.Records{at("vega", "i-1", "cores", "8")}, Now: noon}
	in.Ignored = []inventory.Ignored{{Finding: inventory.Reconcile(in).Findings[0].ID}}
	assert.Empty(t, inventory.Reconcile(in).Findings)
	in.Observed = inventory.Records{at("vega", "i-1", "cores", "16")}
	assert.Len(t, inventory.Reconcile(in).Findings, 1)
}

// TestTheOrderOfSourcesDoesNotMatter shuffles damaged inventories: the findings are the same.
func TestTheOrderOfSourcesDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		truth := damage.New(damage.Config{Seed: rapid.Uint64().Draw(t, "seed"), Things: 60, Gone: 0.1, New: 0.1, Lost: 0.4})
		ids := func(r, o inventory.Records) []string {
			var out []string
			for _, f := range reconciled(nil, r, o).Findings {
				out = append(out, f.ID)
			}
			return out
		}
		want := ids(truth.Recorded, truth.Observed)
		assert.Equal(t, want, ids(rapid.Permutation(truth.Recorded).Draw(t, "recorded"), rapid.Permutation(truth.Observed).Draw(t, "observed")))
	})
}

// TestATableGivesTheFindingsOfItsRecords reconciles the same inventories in memory and as files.
func TestATableGivesTheFindingsOfItsRecords(t *testing.T) {
	truth := damage.New(damage.Config{Seed: 12, Things: 400, Gone: 0.05, New: 0.05, Lost: 0.2})
	table := func(r inventory.Records) inventory.Source {
		out, err := inventory.ReadTable(inventory.WriteTable(r))
		require.NoError(t, err)
		return out
	}
	memory := reconciled(nil, truth.Recorded, truth.Observed)
	files := inventory.Reconcile(inventory.Input{Recorded: table(truth.Recorded), Observed: table(truth.Observed), Now: noon})
	require.Len(t, files.Findings, len(memory.Findings))
	for i := range memory.Findings {
		assert.Equal(t, memory.Findings[i].ID, files.Findings[i].ID)
		assert.Equal(t, memory.Findings[i].Why, files.Findings[i].Why)
	}
	assert.Equal(t, memory.Agreeing, files.Agreeing)
}

// TestWhatAFindingSaysOfIt: the words by which one decides.
func TestWhatAFindingSaysOfIt(t *testing.T) {
	r := at("vega", "i-1")
	stands := with(r, func(r *inventory.Record) {
		r.Origin = inventory.Origin{Deployment: "flood-watch", When: noon.Add(-time.Hour)}
	})
	unnamed := with(stands, func(r *inventory.Record) { r.Origin.Deployment = "" })
	seen := func(hours float64) inventory.Record {
		return with(r, func(r *inventory.Record) { r.Seen = noon.Add(-time.Duration(hours * float64(time.Hour))) })
	}
	never := with(r, func(r *inventory.Record) { r.Seen = time.Time{} })
	marked := with(r, func(r *inventory.Record) { r.Mark = "old" })
	here := "the survey of vega, region a listed everything there, and it is not among that"
	reached := inventory.Coverage{{Site: "vega", Region: "a"}: noon}
	elsewhere := inventory.Coverage{{Site: "vega", Region: "b"}: noon}
	stale := func(since string) string {
		return "it was seen last " + since + " ago, and no survey of vega, region a has reached it since: whether it is there is not known"
	}
	for name, c := range map[string]struct {
		d, r, o  inventory.Records
		coverage inventory.Coverage
		why      []string
	}{
		"gone":                        {nil, inventory.Records{r}, nil, reached, []string{here, "it was seen last at 2026-11-23 11:00 UTC"}},
		"gone, never seen":            {nil, inventory.Records{never}, nil, reached, []string{here}},
		"gone, of a deployment":       {inventory.Records{stands}, inventory.Records{r}, nil, reached, []string{here, "flood-watch says that it stands", "it was seen last at 2026-11-23 11:00 UTC"}},
		"gone, of one without a name": {inventory.Records{unnamed}, nil, nil, reached, []string{here, "a deployment says that it stands"}},
		"not seen for minutes":        {nil, inventory.Records{seen(1.5)}, nil, elsewhere, []string{stale("1h30m0s")}},
		"not seen for hours":          {nil, inventory.Records{seen(47)}, nil, elsewhere, []string{stale("47 hours")}},
		"not seen for two days":       {nil, inventory.Records{seen(48)}, nil, elsewhere, []string{stale("2 days")}},
		"not seen for days":           {nil, inventory.Records{seen(100)}, nil, elsewhere, []string{stale("4 days")}},
		"nobody's":                    {nil, nil, inventory.Records{r}, nil, []string{"no deployment declares it and no record knows it"}},
		"nobody's, with a mark":       {nil, nil, inventory.Records{marked}, nil, []string{"no deployment declares it and no record knows it", `it bears the mark "old", which no deployment of this workspace has now`}},
	} {
		report := inventory.Reconcile(inventory.Input{Declared: c.d, Recorded: c.r, Observed: c.o, Now: noon, Coverage: c.coverage, StaleAfter: time.Hour})
		require.Len(t, report.Findings, 1, name)
		assert.Equal(t, c.why, report.Findings[0].Why, name)
	}
	fresh := inventory.Reconcile(inventory.Input{Recorded: inventory.Records{r}, Now: noon, Coverage: elsewhere, StaleAfter: 2 * time.Hour})
	assert.Empty(t, fresh.Findings, "seen a moment ago")
	unseen := inventory.Reconcile(inventory.Input{Recorded: inventory.Records{never}, Now: noon, Coverage: elsewhere, StaleAfter: 2 * time.Hour})
	assert.Empty(t, unseen.Findings, "never seen")
}
