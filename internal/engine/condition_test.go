package engine

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/remote"
	"andamio/internal/site"
)

// chain makes networks wait for each other in their order.
func chain(n int) *plan.Plan {
	p := networks(n)
	for i := 1; i < n; i++ {
		p.Steps[i].After = []string{p.Steps[i-1].ID}
		p.Steps[i].Level = i + 1
	}
	return p
}

func failing(names ...string) *scripted {
	return &scripted{create: func(r site.Request) (site.Resource, error) {
		for _, n := range names {
			if r.Name == n {
				return site.Resource{}, &site.Error{Site: "vega", Doing: "create", Class: site.Refused, Detail: "no room"}
			}
		}
		return active(r)
	}}
}

// statuses runs a plan and says how each step ended.
func statuses(t *testing.T, p *plan.Plan, s *scripted) (map[string]run.Status, *run.State) {
	t.Helper()
	e, m := engineFor(t, p, s)
	_ = e.Execute(ctx)
	st := state(p, m)
	out := map[string]run.Status{}
	for i := range st.Steps {
		out[st.Steps[i].ID] = st.Steps[i].Status
	}
	return out, st
}

func TestAFailureCallsForItsSteps(t *testing.T) {
	build := func() *plan.Plan {
		p := chain(3) // a, b after a, c after b
		for _, id := range []string{"sorry", "after"} {
			p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: kinds.Network, Site: "vega", Level: 1, Spec: plan.NetworkSpec{Label: id}})
		}
		p.Steps = append(p.Steps,
			plan.Step{ID: "sorry/settle", Resource: "sorry", Op: op.Barrier, Site: "vega", Level: 3, AfterFailure: []string{"a/create", "b/create"}, Sets: map[string]string{"state": "sad"}, Check: plan.Condition{Kind: plan.CheckNone}},
			plan.Step{ID: "after/settle", Resource: "after", Op: op.Barrier, Site: "vega", Level: 4, After: []string{"sorry/settle"}, Check: plan.Condition{Kind: plan.CheckNone}})
		return p
	}
	got, st := statuses(t, build(), failing("b"))
	assert.Equal(t, map[string]run.Status{"a/create": run.Standing, "b/create": run.Failed, "c/create": run.Held, "sorry/settle": run.Standing, "after/settle": run.Standing}, got)
	assert.Equal(t, run.Failed, st.Status, "a failure that was answered is a failure")
	assert.Equal(t, "sad", st.Resource("sorry").Attributes["state"])
	got, st = statuses(t, build(), failing())
	assert.Equal(t, run.Passed, got["sorry/settle"])
	assert.Equal(t, run.Passed, got["after/settle"], "what follows alone is not needed either")
	assert.Equal(t, run.Standing, st.Status)
	assert.Equal(t, 5, st.Done)
	got, _ = statuses(t, build(), failing("a"))
	assert.Equal(t, run.Standing, got["sorry/settle"], "any of them calls for it")
	assert.Equal(t, run.Held, got["b/create"])
}

func TestConditionsPassStepsOver(t *testing.T) {
	is := func(value string) *plan.Clause {
		return &plan.Clause{Op: "and", Clauses: []plan.Clause{{Attribute: "state", Test: "equal", Values: []any{value}}}}
	}
	p := chain(4)
	p.Steps[0].Sets = map[string]string{"state": "created"}
	p.Steps[1].Resource, p.Steps[1].Op, p.Steps[1].When, p.Steps[1].Check = "a", op.Barrier, is("started"), plan.Condition{Kind: plan.CheckNone}
	p.Steps[2].Resource, p.Steps[2].Op, p.Steps[2].When, p.Steps[2].Check = "a", op.Require, is("created"), plan.Condition{Kind: plan.CheckNone}
	got, st := statuses(t, p, failing())
	assert.Equal(t, []run.Status{run.Standing, run.Passed, run.Standing, run.Standing}, []run.Status{got["a/create"], got["b/create"], got["c/create"], got["d/create"]})
	assert.Contains(t, st.Step("b/create").Log[0].Text, `state of a is "created", and must satisfy equal started`)
	p = chain(2)
	p.Steps[0].Op, p.Steps[0].When, p.Steps[0].Check = op.Require, is("started"), plan.Condition{Kind: plan.CheckNone}
	got, st = statuses(t, p, failing())
	assert.Equal(t, run.Failed, got["a/create"])
	assert.Equal(t, run.Held, got["b/create"])
	assert.Contains(t, st.Step("a/create").Error, `state of a is "initial"`, "what nobody has set yet is initial")
}

