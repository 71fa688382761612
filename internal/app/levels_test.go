package app

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/promises"
	"andamio/internal/service/requests"
	"andamio/internal/service/snapshots"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

func levels(t *testing.T, a *App) {
	t.Helper()
	text, err := os.ReadFile("../../examples/flood-watch/levels.yaml")
	require.NoError(t, err)
	f, err := a.SetLevels(ctx, text)
	require.NoError(t, err)
	assert.Equal(t, []string{"sandbag", "levee", "dam"}, f.Names())
}

func stateOfLevel(t *testing.T, a *App, id int64) (level, required string, below, outdated bool) {
	t.Helper()
	all, err := a.LevelStates(ctx, time.Now())
	require.NoError(t, err)
	for _, s := range all {
		if s.Deployment == id {
			return s.Level, s.Required, s.Below, s.Outdated
		}
	}
	t.Fatalf("deployment %d has no state", id)
	return
}

// TestALevelIsGivenChangedAndTaken gives a deployment what a rule asks of it, a better one, and looks what is promised and what is refused.
func TestALevelIsGivenChangedAndTaken(t *testing.T) {
	t.Parallel()
	a, _ := pairedWith(t, 0.003, 0)
	id := ofScenario(t, a)
	now := time.Now()
	_, err := a.Levelling(ctx, id, "levee", now)
	require.ErrorContains(t, err, "there are none")
	levels(t, a)
	_, required, below, _ := stateOfLevel(t, a, id)
	assert.Equal(t, "levee", required)
	assert.True(t, below)
	_, err = a.Levelling(ctx, id, "moat", now)
	require.ErrorContains(t, err, `no service level "moat"; there are sandbag, levee, dam`)
	_, err = a.Levelling(ctx, id, "sandbag", now)
	require.ErrorContains(t, err, "has to have levee or better, by the rule registers")
	assert.Equal(t, fault.Refused, fault.CodeOf(err))
	_, err = a.Levelling(ctx, id, "", now)
	require.ErrorContains(t, err, "has to have levee or better")

	o, err := a.Levelling(ctx, id, "levee", now)
	require.NoError(t, err)
	assert.Equal(t, []string{"the service level is levee", "promised: saved every day 02:00, 7 kept", "promised: drilled every first Saturday 04:00", "promised: guarded every day 06:00 for 16h",
		fmt.Sprintf("keeping the copies costs at most %.3f EUR/h, when there are as many", o.Plan.Promised.CostPerHour)}, o.Plan.Promised.Lines("EUR"))
	assert.Positive(t, o.Plan.Promised.CostPerHour)
	p, err := a.Propose(ctx, o, time.Hour) // one proposes, another confirms
	require.NoError(t, err)
	none, err := a.PromisesOf(ctx, id, now)
	require.NoError(t, err)
	assert.Empty(t, none, "a proposal promises nothing")
	begun, err := a.Confirm(ctx, p.ID)
	require.NoError(t, err)
	ended(t, a, begun.Run)
	kept, err := a.PromisesOf(ctx, id, now)
	require.NoError(t, err)
	require.Len(t, kept, 3)
	for _, k := range kept {
		assert.Equal(t, "levee", k.Level)
		assert.Equal(t, k.Kind == promise.Guarded, k.Next.IsZero(), "%s: nothing is due of guarded hours", k.Kind)
	}
	sets, err := a.Snapshots(ctx, id)
	require.NoError(t, err)
	require.Len(t, sets, 1, "it can be restored from the first hour on")
	level, _, below, outdated := stateOfLevel(t, a, id)
	assert.Equal(t, []any{"levee", false, false}, []any{level, below, outdated})

	_, err = a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Saved, Saved: kept[0].Saved}, now)
	require.ErrorContains(t, err, "it is part of the service level levee")
	assert.Equal(t, fault.Conflict, fault.CodeOf(a.DropPromise(ctx, id, promise.Drilled)))
	again, err := a.Levelling(ctx, id, "levee", now)
	require.NoError(t, err)
	assert.True(t, again.Plan.Nothing(), "it is so already")

	better, err := a.Levelling(ctx, id, "dam", now)
	require.NoError(t, err)
	assert.Empty(t, better.Plan.Steps, "there is a copy")
	assert.Equal(t, "the service level is dam, and was levee", better.Plan.Promised.Lines("EUR")[0])
	assert.Greater(t, better.Plan.Promised.CostPerHour, o.Plan.Promised.CostPerHour)
	carriedTo(t, a, better, err, run.Standing)
	note, err := a.Due(ctx, promise.DueCopy, id, now)
	require.NoError(t, err)
	assert.Contains(t, note, "run ")
	kept, err = a.PromisesOf(ctx, id, now)
	require.NoError(t, err)
	require.Len(t, kept, 5)
	assert.Equal(t, promise.Replicated, kept[1].Kind)
	assert.WithinDuration(t, time.Now(), kept[1].As, time.Minute)
	assert.False(t, kept[1].Stale)
	kept, err = a.PromisesOf(ctx, id, now.Add(5*time.Hour))
	require.NoError(t, err)
	assert.True(t, kept[1].Stale, "more would be lost by now than may be")
	level, _, _, _ = stateOfLevel(t, a, id)
	assert.Equal(t, "dam", level)

	text, err := os.ReadFile("../../examples/flood-watch/levels.yaml")
	require.NoError(t, err)
	_, err = a.SetLevels(ctx, []byte(strings.Replace(strings.Replace(string(text), "keep: 48", "keep: 24", 1), "require:", "", 1)))
	require.Error(t, err)
	changed := strings.Replace(string(text), "keep: 48", "keep: 24", 1)
	_, err = a.SetLevels(ctx, []byte(changed[:strings.Index(changed, "require:")]))
	require.NoError(t, err)
	level, required, _, outdated = stateOfLevel(t, a, id)
	assert.Equal(t, []any{"dam", "", true}, []any{level, required, outdated}, "what is promised stays until it is given anew")
	uses, err := a.Levels(ctx, now)
	require.NoError(t, err)
	require.Len(t, uses, 3)
	assert.Len(t, uses[2].Deployments, 1)
	assert.Empty(t, uses[2].Lacking)
	_, err = a.SetLevels(ctx, []byte(strings.Replace(string(text), ", barrier: true", "", 1)))
	require.NoError(t, err)
	drilled := kept[2]
	require.NoError(t, a.store.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Drilled, Level: "dam", By: drilled.By, Since: now, Drilled: &promise.DrilledTerms{When: promise.When{Rule: "FREQ=DAILY", Zone: "UTC", Start: now.Truncate(time.Minute)}, Raised: "night", At: now}}, nil))
	anew, err := a.Levelling(ctx, id, "dam", now)
	require.NoError(t, err)
	assert.Contains(t, anew.Plan.Promised.Ends, "saved every hour, 48 kept, of one moment", "it can be given anew whatever of it was changed")
	carriedTo(t, a, anew, err, run.Standing)
	_, _, _, outdated = stateOfLevel(t, a, id)
	assert.False(t, outdated)
	kept, err = a.PromisesOf(ctx, id, now)
	require.NoError(t, err)
	assert.Equal(t, "night", kept[2].Drilled.Raised, "what was proven stays so")
	_, err = a.SetLevels(ctx, []byte(changed[:strings.Index(changed, "require:")]))
	require.NoError(t, err)
	taken, err := a.Levelling(ctx, id, "", now)
	require.NoError(t, err)
	assert.Len(t, taken.Plan.Promised.Ends, 5)
	carriedTo(t, a, taken, err, run.Standing)
	kept, err = a.PromisesOf(ctx, id, now)
	require.NoError(t, err)
	assert.Empty(t, kept)
	_, err = a.Levelling(ctx, id, "", now)
	require.ErrorContains(t, err, "has no service level")
}

