package app

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/sandbox"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
	"andamio/internal/store"
)

// only is the only finding there is.
func only(t *testing.T, inv *reconcile.Inventory) inventory.Finding {
	t.Helper()
	require.Len(t, inv.Findings, 1, "%+v", inv.Findings)
	return inv.Findings[0]
}

// settledBy settles a finding in a way and waits for what that runs.
func settledBy(t *testing.T, a *App, inv *reconcile.Inventory, f inventory.Finding, w inventory.Way) int64 {
	t.Helper()
	s, err := a.Settling(ctx, inv, []reconcile.Choice{{Finding: f, Way: w}}, "a reason", time.Time{})
	require.NoError(t, err)
	act, runs, err := a.Settle(ctx, s)
	require.NoError(t, err)
	for _, id := range runs {
		ended(t, a, id)
	}
	return act
}

// TestActsAreUndone settles and takes back: what was found is found again, and what was done at sites is undone by a plan.
func TestActsAreUndone(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	for _, c := range []struct {
		change sandbox.Change
		way    inventory.Way
		plans  int
		again  bool
	}{
		{sandbox.Tagged, inventory.CorrectRecord, 0, true}, {sandbox.Tagged, inventory.CorrectSite, 1, true}, {sandbox.Created, inventory.Adopt, 0, true},
		{sandbox.Resized, inventory.Adopt, 0, true}, {sandbox.Created, inventory.Retire, 1, false},
	} {
		box.Drift(sandbox.DriftRequest{Seed: 6, Count: 1, Sorts: []sandbox.Change{c.change}})
		inv := surveyedAll(t, a)
		if len(inv.Findings) == 0 {
			continue
		}
		f := only(t, inv)
		if !f.Can(c.way) {
			c.way = f.Ways[0]
		}
		act := settledBy(t, a, inv, f, c.way)
		require.Empty(t, surveyedAll(t, a).Findings, "%s %s", c.change, c.way)
		orders, err := a.Undo(ctx, act)
		require.NoError(t, err)
		assert.Len(t, orders, c.plans, "%s %s", c.change, c.way)
		for _, o := range orders {
			carriedOut(t, a, o)
		}
		_, err = a.Undo(ctx, act)
		assert.ErrorContains(t, err, "undone already")
		after := surveyedAll(t, a)
		if c.again {
			assert.Equal(t, f.ID, only(t, after).ID, "%s %s", c.change, c.way)
			settledBy(t, a, after, after.Findings[0], c.way)
		}
		require.Empty(t, surveyedAll(t, a).Findings)
	}
}

// TestWhatWasRemovedIsBuiltAgain takes back the removal of a thing of nobody's.
func TestWhatWasRemovedIsBuiltAgain(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	made := box.Drift(sandbox.DriftRequest{Seed: 8, Count: 1, Sorts: []sandbox.Change{sandbox.Created}})
	inv := surveyedAll(t, a)
	act := settledBy(t, a, inv, only(t, inv), inventory.Retire)
	titles := func() (n int) {
		for _, h := range box.Holds() {
			if h.Title == made[0].Title {
				n++
			}
		}
		return n
	}
	assert.Zero(t, titles(), "it is gone from the site")
	orders, err := a.Undo(ctx, act)
	require.NoError(t, err)
	require.Len(t, orders, 1, "and comes back by a plan")
	carriedOut(t, a, orders[0])
	assert.Equal(t, 1, titles())
	assert.Empty(t, surveyedAll(t, a).Findings, "declared by what built it again")
}