func TestClausesJoin(t *testing.T) {
	e, _ := engineFor(t, networks(1), failing())
	require.NoError(t, e.ready())
	require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "a", Attributes: map[string]string{"level": "3.5", "state": "started"}}))
	test := func(attribute, op string, values ...any) plan.Clause {
		return plan.Clause{Attribute: attribute, Test: op, Values: values}
	}
	yes, no := test("state", "equal", "started"), test("level", "greater_than", 4)
	for i, c := range []struct {
		clause plan.Clause
		want   bool
	}{
		{yes, true}, {no, false},
		{plan.Clause{Op: "and", Clauses: []plan.Clause{yes, no}}, false}, {plan.Clause{Op: "and"}, true},
		{plan.Clause{Op: "or", Clauses: []plan.Clause{no, yes}}, true}, {plan.Clause{Op: "or", Clauses: []plan.Clause{no, no}}, false}, {plan.Clause{Op: "or"}, true},
		{plan.Clause{Op: "not", Clauses: []plan.Clause{no}}, true}, {plan.Clause{Op: "not", Clauses: []plan.Clause{yes, yes}}, false},
		{test("nothing", "equal", ""), true}, {test("nothing", "min_length", 1), false}, {test("level", "in_range", 1, 4), true},
	} {
		got, why := e.holds(c.clause, "a")
		assert.Equal(t, c.want, got, i)
		assert.Equal(t, got, why == "", "a reason where it does not hold: %d", i)
	}
}

func TestWhatStandsIsTakenWithItsID(t *testing.T) {
	p := networks(1)
	p.Steps[0].Op, p.Steps[0].Check = op.Take, plan.Condition{Kind: plan.CheckNone}
	p.Steps[0].Sets = map[string]string{"site.id": "vega-lan-7"}
	s := failing("a")
	_, st := statuses(t, p, s)
	assert.Equal(t, run.Standing, st.Status, "the site is asked for nothing")
	assert.Equal(t, "vega-lan-7", st.Resource("a").Attributes["site.id"])
}

// printed gives a real shell a script with its trap and returns what is taken out and what is left for the log.
func printed(t *testing.T, o *outputs, script string) (log []string, ok bool) {
	t.Helper()
	return printedAt(t, t.TempDir(), rand.Text(), o, script)
}

func printedAt(t *testing.T, home, name string, o *outputs, script string) (log []string, ok bool) {
	t.Helper()
	cmd := exec.Command("sh", "-s")
	cmd.Env = append(os.Environ(), "HOME="+home)
	cmd.Stdin = strings.NewReader(o.wrap(name) + script)
	out, err := cmd.Output()
	for line := range bytes.Lines(out) {
		if text := strings.TrimSuffix(string(line), "\n"); !o.take(text) {
			log = append(log, text)
		}
	}
	return log, err == nil
}

func TestVariablesArePutOut(t *testing.T) {
	want := []plan.ScriptOutput{{Name: "KEY", Resource: "a", Attribute: "key"}, {Name: "KEY", Resource: "b", Attribute: "key"}, {Name: "NOTE", Resource: "a", Attribute: "note"}}
	o := newOutputs(want, signer(t), "x")
	log, ok := printed(t, o, "echo one\nKEY=\"a 'b' \\\"c\\\" \\$d\"\nNOTE='two\nlines'\necho two\nexit 0\n")
	assert.True(t, ok)
	assert.Equal(t, []string{"one", "two"}, log)
	assert.Equal(t, map[string]string{"KEY": `a 'b' "c" $d`, "NOTE": "two\nlines"}, o.got)
	o = newOutputs(want, signer(t), "x")
	_, ok = printed(t, o, "KEY=x\nexit 3\n")
	assert.False(t, ok, "the script's own status decides")
	assert.Equal(t, "x", o.got["KEY"])
	assert.NotContains(t, o.got, "NOTE", "what is not set is not put out")
	forged := newOutputs(want, signer(t), "x")
	log, _ = printed(t, forged, "echo 'ABCDEF begin KEY'\necho forged\necho 'ABCDEF end'\nKEY=real\nNOTE=\n")
	assert.Len(t, log, 3, "no script can know the mark")
	assert.Equal(t, map[string]string{"KEY": "real", "NOTE": ""}, forged.got)
}

