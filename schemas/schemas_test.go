package schemas

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"andamio/internal/core/alarm"
	"andamio/internal/core/change"
	"andamio/internal/core/decide"
	"andamio/internal/core/estate"
	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/ledger"
	"andamio/internal/core/level"
	"andamio/internal/core/mapping"
	"andamio/internal/core/migrate"
	"andamio/internal/core/offer"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/quota"
	"andamio/internal/core/settling"
	"andamio/internal/core/window"
	"andamio/internal/site/drivers"
)

func schema(t *testing.T, name string) *jsonschema.Schema {
	t.Helper()
	data, err := Files.ReadFile(name)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource(name, doc))
	s, err := c.Compile(name)
	require.NoError(t, err)
	return s
}

func validate(t *testing.T, s *jsonschema.Schema, text string) error {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	require.NoError(t, err)
	return s.Validate(doc)
}

func TestRealOutputIsValid(t *testing.T) {
	for file, name := range map[string]string{
		"../internal/core/plan/plantest/drill.plan.json":         "plan.schema.json",
		"../internal/core/plan/plantest/storm-season.plan.json":  "plan.schema.json",
		"../examples/flood-watch/estate.json":                    "estate.schema.json",
		"../examples/borrowed/estate.json":                       "estate.schema.json",
		"../internal/core/plan/testdata/gauge-chain.plan.json":   "plan.schema.json",
		"../internal/core/plan/testdata/relay-tiers.plan.json":   "plan.schema.json",
		"../internal/core/plan/testdata/by-hand.plan.json":       "plan.schema.json",
		"../internal/core/plan/testdata/borrowed.plan.json":      "plan.schema.json",
		"../internal/core/plan/testdata/words.plan.json":         "plan.schema.json",
		"../examples/placement/estate.json":                      "estate.schema.json",
		"../internal/core/problem/testdata/basin.placement.json": "placement.schema.json",
	} {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.NoError(t, validate(t, schema(t, name), string(data)), file)
	}
}