// TestCopiesAndSecondRecords merges and splits.
func TestCopiesAndSecondRecords(t *testing.T) {
	t.Parallel()
	a, _, inv := deployed(t)
	var host inventory.Record
	for _, r := range inv.RecordedRecords {
		if r.Name == "contacts-host-1" || r.Class == kinds.Instance && r.Site == "vega" {
			host = r
		}
	}
	sites, err := a.Sites()
	require.NoError(t, err)
	copied, err := sites["vega"].Create(ctx, site.Request{Kind: kinds.Instance, Name: "copy-of-" + host.Name, Mark: host.Mark + " #9-9", Cores: 1, MemoryGiB: 1, Image: "debian-12"})
	require.NoError(t, err)
	stands(t, sites["vega"], copied)
	inv = surveyedAll(t, a)
	f := only(t, inv)
	require.Equal(t, inventory.Duplicate, f.Type)
	assert.Equal(t, copied.ID, f.Other.Provider)
	act := settledBy(t, a, inv, f, inventory.Apart)
	assert.Empty(t, surveyedAll(t, a).Findings, "it is a thing of its own")
	_, err = a.Undo(ctx, act)
	require.NoError(t, err)
	inv = surveyedAll(t, a)
	settledBy(t, a, inv, only(t, inv), inventory.Retire)
	assert.Empty(t, surveyedAll(t, a).Findings, "the copy is removed")

	// A second record of one thing, brought in by a file.
	second := host.Clone()
	second.ID, second.Provider, second.Attributes["rack"] = "by-hand/1", "", "7"
	file := filepath.Join(t.TempDir(), "more.csv")
	require.NoError(t, os.WriteFile(file, inventory.WriteTable(inventory.Records{second}), 0o600))
	i, err := a.ImportRecords(ctx, file)
	require.NoError(t, err)
	assert.Equal(t, 1, i.Added)
	_, err = a.Import(ctx, i)
	require.NoError(t, err)
	inv = surveyedAll(t, a)
	f = only(t, inv)
	require.True(t, f.OtherRecorded)
	act = settledBy(t, a, inv, f, inventory.Same)
	inv = surveyedAll(t, a)
	assert.Empty(t, inv.Findings)
	history, err := a.store.History(ctx, host.ID)
	require.NoError(t, err)
	assert.Contains(t, history[0].Why+history[min(1, len(history)-1)].Why, "merged with by-hand/1")
	_, err = a.Undo(ctx, act)
	require.NoError(t, err)
	inv, err = a.Reconcile(ctx)
	require.NoError(t, err)
	assert.Equal(t, inventory.Duplicate, only(t, inv).Type, "a merge is undone")
}

// TestTheInventoryGoesOutAndBack exports in both forms and brings in again: nothing changes.
func TestTheInventoryGoesOutAndBack(t *testing.T) {
	t.Parallel()
	a, _, inv := deployed(t)
	for _, name := range []string{"all.csv", "all.jsonl"} {
		file := filepath.Join(t.TempDir(), name)
		n, err := a.ExportRecords(ctx, file)
		require.NoError(t, err)
		assert.Equal(t, len(inv.RecordedRecords), n)
		i, err := a.ImportRecords(ctx, file)
		require.NoError(t, err)
		assert.Equal(t, reconcile.Imported{Same: n}, *i)
		report, err := a.ReconcileFiles("", file, file)
		require.NoError(t, err)
		assert.Empty(t, report.Findings)
		assert.Equal(t, n, report.Agreeing)
	}
	_, err := a.ImportRecords(ctx, filepath.Join(t.TempDir(), "none.csv"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestWhatIsAdoptedHasAPartOfATemplate(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	box.Drift(sandbox.DriftRequest{Seed: 8, Count: 3, Sorts: []sandbox.Change{sandbox.Created}})
	inv := surveyedAll(t, a)
	for _, f := range inv.Findings {
		settledBy(t, a, inv, f, inventory.Adopt)
	}
	for _, f := range inv.Findings {
		text, err := a.Fragment(ctx, f.Observed.ID)
		require.NoError(t, err)
		dir := t.TempDir()
		template := "tosca_definitions_version: tosca_simple_yaml_1_3\ntopology_template:\n  node_templates:\n    " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n    ") + "\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "template.yaml"), []byte(template), 0o600))
		checked, err := templates.ReadTemplate(os.DirFS(dir), "t", "template.yaml")
		require.NoError(t, err)
		assert.Zero(t, checked.Diagnostics.Errors(), "%s\n%s", checked.Diagnostics, template)
	}
	_, err := a.Fragment(ctx, "nothing")
	assert.ErrorContains(t, err, `no record "nothing"`)
}

