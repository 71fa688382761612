package level_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/condition"
	"andamio/internal/core/estate"
	"andamio/internal/core/level"
	"andamio/internal/core/promise"
)

var noon = time.Date(2026, 3, 27, 12, 0, 0, 0, time.UTC)

const ribera = `
version: andamio.levels/1
zone: Europe/Madrid
levels:
- { level: sandbag, note: For trials., save: { rule: FREQ=WEEKLY, at: "03:00", keep: 2 } }
- { level: levee, save: { rule: FREQ=DAILY, at: "02:00", keep: 7 }, drill: { rule: FREQ=MONTHLY, at: "04:30" } }
- { level: dam, storage: mirrored, save: { rule: FREQ=HOURLY, at: "00:10", keep: 48, barrier: true }, replicate: { site: tramonta, rule: FREQ=HOURLY, at: "00:30", lose: 4h }, drill: { rule: FREQ=WEEKLY, at: "04:30" } }
require:
- { rule: registers, when: '"contacts" in deployment.services', level: levee, say: A register of people is saved every night. }
- { rule: live, when: 'deployment.stage == "live"', level: sandbag, say: What is live is saved. }
- { rule: dear, when: 'has(deployment.tags.dear) && deployment.tags.dear == "yes"', level: dam, say: What is dear is kept twice. }
`

func read(t *testing.T) *level.File {
	t.Helper()
	f, err := level.Read([]byte(ribera))
	require.NoError(t, err)
	return f
}

func TestWhatALevelPromises(t *testing.T) {
	f := read(t)
	assert.Equal(t, []string{"sandbag", "levee", "dam"}, f.Names())
	levee := f.Level("levee")
	all, err := levee.Promises(7, f.Zone, noon)
	require.NoError(t, err)
	require.Len(t, all, 2)
	for _, p := range all {
		assert.EqualValues(t, 7, p.Deployment)
		assert.Equal(t, "levee", p.Level)
		assert.Equal(t, "Europe/Madrid", p.Zone())
		require.NoError(t, p.Check(noon))
	}
	assert.Equal(t, []promise.Kind{promise.Saved, promise.Drilled}, []promise.Kind{all[0].Kind, all[1].Kind})
	assert.Equal(t, []string{"saved every day 02:00, 7 kept", "drilled every month 04:30"}, levee.Words(f.Zone))
	assert.Equal(t, []string{"saved every hour, 48 kept, of one moment", "copied to tramonta every hour, 4h lost at most", "drilled every week 04:30", "volumes on storage mirrored"}, f.Level("dam").Words(f.Zone))
	assert.Equal(t, []int{2, 7, 48}, []int{f.Level("sandbag").Copies(), levee.Copies(), f.Level("dam").Copies()})
	assert.Nil(t, f.Level("moat"))
}

// TestWhatALevelRaisesAndBounds reads the clauses of which nothing is due by a time.
func TestWhatALevelRaisesAndBounds(t *testing.T) {
	f, err := level.Read([]byte(strings.Replace(ribera, "level: dam, ", "level: dam, recover: { after: 2m, tries: 3, rebuild: true }, limit: { per_second: 500, mib_per_second: 12.5 }, ", 1)))
	require.NoError(t, err)
	words := f.Level("dam").Words(f.Zone)
	assert.Contains(t, words, "raised again by itself after 2m down, 3 times a day at most, built again where it is gone")
	assert.Contains(t, words, "each volume bounded to 500 reads and writes and 12.5 MiB a second")
	all, err := f.Level("dam").Promises(7, f.Zone, noon)
	require.NoError(t, err)
	for i := range all {
		if t := all[i].Recovered; t != nil {
			t.Down, t.Tried = []promise.Fall{{Machine: "vm"}}, []time.Time{noon}
		}
	}
	assert.True(t, f.Level("dam").Same(all, f.Zone), "what fell meanwhile is none of its words")
}