// TestAnEstateSaysWhoIsAway: an estate of those that answer is written, valid and read with the others' names and reasons.
func TestAnEstateSaysWhoIsAway(t *testing.T) {
	data, err := os.ReadFile("../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	e.Away = []estate.Away{{Name: "azud", Why: "nothing listens there"}}
	text, err := e.Write()
	require.NoError(t, err)
	require.NoError(t, validate(t, schema(t, "estate.schema.json"), string(text)))
	again, err := estate.Read(text)
	require.NoError(t, err)
	assert.Equal(t, e.Away, again.Away)
	assert.Error(t, validate(t, schema(t, "estate.schema.json"), strings.Replace(string(text), `"why"`, `"because"`, 1)))
}

// TestChangesAreValidPlans holds plans that change what stands against the schema: a tier switched off, and all retired.
func TestChangesAreValidPlans(t *testing.T) {
	p := plantest.Plan(t, "drill")
	stands, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	stands.Plan.Known["gauge-node-1"] = map[string]string{"site.id": "presa-compute-1"}
	rest := change.Rest(p, func(r *plan.Resource) bool { return r.Service == "map" })
	for purpose, to := range map[string]*plan.Plan{"stop map": rest, "retire": change.Nothing(p).Plan} {
		c, err := change.Compile(stands, to, purpose)
		require.NoError(t, err)
		data, err := c.Write()
		require.NoError(t, err)
		assert.NoError(t, validate(t, schema(t, "plan.schema.json"), string(data)), purpose)
	}
}

func TestSchemasRefuseWhatIsWrong(t *testing.T) {
	data, err := os.ReadFile("../internal/core/plan/plantest/drill.plan.json")
	require.NoError(t, err)
	s := schema(t, "plan.schema.json")
	for what, change := range map[string][2]string{
		"version":       {"andamio.plan/1", "andamio.plan/2"},
		"unknown key":   {`"currency"`, `"coin"`},
		"unknown op":    {`"op": "plug"`, `"op": "unscrew"`},
		"unknown kind":  {`"kind": "volume"`, `"kind": "bucket"`},
		"negative time": {`"seconds": 2`, `"seconds": -2`},
		"bad function":  {`"get_secret": [`, `"get_secret": 3, "x": [`},
	} {
		changed := strings.Replace(string(data), change[0], change[1], 1)
		require.NotEqual(t, string(data), changed, what)
		assert.Error(t, validate(t, s, changed), what)
	}
}

func TestFilesWrittenByHandAreValid(t *testing.T) {
	for file, name := range map[string]string{"../examples/placement/basin.yaml": "problem.schema.json", "../internal/core/rules/default.yaml": "rules.schema.json"} {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		var tree any
		require.NoError(t, yaml.Unmarshal(data, &tree))
		text, err := json.Marshal(tree)
		require.NoError(t, err)
		assert.NoError(t, validate(t, schema(t, name), string(text)), file)
	}
}

// TestInventoryFilesAreValid holds the mapping that ships and standing rules against their schemas, and mistakes too.
func TestInventoryFilesAreValid(t *testing.T) {
	for _, d := range drivers.All {
		assert.NoError(t, validate(t, schema(t, "mapping.schema.json"), asJSON(t, string(d.Mapping))), d.Name)
	}
	for _, bad := range []string{"version: andamio.mapping/1\nclasses: [{type: compute}]", "version: andamio.mapping/1\nauthority: {cores: everybody}",
		"version: andamio.mapping/1\nclasses: [{type: a, class: b, attributes: {c: {from: d, value: e}}}]"} {
		assert.Error(t, validate(t, schema(t, "mapping.schema.json"), asJSON(t, bad)), bad)
		_, err := mapping.Read([]byte(bad))
		assert.Error(t, err, "the reader agrees: %s", bad)
	}
	good := "version: andamio.settling/1\nrules: [{rule: a, type: changed, settle: correct-record}, {rule: b, name: 'try-*', settle: ignore, reason: c, days: 3}]"
	assert.NoError(t, validate(t, schema(t, "settling.schema.json"), asJSON(t, good)))
	_, err := settling.Read([]byte(good))
	assert.NoError(t, err)
	for _, bad := range []string{"version: andamio.settling/1\nrules: [{rule: a, settle: adopt}]", "version: andamio.settling/1\nrules: [{rule: a, type: b, settle: correct-site}]",
		"version: andamio.settling/1\nrules: [{rule: a, type: b, settle: ignore}]"} {
		assert.Error(t, validate(t, schema(t, "settling.schema.json"), asJSON(t, bad)), bad)
		_, err := settling.Read([]byte(bad))
		assert.Error(t, err, "the reader agrees: %s", bad)
	}
}

// TestDirectoriesAreDescribed holds the scenario's directory of teams, and some that are wrong, against the schema and the reader.
func TestDirectoriesAreDescribed(t *testing.T) {
	data, err := os.ReadFile("../examples/flood-watch/teams.yaml")
	require.NoError(t, err)
	assert.NoError(t, validate(t, schema(t, "teams.schema.json"), asJSON(t, string(data))))
	_, err = guard.ReadDirectory(data)
	assert.NoError(t, err)
	for _, bad := range []string{"people: {a: {}}", "people: {A: {}}\ngrants: []", "people: {a: {nick: b}}\ngrants: []", "people: {a: {}}\ngrants: [{to: a}]",
		"people: {a: {}}\nroles: {r: [sing]}\ngrants: []", "people: {a: {}}\ngrants: [{to: a, role: engineer, sites: ['']}]"} {
		bad = "version: andamio.teams/1\n" + bad
		assert.Error(t, validate(t, schema(t, "teams.schema.json"), asJSON(t, bad)), bad)
		_, err := guard.ReadDirectory([]byte(bad))
		assert.Error(t, err, "the reader agrees: %s", bad)
	}
}

// TestOffersAreDescribed holds the scenario's offers, and some that are wrong, against the schema and the reader.
func TestOffersAreDescribed(t *testing.T) {
	files, err := filepath.Glob("../examples/offers/*.yaml")
	require.NoError(t, err)
	require.Len(t, files, 3)
	for _, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.NoError(t, validate(t, schema(t, "offer.schema.json"), asJSON(t, string(data))), f)
		_, err = offer.Read(data)
		assert.NoError(t, err, f)
	}
	for _, bad := range []string{"title: ''", "title: a\nname: fixed", "title: a\nquestions: [{input: a}]", "title: a\nquestions: [{input: a, ask: b, from: 1}]",
		"title: a\nsites: ['']", "title: a\nvariants: [{places: [a]}]"} {
		bad = "version: andamio.offer/1\noffer: a\ntemplate: b\n" + bad
		assert.Error(t, validate(t, schema(t, "offer.schema.json"), asJSON(t, bad)), bad)
		_, err := offer.Read([]byte(bad))
		assert.Error(t, err, "the reader agrees: %s", bad)
	}
}