// TestALevelThatCannotBeKeptIsRefused asks for storage that volumes are not on, and for drills of what has no volumes.
func TestALevelThatCannotBeKeptIsRefused(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	id := ofScenario(t, a)
	_, err := a.SetLevels(ctx, []byte("version: andamio.levels/1\nlevels: [ { level: rock, storage: granite, save: { rule: FREQ=DAILY, at: '02:00', keep: 7 } } ]"))
	require.NoError(t, err)
	_, err = a.Levelling(ctx, id, "rock", time.Now())
	require.ErrorContains(t, err, "is on ordinary storage, and rock takes granite")
	require.ErrorContains(t, err, "vega has no storage granite, which rock takes")
	uses, err := a.Levels(ctx, time.Now())
	require.NoError(t, err)
	assert.NotEmpty(t, uses[0].Lacking)
	_, err = a.SetDirectory(ctx, []byte(teams()+"- { to: everybody, role: requester, teams: [ own ] }\n"))
	require.NoError(t, err)
	ibo := a.As(Actor{Name: "ibo", Way: ByScreen})
	_, err = ibo.SetLevels(ctx, []byte("version: andamio.levels/1\nlevels: []"))
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
	_, err = ibo.Levelling(ctx, id, "rock", time.Now())
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
	states, err := ibo.LevelStates(ctx, time.Now())
	require.NoError(t, err)
	assert.Empty(t, states, "another's")
}