func TestIgnoringNeedsAReason(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	box.Drift(sandbox.DriftRequest{Seed: 8, Count: 1, Sorts: []sandbox.Change{sandbox.Created}})
	inv := surveyedAll(t, a)
	_, err := a.Settling(ctx, inv, []reconcile.Choice{{Finding: only(t, inv), Way: inventory.Ignore}}, " ", time.Time{})
	assert.ErrorContains(t, err, "needs a reason")
	_, err = a.Settling(ctx, inv, []reconcile.Choice{{Finding: only(t, inv), Way: inventory.CorrectSite}}, "", time.Time{})
	assert.ErrorContains(t, err, "cannot be settled by")
}

// TestStandingRulesSettleWhatTheyMay applies rules after a survey: what endangers nobody and changes no site.
func TestStandingRulesSettleWhatTheyMay(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	rules := "version: andamio.settling/1\nrules:\n  - {rule: tags, type: changed, attribute: 'tag.*', settle: correct-record}\n  - {rule: new, type: unmanaged, settle: ignore, reason: trials, days: 3}\n"
	require.NoError(t, a.workspace.Files().Write(workspace.FileSettling, []byte(rules)))
	box.Drift(sandbox.DriftRequest{Seed: 12, Count: 6, Sorts: []sandbox.Change{sandbox.Tagged, sandbox.Created, sandbox.Deleted}})
	inv := surveyedAll(t, a)
	want := map[string]int{}
	for _, f := range inv.Findings {
		switch f.Type {
		case inventory.Changed:
			want["tags"]++
		case inventory.Unmanaged:
			want["new"]++
		}
	}
	require.Len(t, want, 2)
	done, err := a.SettleByRules(ctx)
	require.NoError(t, err)
	assert.Equal(t, want, done)
	for _, f := range surveyedAll(t, a).Findings {
		assert.Equal(t, inventory.Missing, f.Type, "what is gone somebody must look at")
	}
	acts, err := a.Settlements(ctx, 10)
	require.NoError(t, err)
	assert.Len(t, acts, 2, "each rule's work can be undone")
}

// TestASiteThatRepeatsItselfIsNoEndlessSurvey lists at a site that gives the same page for ever.
func TestASiteThatRepeatsItselfIsNoEndlessSurvey(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	full := `{"resources": [` + strings.TrimSuffix(strings.Repeat(`{"kind": "x#compute", "id": "same"},`, wholePage), ",") + `]}`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/-/access") {
			_, _ = w.Write([]byte(`{"attributes": {"andamio.access.may": "read", "andamio.access.regions": "a"}}`))
			return
		}
		_, _ = w.Write([]byte(full))
	}))
	defer server.Close()
	require.NoError(t, a.workspace.SetConnections([]workspace.Connection{{Site: "echo", Settings: workspace.Values{"url": server.URL}, Secrets: workspace.Values{"token": "x"}}}))
	s, err := a.Survey(ctx, reconcile.SurveyRequest{Site: "echo"})
	require.ErrorContains(t, err, "same pages again and again")
	assert.Equal(t, store.SurveyFailed, s.State)
}