// TestQuotasAndApprovalsAreDescribed holds the scenario's, and some that are wrong, against the schemas and the readers.
func TestQuotasAndApprovalsAreDescribed(t *testing.T) {
	quotas := func(data []byte) error { _, err := quota.Read(data); return err }
	hooks := func(data []byte) error { _, err := hook.Read(data); return err }
	rates := func(data []byte) error { _, err := ledger.ReadRates(data); return err }
	rules := func(data []byte) error { _, err := decide.Read(data); return err }
	levels := func(data []byte) error { _, err := level.Read(data); return err }
	windows := func(data []byte) error { _, err := window.Read(data); return err }
	thresholds := func(data []byte) error { _, err := alarm.Read(data); return err }
	for _, x := range []struct {
		name, version string
		read          func([]byte) error
		bad           []string
	}{
		{"thresholds", alarm.Version, thresholds, []string{"thresholds: [{name: a}]", "thresholds: [{name: a, measure: cores}]", "thresholds: [{name: a, measure: cores, warning: {}}]", "thresholds: [{name: a, measure: cores, warning: {above: 1, below: 2}}]",
			"thresholds: [{name: a, measure: cores, warning: {above: 1, for: soon}}]", "thresholds: [{name: a, measure: cores, warning: {unlike: 0}}]", "thresholds: [{name: '', measure: cores, missing: 1m}]", "thresholds: [{name: a, measure: cores, missing: 1m, odd: 1}]"}},
		{"windows", window.Version, windows, []string{"blackouts: [{name: a}]", "blackouts: [{name: A, from: '2027-01-01', until: '2027-01-02'}]", "blackouts: [{name: a, from: '2027-01-01'}]",
			"blackouts: [{name: a, from: soon, until: '2027-01-02'}]", "maintenance: [{name: a, rule: FREQ=DAILY, at: '2', for: 1h}]", "maintenance: [{name: a, rule: FREQ=DAILY, at: '02:00', for: 1h, from: '2027-01-01'}]"}},
		{"hooks", hook.Version, hooks, []string{"hooks: [{hook: a}]", "hooks: [{hook: A, on: [run.began], call: 'https://x.test', secret: x}]", "hooks: [{hook: a, on: [], call: 'https://x.test', secret: x}]",
			"hooks: [{hook: a, on: [run.flew], call: 'https://x.test', secret: x}]", "hooks: [{hook: a, on: [run.began], call: 'https://x.test'}]", "hooks: [{hook: a, on: [run.began], call: 'ftp://x.test', secret: x}]",
			"hooks: [{hook: a, on: [run.began], call: 'https://x.test', secret: x, tell: [owner]}]", "mail: {server: x, from: a@b.test}\nhooks: []", "mail: {server: 'x:25', from: a@b.test, user: a}\nhooks: []"}},
		{"rates", ledger.RatesVersion, rates, []string{"unit: cr", "unit: cr\ncurrency: eur\nrates: [{from: 2026-01-01, value: 1}]", "unit: cr\ncurrency: EUR\nrates: []",
			"unit: cr\ncurrency: EUR\nrates: [{from: today, value: 1}]", "unit: cr\ncurrency: EUR\nrates: [{from: 2026-01-01, value: 0}]"}},
		{"levels", level.Version, levels, []string{"levels: [{level: a}]", "levels: [{level: A, save: {rule: FREQ=DAILY, at: '02:00', keep: 1}}]", "levels: [{level: a, save: {rule: FREQ=DAILY, at: '2', keep: 1}}]",
			"levels: [{level: a, save: {rule: FREQ=DAILY, at: '02:00', keep: 0}}]", "levels: [{level: a, drill: {rule: FREQ=DAILY, at: '02:00'}}]", "levels: []\nrequire: [{rule: a, level: b}]"}},
		{"quotas", quota.Version, quotas, []string{"quotas: [{quota: a}]", "quotas: [{quota: a b, most: {cores: 1}}]", "quotas: [{quota: a, most: {wings: 1}}]", "quotas: [{quota: a, each: site, most: {cores: 1}}]", "quotas: [{quota: a, most: {cores: -1}}]"}},
		{"approvals", decide.Version, rules, []string{"rules: [{rule: a, then: shrug, say: b}]", "rules: [{rule: a, then: approve}]", "rules: [{rule: a, then: approve, say: b, ask: [c]}]", "rules: [{rule: a, then: ask, say: b, after: 1h}]"}},
	} {
		data, err := os.ReadFile("../examples/flood-watch/" + x.name + ".yaml")
		require.NoError(t, err)
		assert.NoError(t, validate(t, schema(t, x.name+".schema.json"), asJSON(t, string(data))))
		assert.NoError(t, x.read(data))
		for _, bad := range x.bad {
			bad = "version: " + x.version + "\n" + bad
			assert.Error(t, validate(t, schema(t, x.name+".schema.json"), asJSON(t, bad)), bad)
			assert.Error(t, x.read([]byte(bad)), "the reader agrees: %s", bad)
		}
	}
}

