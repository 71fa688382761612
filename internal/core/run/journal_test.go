package run_test

import (
	"fmt"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
)

// journals are plans of every sort of change: raising, retiring, moving in each mode, taking a snapshot, settling.
func journals(t *testing.T) map[string]*plan.Plan {
	t.Helper()
	p := plantest.Plan(t, "drill")
	stands, err := change.Done(change.Nothing(p), p)
	require.NoError(t, err)
	out := map[string]*plan.Plan{"raise": p}
	out["retire"], err = change.Compile(stands, change.Nothing(p).Plan, "retire")
	require.NoError(t, err)
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	for _, mode := range []change.Mode{change.Cold, change.Warm, change.Live} {
		e, err := estate.Read(data)
		require.NoError(t, err)
		to, err := migrate.Relocate(stands.Plan, e, []migrate.Choice{{Instance: "contacts-host-1", Site: "alisio-norte"}}, nil)
		require.NoError(t, err)
		out["move "+string(mode)], _, err = change.Move(stands, to, change.Moving{Instances: []string{"contacts-host-1"}, Mode: mode, Copying: plan.Copying{Await: true}}, "move")
		require.NoError(t, err)
	}
	out["snapshot"], err = change.Snapshot(stands, change.Snapping{Set: "one", Disks: []string{"contacts-host-1"}, Barrier: true}, "snapshot")
	require.NoError(t, err)
	out["settle"], err = change.Settle(stands, []change.Deviation{{Resource: "map-host-1", Verb: change.Rebuild}}, "settle")
	require.NoError(t, err)
	return out
}

// TestAJournalThatBreaksOffAnywhere plays journals of every sort of change step by step, has a step fail or be stopped, breaks off after any event, resumes and decides; whatever came,
// the state is what the steps say one by one.
func TestAJournalThatBreaksOffAnywhere(t *testing.T) {
	for name, p := range journals(t) {
		t.Run(name, func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) {
				x := &tape{s: run.New(p)}
				x.play(run.RunStarted, "", 0)
				for n := range rapid.IntRange(1, 3*len(p.Steps)).Draw(t, "events") {
					acts(t, x, float64(n+1))
					agrees(t, x.s)
				}
				x.play(run.RunEnded, "", 1e4, func(e *run.Event) { e.Good = x.s.Done == len(x.s.Steps) })
				assert.Equal(t, ended(x.s), x.s.Status)
				assert.True(t, x.s.Over())
				bars, end := x.s.Forecast(at(1e5))
				assert.LessOrEqual(t, end, x.s.Ended.Sub(x.s.Started), "what is over is expected to do nothing more")
				for i, b := range bars {
					if s := x.s.Steps[i].Status; s == run.Held || s == run.Planned {
						assert.Zero(t, b, x.s.Steps[i].ID)
					}
				}
				resumes := x.s.Resumes
				x.play(run.RunResumed, "", 1e4+1)
				assert.Equal(t, resumes+1, x.s.Resumes)
				assert.Equal(t, run.UnderWay, x.s.Status)
				for i := range x.s.Steps {
					assert.NotContains(t, []run.Status{run.UnderWay, run.Stopped}, x.s.Steps[i].Status, "what was broken off is open again")
				}
				agrees(t, x.s)
			})
		})
	}
}