// TestPagesThatLeadInACircleAreNoEndlessSurvey lists at a site whose pages lead to one another, in a circle of three, and at
// one whose pages have no end.
func TestPagesThatLeadInACircleAreNoEndlessSurvey(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	for name, next := range map[string]func(after string) int{
		"circle":  func(after string) int { return (len(after) + 1) % 3 },
		"no end":  func(after string) int { n, _ := strconv.Atoi(strings.TrimLeft(after, "x")); return n + 1 },
		"a lasso": func(after string) int { return min(len(after)+1, 5) % 5 },
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasPrefix(r.URL.Path, "/-/access") {
				_, _ = w.Write([]byte(`{"attributes": {"andamio.access.may": "read", "andamio.access.regions": "a"}}`))
				return
			}
			n := next(r.URL.Query().Get("after"))
			id := strings.Repeat("x", n+1)
			if name == "no end" {
				id = fmt.Sprintf("x%d", n)
			}
			fmt.Fprintf(w, `{"resources": [%s]}`, strings.TrimSuffix(strings.Repeat(fmt.Sprintf(`{"kind": "x#compute", "id": %q},`, id), wholePage), ","))
		}))
		require.NoError(t, a.workspace.SetConnections([]workspace.Connection{{Site: "echo", Settings: workspace.Values{"url": server.URL}, Secrets: workspace.Values{"token": "x"}}}))
		asking, cancel := context.WithTimeout(ctx, 60*time.Second)
		if name == "no end" { // which would take its ten thousand pages
			asking, cancel = context.WithTimeout(ctx, 300*time.Millisecond)
		}
		_, err := a.Survey(asking, reconcile.SurveyRequest{Site: "echo"})
		require.Error(t, err, name)
		if name != "no end" {
			require.NoError(t, asking.Err(), name)
			require.ErrorContains(t, err, "same pages again and again", name)
		}
		cancel()
		server.Close()
	}
}

// stands waits until what was asked of a site stands.
func stands(t *testing.T, s site.Site, r site.Resource) {
	t.Helper()
	require.Eventually(t, func() bool {
		now, err := s.Read(ctx, kinds.Instance, r.ID)
		return err == nil && now.State == site.Active
	}, 2*time.Minute, 5*time.Millisecond)
}

// TestAMoveByHandIsRecognised takes an adopted thing away and builds its like at another site, as somebody does who moves
// it by hand: it is the same thing, elsewhere.
func TestAMoveByHandIsRecognised(t *testing.T) {
	t.Parallel()
	a, _, _ := deployed(t)
	sites, err := a.Sites()
	require.NoError(t, err)
	like := site.Request{Kind: kinds.Instance, Name: "archive-7", Hostname: "archive-7", Cores: 2, MemoryGiB: 4, DiskGiB: 30, Image: "debian-12"}
	made, err := sites["vega"].Create(ctx, like)
	require.NoError(t, err)
	stands(t, sites["vega"], made)
	inv := surveyedAll(t, a)
	settledBy(t, a, inv, only(t, inv), inventory.Adopt)
	require.NoError(t, sites["vega"].Delete(ctx, kinds.Instance, made.ID))
	like.Cores, like.MemoryGiB, like.Size, like.Image = 0, 0, "c2-4", "debian-12-cloud"
	there, err := sites["alisio-sur"].Create(ctx, like)
	require.NoError(t, err)
	stands(t, sites["alisio-sur"], there)
	inv = surveyedAll(t, a)
	f := only(t, inv)
	assert.Equal(t, inventory.Moved, f.Type)
	assert.Equal(t, "evidence", f.Match.By)
	assert.NotEmpty(t, f.Match.Evidence)
	w := inventory.Adopt
	if f.Review {
		w = inventory.Same
	}
	act := settledBy(t, a, inv, f, w)
	inv = surveyedAll(t, a)
	assert.Empty(t, inv.Findings)
	for _, r := range inv.RecordedRecords {
		if r.Name == "archive-7" {
			assert.Equal(t, "alisio-sur", r.Site)
			assert.Equal(t, there.ID, r.Provider)
		}
	}
	_, err = a.Undo(ctx, act)
	require.NoError(t, err)
	assert.Equal(t, inventory.Moved, only(t, surveyedAll(t, a)).Type)
}