// TestWhetherPromisesAreThoseOfALevel changes each of the terms by itself.
func TestWhetherPromisesAreThoseOfALevel(t *testing.T) {
	f := read(t)
	dam := f.Level("dam")
	mine := func() []promise.Promise {
		all, err := dam.Promises(7, f.Zone, noon.AddDate(1, 2, 3))
		require.NoError(t, err)
		return all
	}
	assert.True(t, dam.Same(mine(), f.Zone), "whenever it began")
	for name, change := range map[string]func(all []promise.Promise) []promise.Promise{
		"fewer kept": func(all []promise.Promise) []promise.Promise { all[0].Saved.Keep = 47; return all },
		"no barrier": func(all []promise.Promise) []promise.Promise { all[0].Saved.Barrier = false; return all },
		"seldom":     func(all []promise.Promise) []promise.Promise { all[2].Drilled.Rule = "FREQ=MONTHLY"; return all },
		"no drill":   func(all []promise.Promise) []promise.Promise { return all[:2] },
		"elsewhere":  func(all []promise.Promise) []promise.Promise { all[2].Drilled.Zone = "UTC"; return all },
		"lost more":  func(all []promise.Promise) []promise.Promise { all[1].Replicated.Lose *= 2; return all },
		"there":      func(all []promise.Promise) []promise.Promise { all[1].Replicated.Site = "vega"; return all },
		"moments":    func(all []promise.Promise) []promise.Promise { all[1].Replicated.Barrier = true; return all },
		"another":    func(all []promise.Promise) []promise.Promise { all[1] = all[0]; return all },
	} {
		assert.False(t, dam.Same(change(mine()), f.Zone), name)
	}
}

func TestWhoHasToHaveWhich(t *testing.T) {
	f := read(t)
	for name, c := range map[string]struct {
		of    condition.Subject
		level string
	}{
		"a register":           {condition.Subject{Services: []string{"contacts", "map"}}, "levee"},
		"a live register":      {condition.Subject{Services: []string{"contacts"}, Stage: "live"}, "levee"},
		"what is live":         {condition.Subject{Stage: "live"}, "sandbag"},
		"a dear live register": {condition.Subject{Services: []string{"contacts"}, Stage: "live", Tags: map[string]string{"dear": "yes"}}, "dam"},
		"nothing":              {condition.Subject{}, ""},
	} {
		r, err := f.Required(&c.of)
		require.NoError(t, err, name)
		got := ""
		if r != nil {
			got = r.Level
		}
		assert.Equal(t, c.level, got, name)
	}
	assert.True(t, f.Below("", "sandbag"), "none is less than any")
	assert.True(t, f.Below("levee", "dam"))
	assert.False(t, f.Below("dam", "dam"))
	assert.True(t, f.Below("moat", "sandbag"), "what there is no more counts for none")
	broken, err := level.Read([]byte(strings.Replace(ribera, `has(deployment.tags.dear) && `, "", 1)))
	require.NoError(t, err)
	r, err := broken.Required(&condition.Subject{Stage: "live"})
	require.ErrorContains(t, err, "the rule dear cannot be worked out")
	assert.Equal(t, "sandbag", r.Level, "the others hold")
}

func TestWhatASiteLacks(t *testing.T) {
	f := read(t)
	with, without := &estate.Site{Name: "vega", Storage: []estate.StorageClass{{Name: "mirrored"}}}, &estate.Site{Name: "presa"}
	all := level.Able{Keeps: true, Limits: true}
	assert.Empty(t, f.Level("dam").Lacks(with, all))
	assert.Equal(t, "presa has no storage mirrored, which dam takes", f.Level("dam").Lacks(without, all))
	assert.Equal(t, "vega keeps no snapshots, which dam takes", f.Level("dam").Lacks(with, level.Able{Limits: true}))
	assert.Empty(t, f.Level("levee").Lacks(without, level.Able{Keeps: true}), "it bounds nothing")
	f.Level("levee").Limit = &level.Limiting{PerSecond: 500}
	assert.Equal(t, "presa does not bound how much volumes are read and written, as levee does", f.Level("levee").Lacks(without, level.Able{Keeps: true}))
}

