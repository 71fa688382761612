package inventory_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
)

// world is what is declared, recorded and observed of some things at a site, every one of them known by the site's id.
type world struct{ d, r, o inventory.Records }

func (w world) and(x world) world {
	return world{slices.Concat(w.d, x.d), slices.Concat(w.r, x.r), slices.Concat(w.o, x.o)}
}

// things draws a world of a site: instances with interfaces and volumes, which some of the three know, as they are or otherwise, twice or not at all.
func things(t *rapid.T, site string) world {
	var w world
	one := func(r inventory.Record) {
		seen := rapid.SampledFrom([]string{"d", "r", "o", "dr", "do", "ro", "dro", "dro", "ro"}).Draw(t, "known")
		other := func() inventory.Record {
			x := r.Clone()
			if rapid.IntRange(0, 2).Draw(t, "otherwise") == 0 {
				x.Set(rapid.SampledFrom([]string{"cores", "disk_gib", "tag.owner", "zone", "cost_per_hour", "attached_to"}).Draw(t, "what"), rapid.SampledFrom([]string{"", "1", "2"}).Draw(t, "as"))
			}
			return x
		}
		if strings.Contains(seen, "d") {
			w.d = append(w.d, other())
		}
		if strings.Contains(seen, "r") {
			w.r = append(w.r, other())
			if rapid.IntRange(0, 7).Draw(t, "twice") == 0 {
				x := other()
				x.ID += "-again"
				w.r = append(w.r, x)
			}
		}
		if strings.Contains(seen, "o") {
			w.o = append(w.o, other())
		}
	}
	for i := range rapid.IntRange(0, 4).Draw(t, "instances") {
		id := fmt.Sprint(site, "-i-", i)
		host := at(site, id, "cores", "2", "zone", "1", "tag.owner", "2", "cost_per_hour", "1")
		host.Mark = "mark of " + id
		one(host)
		nic := at(site, "n-"+id, "instance", id)
		nic.Class = kinds.Interface
		one(nic)
		vol := at(site, "v-"+id, "attached_to", id, "disk_gib", "1")
		vol.Class = kinds.Volume
		one(vol)
	}
	return w
}

// said is what a report says of everything, in an order of its own.
func said(r *inventory.Report) []string {
	var out []string
	for _, f := range r.Findings {
		out = append(out, fmt.Sprintf("%s %s %s/%s %v %v %v %v", f.Type, f.Class, f.Site, f.Name, f.Differences, f.Ways, f.Carries, f.Why))
	}
	for _, f := range r.Follows {
		out = append(out, fmt.Sprintf("follows %v", f))
	}
	for i := range r.New {
		out = append(out, fmt.Sprintf("new %v", r.New[i]))
	}
	slices.Sort(out)
	return append(out, fmt.Sprint(r.Declared, r.Recorded, r.Observed, r.Agreeing, r.Weighed, r.Review))
}

// TestWhatIsAtOneSiteSaysNothingOfAnother reconciles two sites together and each by itself: the findings are the same, and the counts are sums.
func TestWhatIsAtOneSiteSaysNothingOfAnother(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		a, b := things(t, "vega"), things(t, "presa")
		together := a.and(b)
		if rapid.Bool().Draw(t, "the other way") {
			together = b.and(a)
		}
		all, one, two := reconciled(together.d, together.r, together.o), reconciled(a.d, a.r, a.o), reconciled(b.d, b.r, b.o)
		apart := &inventory.Report{Findings: slices.Concat(one.Findings, two.Findings), Follows: slices.Concat(one.Follows, two.Follows), New: slices.Concat(one.New, two.New),
			Declared: one.Declared + two.Declared, Recorded: one.Recorded + two.Recorded, Observed: one.Observed + two.Observed, Agreeing: one.Agreeing + two.Agreeing,
			Weighed: one.Weighed + two.Weighed, Review: one.Review + two.Review}
		assert.Equal(t, said(apart), said(all))
		for i := 1; i < len(all.Findings); i++ {
			assert.GreaterOrEqual(t, all.Findings[i-1].Rank, all.Findings[i].Rank, "the gravest first")
		}
	})
}