func TestAScriptThatEndedIsNotRunAgain(t *testing.T) {
	home, name, key := t.TempDir(), rand.Text(), signer(t)
	want := []plan.ScriptOutput{{Name: "KEY", Resource: "a", Attribute: "key"}}
	log, ok := printedAt(t, home, name, newOutputs(want, key, "r/a"), "set -e\necho once\nKEY=7\nfalse\necho never\n")
	assert.False(t, ok)
	assert.Equal(t, []string{"once"}, log)
	o := newOutputs(want, key, "r/a")
	log, ok = printedAt(t, home, name, o, "echo again\nKEY=8\n")
	assert.False(t, ok, "it ended badly, and that is known")
	assert.Empty(t, log)
	assert.Equal(t, "7", o.got["KEY"], "what it put out is still there")
	again := newOutputs(want, signer(t), "r/a")
	assert.NotEqual(t, o.mark, again.mark, "another key makes another mark")
}

func TestAnyValueIsPutOutAsItIs(t *testing.T) {
	key := signer(t)
	rapid.Check(t, func(r *rapid.T) {
		text := rapid.StringMatching(`[ -~\n]{0,40}`).Draw(r, "text")
		o := newOutputs([]plan.ScriptOutput{{Name: "V", Resource: "a", Attribute: "v"}}, key, "x")
		if _, ok := printed(t, o, fmt.Sprintf("V=%s\n", remote.Quote(text))); !ok || o.got["V"] != text {
			r.Fatalf("%q was put out as %q", text, o.got["V"])
		}
	})
}

func TestOutputsAreKeptCleanAndComplete(t *testing.T) {
	p := networks(2)
	e, m := engineFor(t, p, failing())
	e.Secrets = map[string]string{"register": "hush-hush"}
	require.NoError(t, e.ready())
	s := &plan.Step{ID: "a/create", Resource: "a", Script: &plan.Script{Path: "x.sh"}}
	o := newOutputs([]plan.ScriptOutput{{Name: "A", Resource: "a", Attribute: "out"}, {Name: "B", Resource: "b", Attribute: "out"}}, signer(t), "x")
	o.got = map[string]string{"A": "the key is hush-hush\x1b[31m"}
	assert.ErrorContains(t, e.keep(s, o), "ended without setting B, which it is to put out")
	o.got["B"] = "fine"
	require.NoError(t, e.keep(s, o))
	st := state(p, m)
	assert.Equal(t, "the key is •••", st.Resource("a").Attributes["out"], "secrets and control sequences do not get into attributes")
	assert.Equal(t, "fine", st.Resource("b").Attributes["out"])
}

func TestAScriptThatStillRunsIsWaitedFor(t *testing.T) {
	home, name, key := t.TempDir(), rand.Text(), signer(t)
	script := "echo x >> $HOME/runs\nwhile [ ! -f $HOME/go ]; do sleep 0.1; done\necho over\n"
	results := make(chan []string, 2)
	for range 2 {
		go func() {
			log, _ := printedAt(t, home, name, newOutputs(nil, key, name), script)
			results <- log
		}()
		require.Eventually(t, func() bool { _, err := os.Stat(home + "/runs"); return err == nil }, 2*time.Minute, 10*time.Millisecond)
	}
	require.NoError(t, os.WriteFile(home+"/go", nil, 0o600))
	assert.Contains(t, <-results, "over")
	<-results
	runs, err := os.ReadFile(home + "/runs")
	require.NoError(t, err)
	assert.Equal(t, "x\n", string(runs), "it was run once")
}
