package moves

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
)

// Breaking is why workloads do not go where they were to go: rules that hold for them forbid it, and nobody lifted those.
type Breaking struct {
	Breaches []placement.Breach `json:"breaches,omitempty"`
}

// Code is the class of the error: a rule forbids it.
func (b *Breaking) Code() fault.Code { return fault.Refused }

// Error says which rules, and how they are lifted.
func (b *Breaking) Error() string {
	var parts []string
	for _, x := range b.Breaches {
		parts = append(parts, fmt.Sprintf("%s: %s (rule %s: %s)", strings.Join(x.Workloads, ", "), x.Because, x.Rule, x.How))
	}
	return fmt.Sprintf("the rules forbid it: %s; --lift %s moves it all the same", strings.Join(parts, "; "), strings.Join(b.Rules(), ","))
}

// Rules are the names of the rules that are broken.
func (b *Breaking) Rules() []string {
	var out []string
	for _, x := range b.Breaches {
		out = append(out, x.Rule)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// rulesFor states under which rules a deployment's workloads were placed. Without its template nobody knows them.
func (svc *Service) rulesFor(ctx context.Context, d *deployments.Deployment, wanted *plan.Plan, e *estate.Estate) (*placement.Problem, error) {
	t, err := svc.deployments.TemplateOf(ctx, d, templates.Place{})
	if err != nil {
		return nil, err
	}
	p, err := t.Preset(wanted.Preset)
	if err != nil {
		return nil, err
	}
	all := tosca.Inputs{}
	for name, v := range p.Inputs {
		all[name] = v
	}
	for name, v := range templates.InputsOf(wanted, nil) {
		all[name] = v
	}
	design, diagnostics := t.Design(all, p.Diagnostics, topology.Options{Standing: templates.Existing(e)})
	if design == nil {
		return nil, diagnostics
	}
	w, err := svc.deployments.Ruled(templates.DraftRequest{})
	if err != nil {
		return nil, err
	}
	problem, err := templates.ProblemOf(design, e, w)
	if err == nil {
		templates.Stay(problem, templates.DraftRequest{Lifted: wanted.Lifted})
	}
	return problem, err
}

// Because says why, rule by rule.
func (b *Breaking) Because() string {
	var out []string
	for _, x := range b.Breaches {
		out = append(out, fmt.Sprintf("%s: %s (%s)", strings.Join(x.Workloads, ", "), x.Because, x.How))
	}
	return strings.Join(out, "; ")
}

// liftedBy are the rules that a move lifts, for each workload that breaks them where it goes.
func liftedBy(lifted []migrate.Difference) map[string][]string {
	out := map[string][]string{}
	for _, d := range lifted {
		if rule, ok := strings.CutPrefix(d.What, liftedRule); ok {
			out[d.Instance] = append(out[d.Instance], rule)
		}
	}
	return out
}

// liftedRule begins what a difference says of a rule that is lifted.
const liftedRule = "rule "

// heed checks a move against the rules: what it newly breaks is an error, unless it is lifted; that is said as a
// difference.
func (svc *Service) heed(ctx context.Context, d *deployments.Deployment, wanted *plan.Plan, e *estate.Estate, m *Move) ([]migrate.Difference, error) {
	if wanted.Template == "" && d.Template == "" {
		return []migrate.Difference{{Instance: m.Choices[0].Instance, What: "rules", Here: "none", There: "none", Why: "no template says where it may be"}}, nil
	}
	problem, err := svc.rulesFor(ctx, d, wanted, e)
	if err != nil {
		return []migrate.Difference{{Instance: m.Choices[0].Instance, What: "rules", Here: "not known", There: "not checked", Weight: "worse",
			Why: "the template cannot be read: " + err.Error()}}, nil
	}
	var open []placement.Breach
	var lifted []migrate.Difference
	for _, b := range newBreaches(*problem, wanted, m.Choices) {
		if !slices.Contains(m.Request.Lift, b.Rule) {
			open = append(open, b)
			continue
		}
		for _, id := range b.Workloads {
			lifted = append(lifted, migrate.Difference{Instance: id, What: liftedRule + b.Rule, Here: "kept", There: "lifted", Weight: "worse", Why: b.Because + "; " + b.How})
		}
	}
	if len(open) > 0 {
		return nil, &Breaking{open}
	}
	return lifted, nil
}

// newBreaches are what a move breaks that was not broken before.
func newBreaches(p placement.Problem, wanted *plan.Plan, choices []migrate.Choice) []placement.Breach {
	at := map[string]placement.Spot{}
	for i := range wanted.Resources {
		if r := &wanted.Resources[i]; r.Kind == kinds.Instance {
			at[r.ID] = placement.Spot{Site: r.Site, Zone: r.Zone, Host: r.Host}
		}
	}
	before := map[[2]string]bool{}
	for _, b := range placement.Breaches(p, at) {
		for _, w := range b.Workloads {
			before[[2]string{b.Rule, w}] = true
		}
	}
	moved := map[string]bool{}
	for _, c := range choices {
		at[c.Instance], moved[c.Instance] = placement.Spot{Site: c.Site, Zone: c.Zone, Host: c.Host}, true
	}
	var out []placement.Breach
	for _, b := range placement.Breaches(p, at) {
		b.Workloads = slices.DeleteFunc(b.Workloads, func(w string) bool { return !moved[w] || before[[2]string{b.Rule, w}] })
		if len(b.Workloads) > 0 {
			out = append(out, b)
		}
	}
	return out
}
