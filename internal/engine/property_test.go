package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"

	"pgregory.net/rapid"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// randomPlan is a plan of networks that wait for each other at random.
func randomPlan(t *rapid.T) *plan.Plan {
	p := &plan.Plan{Version: plan.Version, Name: "random", Sites: []plan.Site{{Name: "vega"}}}
	for i := range rapid.IntRange(1, 30).Draw(t, "steps") {
		id := fmt.Sprintf("n%d", i)
		s := plan.Step{ID: id + "/create", Resource: id, Op: op.Create, Site: "vega", Level: 1, Check: plan.Condition{Kind: plan.CheckSite},
			Slack: float64(rapid.IntRange(0, 3).Draw(t, "slack"))}
		for j := range i {
			if rapid.IntRange(0, 5).Draw(t, "edge") == 0 {
				s.After = append(s.After, p.Steps[j].ID)
				s.Level = max(s.Level, p.Steps[j].Level+1)
			}
		}
		p.Resources = append(p.Resources, plan.Resource{ID: id, Kind: kinds.Network, Site: "vega", Level: s.Level, Spec: plan.NetworkSpec{Label: id}})
		p.Steps = append(p.Steps, s)
		p.Levels = max(p.Levels, s.Level)
	}
	return p
}

// TestAnyRunIsLawful runs random plans against a site that refuses some of the requests, and checks of the journal: no
// step began before all it waits for were done, none began twice, every one that could run did, and the state that a
// watcher works out is the engine's own.
func TestAnyRunIsLawful(t *testing.T) {
	key := signer(t)
	rapid.Check(t, func(t *rapid.T) {
		p := randomPlan(t)
		refused := map[string]bool{}
		for _, r := range p.Resources {
			refused[r.ID] = rapid.IntRange(0, 9).Draw(t, "refused") == 0
		}
		s := &scripted{create: func(r site.Request) (site.Resource, error) {
			if refused[r.Name] {
				return site.Resource{}, &site.Error{Site: "vega", Doing: "create", Class: site.Refused, Detail: "no"}
			}
			return active(r)
		}}
		m := &memory{}
		e := &Engine{Run: "r", Plan: p, Sites: map[string]site.Site{"vega": s}, Journal: m, Key: key,
			Limits: dispatch.Limits{Steps: rapid.IntRange(1, 9).Draw(t, "limit"), PerSite: rapid.IntRange(1, 9).Draw(t, "per site")}}
		err := e.Execute(context.Background())
		if err != nil && !errors.Is(err, ErrUnfinished) {
			t.Fatal(err)
		}
		state := state(p, m)
		checkJournal(t, p, m.events)
		checkOutcome(t, state, refused)
		if state.Status != e.Outcome() {
			t.Fatalf("a watcher sees %s and the engine %s", state.Status, e.Outcome())
		}
	})
}

func checkJournal(t *rapid.T, p *plan.Plan, events []run.Event) {
	started, done := map[string]bool{}, map[string]bool{}
	for _, e := range events {
		switch e.Kind {
		case run.StepStarted:
			if started[e.Step] {
				t.Fatalf("%s began twice", e.Step)
			}
			started[e.Step] = true
			for _, a := range p.Step(e.Step).After {
				if !done[a] {
					t.Fatalf("%s began before %s was done", e.Step, a)
				}
			}
		case run.StepDone:
			done[e.Step] = true
		}
	}
}

func checkOutcome(t *rapid.T, s *run.State, refused map[string]bool) {
	for i := range s.Steps {
		st := &s.Steps[i]
		blocked := false
		for _, a := range st.After {
			blocked = blocked || s.Step(a).Status != run.Standing
		}
		want := run.Standing
		switch {
		case blocked:
			want = run.Held
		case refused[st.Resource]:
			want = run.Failed
		}
		if st.Status != want {
			t.Fatalf("%s is %s, not %s", st.ID, st.Status, want)
		}
	}
}

// TestACancelAtAnyMomentLeavesNothingUnderWay cancels random runs at random events.
func TestACancelAtAnyMomentLeavesNothingUnderWay(t *testing.T) {
	key := signer(t)
	rapid.Check(t, func(t *rapid.T) {
		p := randomPlan(t)
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		m := &cancelling{at: rapid.IntRange(1, 40).Draw(t, "cancel at"), cancel: cancel}
		e := &Engine{Run: "r", Plan: p, Sites: map[string]site.Site{"vega": &scripted{create: active}}, Journal: m, Key: key}
		if err := e.Execute(ctx); err != nil && !errors.Is(err, ErrUnfinished) {
			t.Fatal(err)
		}
		s := state(p, &m.memory)
		if !s.Over() {
			t.Fatal("the end is not in the journal")
		}
		for i := range s.Steps {
			if s.Steps[i].Status == run.UnderWay {
				t.Fatalf("%s is left under way", s.Steps[i].ID)
			}
		}
		if s.Done == len(s.Steps) != (s.Status == run.Standing) {
			t.Fatalf("%d of %d done, and the run is %s", s.Done, len(s.Steps), s.Status)
		}
	})
}

// cancelling is a journal that cancels the run at its n-th event.
type cancelling struct {
	memory
	once   sync.Once
	at     int
	cancel func()
}

func (c *cancelling) Append(events ...run.Event) error {
	err := c.memory.Append(events...)
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.events) >= c.at {
		c.once.Do(c.cancel)
	}
	return err
}