// TestADrillProvesACopy tries to restore with nothing to restore, with a copy, and after what a drill left that broke off.
func TestADrillProvesACopy(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	dear, err := a.Drafting(ctx, draft(t, a, nil).Template, templates.DraftRequest{Preset: "drill", Choices: templates.Choices{Forbids: map[string][]string{"forecast-host-1": {"alisio-norte"}}}})
	require.NoError(t, err)
	require.NotNil(t, dear.Plan, "%v", dear.Err)
	r, err := a.Run(ctx, worked(t, a, dear))
	require.NoError(t, err)
	id := r.Deployment
	now := time.Now()
	when := promise.When{Rule: "FREQ=MONTHLY", Zone: "UTC", Start: now.Truncate(time.Minute)}
	_, err = a.SetPromise(ctx, promise.Promise{Deployment: id, Kind: promise.Drilled, Drilled: &promise.DrilledTerms{When: when}}, now)
	require.NoError(t, err)
	_, err = a.Due(ctx, promise.DueDrill, id, now)
	require.ErrorContains(t, err, "no snapshot that could be raised")
	o, err := a.Taking(ctx, id, snapshots.TakeRequest{Name: "night"}, now)
	carried(t, a, o, err)
	note, err := a.Due(ctx, promise.DueDrill, id, now)
	require.NoError(t, err)
	assert.Contains(t, note, "night served ")
	left, err := a.Taken(ctx, "drill-1")
	require.NoError(t, err)
	assert.Nil(t, left, "it was taken away")
	kept, err := a.PromisesOf(ctx, id, now)
	require.NoError(t, err)
	assert.Equal(t, "night", kept[0].Drilled.Raised)
	d, err := a.Deployment(ctx, id)
	require.NoError(t, err)
	_, err = a.SetWindows(ctx, []byte(fmt.Sprintf("version: andamio.windows/1\nblackouts: [ { name: season, from: '2020-01-01', until: '2100-01-01', when: 'deployment.name == %q' } ]", d.Name)))
	require.NoError(t, err)
	_, err = a.As(guard.Actor{Name: "ana", Way: guard.Schedule}).Due(ctx, promise.DueDrill, id, now)
	require.ErrorContains(t, err, "held by the blackout season", "it is bound as what it is done for")
	like, err := a.Beside(ctx, id, "night", "as-it-is")
	require.NoError(t, err)
	cheap, err := a.Trying(ctx, id, "night", "as-cheap-as-can-be")
	require.NoError(t, err)
	assert.Less(t, cheap.Plan.CostPerHour, like.Plan.CostPerHour)
	for i := range cheap.Plan.Resources {
		if r := &cheap.Plan.Resources[i]; r.Kind == kinds.Volume {
			assert.Equal(t, like.Plan.Resource(r.ID).Site, r.Site, "disks are where what was kept of them is")
		}
	}
	o, err = a.Beside(ctx, id, "night", "drill-1")
	carriedTo(t, a, o, err, run.Standing)
	_, err = a.Due(ctx, promise.DueDrill, id, now)
	require.NoError(t, err, "what is left of one that broke off goes first")
	sites, err := a.Sites()
	require.NoError(t, err)
	assert.NotEmpty(t, sites)
	all, err := a.Deployments(ctx)
	require.NoError(t, err)
	for _, d := range all {
		if d.Name == "drill-1" {
			assert.Equal(t, run.Retired, d.State())
		}
	}
}