// TestEveryThingIsSaidOnce: whatever three sources say, each thing that one of them knows agrees, is found, follows, is new, or follows from what is found.
func TestEveryThingIsSaidOnce(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		w := things(t, "vega")
		report := reconciled(w.d, w.r, w.o)
		if report.Weighed > 0 {
			return // what is like another goes by its name
		}
		times := map[string]int{}
		for _, f := range report.Findings {
			times[f.Name]++
			for _, c := range f.Carries {
				_, name, _ := strings.Cut(c, " ")
				times[name]++
			}
		}
		for _, r := range w.o {
			known := func(list inventory.Records) bool {
				return slices.ContainsFunc(list, func(x inventory.Record) bool { return x.Provider == r.Provider })
			}
			if !known(w.d) && !known(w.r) {
				assert.Positive(t, times[r.Name], "%s is nobody's", r.Name)
			}
		}
		for _, r := range slices.Concat(w.d, w.r) {
			if !slices.ContainsFunc(w.o, func(x inventory.Record) bool { return x.Provider == r.Provider }) {
				assert.Positive(t, times[r.Name], "%s is gone", r.Name)
			}
		}
	})
}

// TestTheSameEvidenceInAnyOrder has things whose ids were lost be matched by what they are like, several of them alike: which is which does not depend on who is asked first.
func TestTheSameEvidenceInAnyOrder(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		draw := func(what string, id func(i int) string) inventory.Records {
			var out inventory.Records
			for i := range rapid.IntRange(1, 5).Draw(t, what) {
				r := at("vega", id(i), "cores", rapid.SampledFrom([]string{"2", "4"}).Draw(t, "cores"), "tag.owner", rapid.SampledFrom([]string{"", "maps"}).Draw(t, "owner"),
					"hostname", rapid.SampledFrom([]string{"map-1", "map_1", "map-2", "levels"}).Draw(t, "hostname"), "mac", rapid.SampledFrom([]string{"", "02:aa", "02:bb"}).Draw(t, "mac"))
				r.Name = rapid.SampledFrom([]string{"map-1", "Map-1.ribera.test", "levels"}).Draw(t, "name")
				out = append(out, r)
			}
			return out
		}
		r, o := draw("recorded", func(i int) string { return fmt.Sprint("old-", i) }), draw("observed", func(i int) string { return fmt.Sprint("new-", i) })
		want := said(reconciled(nil, r, o))
		assert.Equal(t, want, said(reconciled(nil, rapid.Permutation(r).Draw(t, "r"), rapid.Permutation(o).Draw(t, "o"))))
	})
}

// TestARecordIsMadeOfBoth: what is declared and there is recorded as it was seen, with what only the declaration knows, and with what counts where they disagree.
func TestARecordIsMadeOfBoth(t *testing.T) {
	t.Parallel()
	d, o := at("vega", "i-1", "cores", "4", "service", "maps", "host", "a-1"), at("vega", "i-1", "cores", "8", "host", "a-2", "kernel", "6.1")
	d.Origin = inventory.Origin{Deployment: "flood-watch", Account: "theirs"}
	o.Origin, o.Class = inventory.Origin{Account: "ours"}, ""
	report := reconciled(inventory.Records{d}, nil, inventory.Records{o})
	require.Len(t, report.New, 1)
	got := report.New[0]
	assert.Equal(t, map[string]string{"cores": "4", "service": "maps", "host": "a-2", "kernel": "6.1"}, got.Attributes)
	assert.Equal(t, inventory.Origin{Deployment: "flood-watch", Account: "ours"}, got.Origin)
	assert.Equal(t, kinds.Instance, got.Class)
	o.Class = kinds.Host
	report = reconciled(inventory.Records{d}, nil, inventory.Records{o})
	require.Len(t, report.New, 1)
	assert.Equal(t, kinds.Host, report.New[0].Class, "as it was seen")
}

// TestWhatIsDeclaredAloneCarriesWhatFollows: an instance that is gone, which nobody recorded, is one finding with what was on it.
func TestWhatIsDeclaredAloneCarriesWhatFollows(t *testing.T) {
	t.Parallel()
	host, nic := at("vega", "i-1"), at("vega", "n-1", "instance", "i-1")
	nic.Class = kinds.Interface
	report := reconciled(inventory.Records{host, nic}, nil, nil)
	require.Len(t, report.Findings, 1)
	assert.Equal(t, []string{"interface n-1"}, report.Findings[0].Carries)
}

