package plan

import (
	"fmt"
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/topology"
)

// When an action is done: before anything is built, as soon as its targets stand, or after everything stands.
const (
	beforeAll = "before"
	withIts   = "during"
	afterAll  = "after"
)

// actionSeconds is how long an action is expected to take.
const actionSeconds = 0.5

// addActions adds the actions that policies ask for beside the building. One whose condition does not hold is noted.
func (c *compiler) addActions() error {
	for _, r := range c.design.Rules {
		if r.Kind != "action" {
			continue
		}
		if holds, ok := r.Properties["if"].(bool); ok && !holds {
			c.plan.Notes = append(c.plan.Notes, fmt.Sprintf("action %s is not done: its condition does not hold", r.Name))
			continue
		}
		if err := c.addAction(r); err != nil {
			return fmt.Errorf("%s: action %s: %w", r.Pos, r.Name, err)
		}
	}
	return nil
}

func (c *compiler) addAction(r topology.Rule) error {
	a := &Action{Kind: "call", URL: c.expr(r.Properties["url"], at(0))}
	if r.Properties["message"] == true {
		a.Kind = "message"
	}
	a.Method, _ = r.Properties["method"].(string)
	if body := r.Properties["body"]; body != nil {
		e := c.expr(body, at(0))
		a.Body = &e
	}
	if n, ok := r.Properties["expect"].(int64); ok {
		a.Expect = int(n)
	}
	when, _ := r.Properties["when"].(string)
	targets := c.targetsOf(r)
	if len(c.plan.Resources) == 0 {
		return nil // there is nothing beside which it could be done
	}
	site := c.plan.Resources[0].Site
	if len(targets) > 0 {
		site = c.resource(targets[0]).Site
	}
	id := "action-" + r.Name
	if _, taken := c.at[id]; taken {
		return fmt.Errorf("its name is taken")
	}
	all := c.follows(when, targets)
	c.add(Resource{ID: id, Node: r.Name, Title: r.Name, Kind: kinds.Action, Site: site, Description: r.Because, Detail: a.Kind,
		Why: []string{"it is done " + when + " the building, beside what stands there"}})
	step := c.step(Step{Resource: id, Op: op.Act, Title: a.Kind + " " + a.URL.String(), Action: a, Check: Condition{Kind: CheckNone}}, "", actionSeconds, all...)
	if when == beforeAll {
		for i := range c.plan.Steps {
			if s := &c.plan.Steps[i]; s.ID != step && len(s.After) == 0 && len(s.AfterFailure) == 0 && s.Op != op.Act {
				s.After = []string{step}
			}
		}
		return nil
	}
	on := c.resource(id)
	for _, s := range all {
		on.StandsOn = append(on.StandsOn, c.plan.Steps[c.stepAt[s]].Resource)
	}
	on.StandsOn = unique(on.StandsOn)
	return nil
}

// targetsOf are the resources of a rule's targets.
func (c *compiler) targetsOf(r topology.Rule) []string {
	var out []string
	for i := range c.plan.Resources {
		if x := &c.plan.Resources[i]; slices.Contains(r.Targets, x.Node) && x.Kind != kinds.Endpoint {
			out = append(out, x.ID)
		}
	}
	return out
}

// follows are the steps that an action comes after: none, the last of its targets, or all that nothing comes after.
func (c *compiler) follows(when string, targets []string) []string {
	var out []string
	switch when {
	case withIts:
		for _, t := range targets {
			out = append(out, c.last[t])
		}
	case afterAll:
		before := map[string]bool{}
		for i := range c.plan.Steps {
			for _, a := range c.plan.Steps[i].After {
				before[a] = true
			}
		}
		for i := range c.plan.Steps {
			if s := &c.plan.Steps[i]; !before[s.ID] && s.Op != op.Act {
				out = append(out, s.ID)
			}
		}
	}
	return unique(out)
}