// TestAnOfferHasServiceLevels asks for a gauge at each of the levels that its offer leaves, and looks what is kept up and in whose name.
func TestAnOfferHasServiceLevels(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	eva := as("eva")
	o, err := eva.Offer(ctx, "gauge-node", 0)
	require.NoError(t, err)
	asked := o.Asked()
	require.Equal(t, offer.LevelInput, asked[len(asked)-1].Input)
	assert.Equal(t, []string{"sandbag", "levee"}, asked[len(asked)-1].Answers())
	for answer, says := range map[string]string{"moat": `"moat" is none of sandbag, levee`, "dam": `"dam" is none of`} {
		_, err := eva.AskFor(ctx, requests.Asked{Offer: "gauge-node", Answers: offer.Answers{"reach": "weir", offer.LevelInput: answer}})
		require.ErrorContains(t, err, says)
	}
	costs := map[string]money.Amount{}
	for answer, want := range map[string]string{"": "sandbag", "levee": "levee"} {
		given := offer.Answers{"reach": "weir " + want}
		if answer != "" {
			given[offer.LevelInput] = answer
		}
		f, err := eva.Foresee(ctx, requests.Asked{Offer: "gauge-node", Answers: given})
		require.NoError(t, err)
		require.NotNil(t, f.Quote.Kept)
		assert.Equal(t, want, f.Quote.Kept.Level)
		costs[want] = f.Quote.Kept.PerHour
		assert.Contains(t, f.Quote.Kept.Says("EUR", false), "Kept at the level "+want+": saved every ")
		assert.NotContains(t, f.Quote.Kept.Says("EUR", true), "EUR")
		r, err := eva.AskFor(ctx, requests.Asked{Offer: "gauge-node", Answers: given})
		require.NoError(t, err)
		nowServing(t, a, r)
		have, err := eva.Have(ctx, r.ID, time.Now())
		require.NoError(t, err)
		assert.Equal(t, want, have.Level)
		kept, err := a.PromisesOf(ctx, r.Deployment, time.Now())
		require.NoError(t, err)
		require.NotEmpty(t, kept)
		for _, k := range kept {
			assert.Equal(t, want, k.Level)
			assert.NotEqual(t, "eva", k.By.Name, "it is done in the name of whoever offers it")
		}
		assert.True(t, slices.ContainsFunc(kept, func(k promises.Kept) bool { return k.Does == promise.DueSave && k.Next.After(time.Now()) }))
	}
	assert.Greater(t, costs["levee"], costs["sandbag"])
	text := string(offerFile(t, "gauge-node"))
	for says, with := range map[string]string{`levels[1]: there is no service level "moat"; there are sandbag, levee, dam`: "[sandbag, moat]", `levels[1]: "sandbag" is no service level, or is there twice`: "[sandbag, sandbag]"} {
		_, err := a.CheckOffer(ctx, []byte(strings.Replace(text, "[sandbag, levee]", with, 1)), offersDir)
		require.ErrorContains(t, err, says)
	}
	file, err := os.ReadFile("../../examples/flood-watch/levels.yaml")
	require.NoError(t, err)
	_, err = a.SetLevels(ctx, append(file, []byte("- { rule: gauges, when: '\"gauge-intake\" in deployment.services', level: levee, say: A gauge is kept every night. }\n")...))
	require.NoError(t, err)
	_, err = a.CheckOffer(ctx, []byte(text), offersDir)
	require.ErrorContains(t, err, "levels[0]: the rule gauges asks for levee or better: A gauge is kept every night.")
	_, err = a.CheckOffer(ctx, []byte(strings.Replace(text, "levels: [sandbag, levee]\n", "", 1)), offersDir)
	require.ErrorContains(t, err, "levels: the rule gauges asks for levee or better")
	r, err := a.CheckOffer(ctx, []byte(strings.Replace(text, "[sandbag, levee]", "[dam]", 1)), offersDir)
	require.NoError(t, err)
	assert.Empty(t, r.Failed)
	assert.Contains(t, r.Changes, "service levels: sandbag, levee → dam")
	pool := strings.Replace(string(offerFile(t, "worker-pool")), "stage:", "levels: [levee]\nstage:", 1)
	r, err = a.CheckOffer(ctx, []byte(pool), offersDir)
	require.NoError(t, err)
	require.NotEmpty(t, r.Failed)
	assert.Contains(t, r.Failed[0].Why, "restoring it cannot be tried, as levee promises")
}