func TestWrongLevelsAreRefused(t *testing.T) {
	for says, change := range map[string][2]string{
		`version: "andamio.levels/2"`:                   {"levels/1", "levels/2"},
		"recover: after: machines are down for between": {"level: dam, storage", "level: dam, recover: { after: 1s, tries: 2 }, storage"},
		"recover: tries: between 1 and 20":              {"level: dam, storage", "level: dam, recover: { after: 1m, tries: 0 }, storage"},
		"limited: it bounds nothing":                    {"level: dam, storage", "level: dam, limit: {}, storage"},
		"limited: nothing is bounded by less":           {"level: dam, storage", "level: dam, limit: { per_second: -1 }, storage"},
		`"Dam" is no name`:                              {"level: dam, storage", "level: Dam, storage"},
		`levels[2]: another is called levee`:            {"level: dam, storage", "level: levee, storage"},
		`"02:60" is no time of day`:                     {`"02:00"`, `"02:60"`},
		`between 1 and 366 are kept`:                    {"keep: 7", "keep: 0"},
		`FREQ`:                                          {"FREQ=DAILY", "FREQ=NOW"},
		`is no time zone`:                               {"Europe/Madrid", "Europe/Ribera"},
		`level: there is no "moat"`:                     {"level: levee, say", "level: moat, say"},
		`require[1]: when:`:                             {`deployment.stage ==`, `site.stage ==`},
		`require[0]: say:`:                              {"say: A register of people is saved every night.", `say: ""`},
		`require[0]: it has no name`:                    {"rule: registers", `rule: ""`},
		`levels[1]: save: nothing is kept`:              {`save: { rule: FREQ=DAILY, at: "02:00", keep: 7 }, `, ""},
		`levels[0]: save: nothing is kept`:              {`, save: { rule: FREQ=WEEKLY, at: "03:00", keep: 2 }`, ""},
		`replicate: lose: "4x" is no span`:              {"lose: 4h", "lose: 4x"},
		`replicated: site: say where`:                   {"site: tramonta", `site: ""`},
		`replicate: "00:70" is no time`:                 {"00:30", "00:70"},
		`"kept"`:                                        {"keep: 7", "kept: 7"},
	} {
		text := strings.Replace(ribera, change[0], change[1], 1)
		require.NotEqual(t, ribera, text, says)
		_, err := level.Read([]byte(text))
		assert.ErrorContains(t, err, says)
	}
}

// TestMoreIsNeverLess draws files of levels and holds that what has to have one may have any that is not below it.
func TestMoreIsNeverLess(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 6).Draw(t, "levels")
		text := "version: andamio.levels/1\nlevels:\n"
		for i := range n {
			text += fmt.Sprintf("- { level: l%d, save: { rule: FREQ=DAILY, at: \"01:00\", keep: %d } }\n", i, i+1)
		}
		f, err := level.Read([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		a, b := rapid.IntRange(-1, n-1).Draw(t, "a"), rapid.IntRange(-1, n-1).Draw(t, "b")
		if got := f.Below(fmt.Sprintf("l%d", a), fmt.Sprintf("l%d", b)); got != (a < b) {
			t.Fatalf("l%d below l%d: %v", a, b, got)
		}
	})
}

func ExampleFile_Required() {
	f, _ := level.Read([]byte(ribera))
	r, _ := f.Required(&condition.Subject{Name: "register", Services: []string{"contacts"}})
	fmt.Println(r.Level, "-", r.Say)
	fmt.Println(strings.Join(f.Level(r.Level).Words(f.Zone), "; "))
	// Output:
	// levee - A register of people is saved every night.
	// saved every day 02:00, 7 kept; drilled every month 04:30
}

// TestGuardedHoursAndRulesOfALevelDoNotContradict: machines do not stand still by its rules in its guarded hours.
func TestGuardedHoursAndRulesOfALevelDoNotContradict(t *testing.T) {
	const guarded = `guard: { rule: FREQ=DAILY, at: "06:00", for: 16h }`
	for terms, says := range map[string]string{
		`save: { rule: FREQ=HOURLY, at: "00:10", keep: 4, barrier: true }`:                                                                                                     "saved: machines would stand still at 13:10 CET, which is guarded",
		`save: { rule: FREQ=DAILY, at: "02:00", keep: 4 }, replicate: { site: vega, rule: FREQ=WEEKLY, at: "21:59", barrier: true }`:                                           "replicated: machines would stand still at 21:59 CET, which is guarded",
		`save: { rule: FREQ=DAILY, at: "05:59", keep: 4, barrier: true }, replicate: { site: vega, rule: FREQ=HOURLY, at: "00:30" }, drill: { rule: FREQ=DAILY, at: "12:00" }`: "",
		`save: { rule: FREQ=DAILY, at: "22:00", keep: 4, barrier: true }`:                                                                                                      "",
	} {
		f, err := level.Read([]byte("version: andamio.levels/1\nzone: Europe/Madrid\nlevels: [ { level: dike, " + terms + ", " + guarded + " } ]"))
		if says == "" {
			require.NoError(t, err, terms)
			assert.Contains(t, f.Level("dike").Words(f.Zone), "guarded every day 06:00 for 16h")
			continue
		}
		assert.ErrorContains(t, err, says)
	}
}