// TestWhatIsLeftOfAChangeRanksAsIfItWereAll: a volume that lost its instance, and is larger besides, counts as one that is larger.
func TestWhatIsLeftOfAChangeRanksAsIfItWereAll(t *testing.T) {
	t.Parallel()
	host, vol := at("vega", "i-1"), at("vega", "v-1", "attached_to", "i-1", "disk_gib", "10")
	vol.Class = kinds.Volume
	larger := with(vol, func(r *inventory.Record) { r.Set("disk_gib", "20") })
	alone := reconciled(nil, inventory.Records{host, vol}, inventory.Records{host, larger})
	require.Len(t, alone.Findings, 1)
	lost := with(larger, func(r *inventory.Record) { r.Set("attached_to", "") })
	for _, f := range reconciled(nil, inventory.Records{host, vol}, inventory.Records{lost}).Findings {
		if f.Class == kinds.Volume {
			assert.Equal(t, alone.Findings[0].Rank, f.Rank)
			assert.Equal(t, alone.Findings[0].Ways, f.Ways)
			assert.Equal(t, alone.Findings[0].Why, f.Why)
		}
	}
}

// TestLinesThatAreNoRecordsAreNamed reads lines with something wrong in one of them.
func TestLinesThatAreNoRecordsAreNamed(t *testing.T) {
	t.Parallel()
	const one, two = `{"id":"a","class":"instance","site":"vega"}`, `{"id":"b","class":"volume","site":"vega"}`
	got, err := inventory.ReadLines([]byte("\n" + one + "\n\n  \n" + two + "\n"))
	require.NoError(t, err)
	assert.Len(t, got, 2)
	for text, says := range map[string]string{
		one + "\n\n" + `{"id":"c","class":"instance","colour":"red"}`: "line 3: this is no record: json: unknown field",
		one + "\n" + one:                             "line 2: this is no record",
		`{"id":"","class":"instance"}`:               "line 1: this is no record",
		one + "\n[]":                                 "line 2: this is no record",
		`{"id":"` + strings.Repeat("a", 2<<20) + `"`: "a line is longer than 1048576 bytes",
	} {
		_, err := inventory.ReadLines([]byte(text))
		assert.ErrorContains(t, err, says)
	}
	for _, text := range []string{"class,id,id\n", "id,class,\n", "id,name\n", "id,\"class\n"} {
		_, err := inventory.ReadTable([]byte(text))
		assert.ErrorContains(t, err, "line 1: ", text)
	}
	for _, r := range []string{"runs-on", "a%Z=b", "a=%Z1", "a=b%4", "=%"} {
		table, err := inventory.ReadTable([]byte("id,class,relations\nx,instance," + r + "\n"))
		require.NoError(t, err)
		_, err = table.All()
		assert.ErrorContains(t, err, "is no relation", r)
	}
}

// TestWhatNobodyCountsHidesNothing: an attribute that counts for nobody comes before one that does.
func TestWhatNobodyCountsHidesNothing(t *testing.T) {
	t.Parallel()
	report := reconciled(nil, inventory.Records{at("vega", "i-1", "cost_per_hour", "1", "tag.owner", "maps")}, inventory.Records{at("vega", "i-1", "cost_per_hour", "2", "tag.owner", "alerts")})
	require.Len(t, report.Findings, 1)
	require.Len(t, report.Findings[0].Differences, 1)
	assert.Equal(t, "tag.owner", report.Findings[0].Differences[0].Attribute)
}

// TestAWordOnOneLeavesOthersAsTheyAre: a person says what the first of several observations is; the others are matched by their keys as ever.
func TestAWordOnOneLeavesOthersAsTheyAre(t *testing.T) {
	t.Parallel()
	in := inventory.Input{Recorded: inventory.Records{at("vega", "old"), at("vega", "i-2"), at("vega", "i-3")}, Now: noon,
		Observed:  inventory.Records{at("vega", "new"), at("vega", "i-2"), at("vega", "i-3")},
		Decisions: []inventory.Decision{{Site: "vega", Provider: "nobody's", Record: "nobody's", Same: true}, {Site: "vega", Provider: "new", Record: "vega/old", Same: true}}}
	report := inventory.Reconcile(in)
	for _, f := range report.Findings {
		assert.NotContains(t, []inventory.Type{inventory.Missing, inventory.Unmanaged}, f.Type, f.Name)
	}
}