// acts does something that may come next.
func acts(t *rapid.T, x *tape, when float64) {
	var open, going, bad []string
	for i := range x.s.Steps {
		st := &x.s.Steps[i]
		ready := true
		for _, a := range st.After {
			s := x.s.Step(a).Status
			ready = ready && (s == run.Standing || s == run.Passed)
		}
		switch {
		case st.Status == run.Planned && ready:
			open = append(open, st.ID)
		case st.Status == run.UnderWay:
			going = append(going, st.ID)
		case st.Status == run.Failed, st.Status == run.Stopped:
			bad = append(bad, st.ID)
		}
	}
	switch k := rapid.IntRange(0, 9).Draw(t, "act"); {
	case k < 4 && len(open) > 0:
		x.play(run.StepStarted, rapid.SampledFrom(open).Draw(t, "begins"), when)
	case k < 8 && len(going) > 0:
		id := rapid.SampledFrom(going).Draw(t, "ends")
		kind := rapid.SampledFrom([]run.EventKind{run.StepDone, run.StepDone, run.StepDone, run.StepDone, run.StepFailed, run.StepStopped, run.StepPassed, run.StepRetry, run.Logged}).Draw(t, "how")
		lines := len(x.s.Step(id).Log)
		x.play(kind, id, when, func(e *run.Event) { e.Text = "word" })
		if st := x.s.Step(id); kind != run.StepDone && kind != run.StepStopped {
			require.Len(t, st.Log, lines+1, "%s is in its log", kind)
			require.Contains(t, st.Log[lines].Text, "word")
		}
	case len(bad) > 0:
		x.play(run.Decided, rapid.SampledFrom(bad).Draw(t, "decided"), when, func(e *run.Event) { e.Text = rapid.SampledFrom([]string{run.Retry, run.Skip}).Draw(t, "decision") })
	case k == 9:
		x.play(run.RunResumed, "", when)
	}
}

// ended is how a run ends: well, failed where something did and nobody broke it off, else stopped.
func ended(s *run.State) run.Status {
	failed, stopped, done := 0, 0, 0
	for i := range s.Steps {
		switch s.Steps[i].Status {
		case run.Failed:
			failed++
		case run.Stopped:
			stopped++
		case run.Standing, run.Passed:
			done++
		}
	}
	switch {
	case done == len(s.Steps):
		return run.Standing
	case failed > 0 && stopped == 0:
		return run.Failed
	}
	return run.Stopped
}

// agrees works out from the steps alone what is held, how each resource is and how far, and what is counted.
func agrees(t *rapid.T, s *run.State) {
	done, failed := 0, 0
	blocked := map[string]bool{}
	for i := range s.Steps {
		st := &s.Steps[i]
		switch st.Status {
		case run.Standing, run.Passed:
			done++
		case run.Failed:
			failed++
			blocked[st.ID] = true
		case run.Planned, run.Held:
			for _, a := range st.After {
				blocked[st.ID] = blocked[st.ID] || blocked[a]
			}
			require.Equal(t, blocked[st.ID], st.Status == run.Held, "%s is %s", st.ID, st.Status)
		}
	}
	require.Equal(t, []int{done, failed}, []int{s.Done, s.Failures})
	for i := range s.Resources {
		if r := &s.Resources[i]; len(s.StepsOf(r.ID)) > 0 {
			if want := resourceIs(s, r); want != run.Planned || r.Status != run.Standing { // what stands before anything is done to it stands
				require.Equal(t, want, r.Status, r.ID)
			} else {
				require.Equal(t, plan.Keep, r.Change, r.ID)
			}
			require.Equal(t, stageIs(s, r), s.Stage(r.ID), r.ID)
		}
	}
}

func resourceIs(s *run.State, r *run.Resource) run.Status {
	n := map[run.Status]int{}
	all := s.StepsOf(r.ID)
	for _, st := range all {
		n[st.Status]++
	}
	done := n[run.Standing] + n[run.Passed]
	switch {
	case n[run.Failed]+n[run.Stopped] > 0:
		return run.Failed
	case done == len(all) && r.Change == plan.Retire:
		return run.Retired
	case done == len(all):
		return run.Standing
	case n[run.UnderWay] > 0:
		return run.UnderWay
	case n[run.Held] > 0:
		return run.Held
	case done > 0:
		return run.UnderWay
	}
	return run.Planned
}