// TestOneActOfManySortsIsUndoneByOnePlanADeployment settles in bulk what belongs to none, and takes it back.
func TestOneActOfManySortsIsUndoneByOnePlanADeployment(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	done := append(box.Drift(sandbox.DriftRequest{Seed: 8, Count: 1, Sorts: []sandbox.Change{sandbox.Created}}),
		box.Drift(sandbox.DriftRequest{Seed: 9, Count: 1, Sorts: []sandbox.Change{sandbox.Tagged}})...)
	inv := surveyedAll(t, a)
	require.Len(t, inv.Findings, len(done))
	var choices []reconcile.Choice
	for _, f := range inv.Findings {
		w := inventory.CorrectSite
		if f.Type == inventory.Unmanaged {
			w = inventory.Retire
		}
		choices = append(choices, reconcile.Choice{Finding: f, Way: w})
	}
	s, err := a.Settling(ctx, inv, choices, "", time.Time{})
	require.NoError(t, err)
	act, runs, err := a.Settle(ctx, s)
	require.NoError(t, err)
	for _, id := range runs {
		ended(t, a, id)
	}
	require.Empty(t, surveyedAll(t, a).Findings)
	orders, err := a.Undo(ctx, act)
	require.NoError(t, err)
	require.Len(t, orders, 1)
	carriedOut(t, a, orders[0])
	f := only(t, surveyedAll(t, a))
	assert.Equal(t, inventory.Changed, f.Type, "what was built again is declared; the tag is what somebody made it")
}

// wholePage is how many things a survey asks for at once: with fewer, a listing is over.
const wholePage = 200

// TestWhatWasSettledIsNotTakenBackByTheNextChange has everything that has a size be made larger by hand, and some of it be lost; that is
// adopted, and given up. No change after that takes it back: nothing is built anew as small as it was, and what was given up stays gone.
func TestWhatWasSettledIsNotTakenBackByTheNextChange(t *testing.T) {
	t.Parallel()
	a, box, _ := deployed(t)
	settleAll := func(w inventory.Way) {
		inv := surveyedAll(t, a)
		require.NotEmpty(t, inv.Findings)
		var choices []reconcile.Choice
		for _, f := range inv.Findings {
			require.True(t, f.Can(w), "%s %s", f.Type, f.Subject().Name)
			choices = append(choices, reconcile.Choice{Finding: f, Way: w})
		}
		s, err := a.Settling(ctx, inv, choices, "", time.Time{})
		require.NoError(t, err)
		_, runs, err := a.Settle(ctx, s)
		require.NoError(t, err)
		for _, id := range runs {
			ended(t, a, id)
		}
		require.Empty(t, surveyedAll(t, a).Findings)
	}
	require.NotEmpty(t, box.Drift(sandbox.DriftRequest{Seed: 2, Count: 60, Sorts: []sandbox.Change{sandbox.Resized}}))
	settleAll(inventory.Adopt)
	o, err := a.Powering(ctx, 1, "", false)
	require.NoError(t, err)
	assert.Empty(t, o.Plan.Losses(), "stopping takes nothing away")
	for _, r := range o.Plan.Resources {
		assert.NotContains(t, []plan.Change{plan.Rebuild, plan.Retire}, r.Change, r.ID)
	}
	_, o, err = a.Updating(ctx, 1, templates.Place{}, templates.DraftRequest{Preset: "drill"})
	require.NoError(t, err)
	assert.Empty(t, o.Plan.Losses(), "nor does the template, which asks for what it did")

	gone := box.Drift(sandbox.DriftRequest{Seed: 9, Count: 1, Sorts: []sandbox.Change{sandbox.Deleted}})
	require.Len(t, gone, 1)
	settleAll(inventory.Retire)
	d, wanted, err := a.DesignOf(ctx, 1)
	require.NoError(t, err)
	assert.Nil(t, wanted.Resource(gone[0].Title), "it is not wanted any more")
	assert.Nil(t, d.Stand.Plan.Resource(gone[0].Title))
	o, err = a.Powering(ctx, 1, "", true)
	require.NoError(t, err)
	assert.Empty(t, o.Plan.Steps, "nothing of it is built again: everything is on")
}