// TestPlansOfMovesAreDescribed holds moves in every mode, with a window, and what goes back from them, against the schema.
func TestPlansOfMovesAreDescribed(t *testing.T) {
	data, err := os.ReadFile("../examples/flood-watch/estate.json")
	require.NoError(t, err)
	s := schema(t, "plan.schema.json")
	valid := func(p *plan.Plan) {
		t.Helper()
		text, err := p.Write()
		require.NoError(t, err)
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err)
		assert.NoError(t, s.Validate(doc))
	}
	design := plantest.Plan(t, "drill")
	stand, err := change.Done(change.Nothing(design), design)
	require.NoError(t, err)
	for _, mode := range []change.Mode{change.Cold, change.Warm, change.Live} {
		e, err := estate.Read(data)
		require.NoError(t, err)
		to, err := migrate.Relocate(stand.Plan, e, []migrate.Choice{{Instance: "contacts-host-1", Site: "alisio-norte", KeepMAC: true}}, nil)
		require.NoError(t, err)
		window := plan.Window{From: time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC), To: time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)}
		terms := change.Moving{Instances: []string{"contacts-host-1"}, Mode: mode,
			Copying: plan.Copying{Await: true, Pause: 0.3, Limit: 1e6, Grant: true, Windows: []plan.Window{window}}}
		move, whole, err := change.Move(stand, to, terms, "move")
		require.NoError(t, err)
		valid(move)
		there, err := change.Done(stand, move)
		require.NoError(t, err)
		back, err := change.Back(there, design, move, terms, "back")
		require.NoError(t, err)
		valid(back)
		commit, err := change.Compile(there, migrate.WithoutKept(whole, move.Renames), "commit")
		require.NoError(t, err)
		require.NoError(t, change.Consolidated(commit, move))
		assert.Equal(t, mode != change.Cold, commit.Step("contacts-host-1/consolidate") != nil)
		valid(commit)
	}
}

// asJSON is YAML as JSON.
func asJSON(t *testing.T, text string) string {
	t.Helper()
	var tree any
	require.NoError(t, yaml.Unmarshal([]byte(text), &tree))
	data, err := json.Marshal(tree)
	require.NoError(t, err)
	return string(data)
}