// stageIs is how far a resource is by what of it is done: the highest that was reached with nothing open of it.
func stageIs(s *run.State, r *run.Resource) run.Stage {
	any := map[string]int{}
	open := map[string]int{}
	for _, st := range s.StepsOf(r.ID) {
		if st.Op.Takes() {
			continue
		}
		sort := ""
		switch {
		case st.Script != nil:
			sort = "script"
		case st.Op == op.Check || st.Op == op.Answer:
			sort = "asked"
		case st.Check.Kind == plan.CheckSite:
			sort = "site"
		}
		if st.Status == run.Standing || st.Status == run.Passed {
			any[sort]++
		} else {
			open[sort]++
		}
	}
	serving, configured := any["asked"] > 0, any["script"] > 0
	switch {
	case open["script"] > 0 && (serving || configured):
		return run.Ready
	case open["asked"] > 0 && serving:
		return run.Configured
	case serving:
		return run.Serving
	case configured:
		return run.Configured
	case any["site"] > 0:
		return run.Ready
	case r.Attributes["site.id"] != "":
		return run.Accepted
	}
	return run.NotBegun
}

// TestWhatIsSaidOfARunThatEnded has a run end in every way.
func TestWhatIsSaidOfARunThatEnded(t *testing.T) {
	for name, c := range map[string]struct {
		kinds []run.EventKind
		good  bool
		want  run.Status
	}{
		"well":                      {nil, true, run.Standing},
		"a step failed":             {[]run.EventKind{run.StepFailed}, false, run.Failed},
		"it was broken off":         {[]run.EventKind{run.StepStopped}, false, run.Stopped},
		"one failed, one broke off": {[]run.EventKind{run.StepFailed, run.StepStopped}, false, run.Stopped},
		"nothing was begun":         {nil, false, run.Stopped},
	} {
		x := begun(t)
		for i, k := range c.kinds {
			x.play(k, x.s.Steps[i].ID, float64(i))
		}
		x.play(run.RunEnded, "", 9, func(e *run.Event) { e.Good, e.Text, e.Attributes = c.good, "because", map[string]string{"a": "b"} })
		assert.Equal(t, []any{c.want, "because", at(9), "b"}, []any{x.s.Status, x.s.Text, x.s.Ended, x.s.Outputs["a"]}, name)
		_, end := x.s.Forecast(at(1e6))
		assert.LessOrEqual(t, end.Seconds(), 9.0, fmt.Sprint(name, ": it is over"))
	}
}

// TestACloneGoesOnByItself parts a state anywhere in any journal: each goes on by its own events, and is then as if there had never been another.
func TestACloneGoesOnByItself(t *testing.T) {
	t.Parallel()
	for name, p := range journals(t) {
		t.Run(name, func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) {
				var before []run.Event
				play := func(x *recorded, n int) {
					for i := range n {
						acts(t, x.tape, float64(int(x.seq)+i+1))
					}
				}
				x := record(p, nil)
				x.play(run.RunStarted, "", 0)
				play(x, rapid.IntRange(0, 2*len(p.Steps)).Draw(t, "before"))
				before = slices.Clone(x.events())
				y := &recorded{tape: &tape{s: x.s.Clone(), seq: x.seq}, first: before}
				assert.Equal(t, x.s, y.s, "it is as the other")
				play(x, rapid.IntRange(0, 10).Draw(t, "one"))
				was := record(p, before)
				assert.Equal(t, was.s, y.s, "what the other does is nothing to it")
				play(y, rapid.IntRange(0, 10).Draw(t, "the other"))
				assert.Equal(t, record(p, x.events()).s, x.s)
				assert.Equal(t, record(p, y.events()).s, y.s)
			})
		})
	}
}

// recorded is a tape that keeps what was played, after what was before.
type recorded struct {
	*tape
	first []run.Event
}

func record(p *plan.Plan, events []run.Event) *recorded {
	q := *p
	q.Resources, q.Steps = slices.Clone(p.Resources), slices.Clone(p.Steps)
	x := &recorded{tape: &tape{s: run.New(plan.Reindexed(&q))}}
	for _, e := range events {
		x.s.Apply(e)
		x.seq = e.Seq
	}
	x.first = slices.Clone(events)
	return x
}

func (x *recorded) events() []run.Event { return append(slices.Clone(x.first), x.played...) }