// TestALevelIsChosenBeforeAnythingIsBuilt places a log by service level: sites that cannot keep it are ruled out with the reason, and what is raised has it.
func TestALevelIsChosenBeforeAnythingIsBuilt(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, 0.003)
	_, err := a.SetLevels(ctx, []byte(`version: andamio.levels/1
zone: Europe/Madrid
levels: [
		{ level: plain, save: { rule: FREQ=DAILY, at: '02:00', keep: 2 } },
		{ level: afar, save: { rule: FREQ=DAILY, at: '02:00', keep: 2 }, replicate: { site: atlantis, rule: FREQ=DAILY, at: '03:00' } },
		{ level: rock, storage: fast, save: { rule: FREQ=DAILY, at: '02:00', keep: 7 }, drill: { rule: FREQ=WEEKLY, at: '04:00' } } ]
`))
	require.NoError(t, err)
	drafted := func(level string, change func(string) string) *templates.Draft {
		dir := t.TempDir()
		require.NoError(t, os.CopyFS(dir, os.DirFS("../../examples/level-log")))
		text, err := os.ReadFile(filepath.Join(dir, "template.yaml"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "template.yaml"), []byte(change(string(text))), 0o600))
		tmpl, err := templates.OpenTemplate(ctx, source.Place{Path: dir})
		require.NoError(t, err)
		d, err := a.Drafting(ctx, tmpl, templates.DraftRequest{Choices: templates.Choices{Level: level, Forbids: map[string][]string{"log-host-1": {"vega"}}}})
		require.NoError(t, err)
		return d
	}
	same := func(text string) string { return text }
	d := drafted("", same)
	require.NotNil(t, d.Plan)
	assert.Nil(t, d.Plan.Promised)
	assert.Len(t, d.Levels(), 3)
	d = drafted("afar", same)
	require.ErrorContains(t, d.Err, "atlantis is not connected, does not answer, or keeps no snapshots, and afar keeps copies there")
	assert.Equal(t, fault.Refused, fault.CodeOf(d.Err))
	all, err := a.Levels(ctx, time.Now())
	require.NoError(t, err)
	assert.Contains(t, all[1].Lacking, "atlantis is not connected, does not answer, or keeps no snapshots, and afar keeps copies there")
	d = drafted("rock", same)
	require.Error(t, d.Err)
	assert.ErrorContains(t, d.Err, "rock", "only vega has such storage, which is forbidden")
	assert.Nil(t, d.Plan)
	sited := drafted("", same).Sited(templates.Choices{Level: "rock"}, nil, templates.Whole, nil)
	require.NoError(t, sited.Err)
	assert.Equal(t, "vega", sited.Placement.Choices[0].Site)
	why := ""
	for _, v := range sited.Placement.Choices[0].Verdicts {
		if v.Site == "presa" {
			why = v.Reason
		}
	}
	assert.Contains(t, why, "presa has no storage fast, which rock takes")
	assert.Error(t, drafted("moat", same).Err)

	d = drafted("plain", same)
	require.NotNil(t, d.Plan, "%v", d.Err)
	assert.Equal(t, []string{"saved every day 02:00, 2 kept"}, d.Plan.Promised.Adds)
	o, err := a.OrderOf(ctx, d)
	runID := carriedTo(t, a, o, err, run.Standing)
	r, err := a.Run(ctx, runID)
	require.NoError(t, err)
	level, _, _, outdated := stateOfLevel(t, a, r.Deployment)
	assert.Equal(t, "plain", level)
	assert.False(t, outdated)
	again, err := a.Drafting(ctx, d.Template, templates.DraftRequest{Choices: templates.Choices{Level: "rock"}})
	require.NoError(t, err)
	require.NotNil(t, again.Plan, "what stands is given a level by itself: %v", again.Err)
	assert.Nil(t, again.Plan.Promised)
	assert.Empty(t, again.Levels())
	o, err = a.Retiring(ctx, r.Deployment)
	carriedTo(t, a, o, err, run.Retired)
	assert.Empty(t, box.Holds())
}
