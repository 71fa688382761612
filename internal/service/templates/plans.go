package templates

import (
	"maps"
	"slices"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/rules"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

// Draft is everything worked out on the way from a template to a plan, as far as it went.
type Draft struct {
	Template    *Template         `json:"-"`
	Preset      string            `json:"preset,omitempty"`
	Workflow    string            `json:"workflow,omitempty"`
	Diagnostics tosca.Diagnostics `json:"diagnostics"`
	Design      *topology.Design  `json:"-"`
	// Problem is what was to be placed, with what was chosen beside the template.
	Problem   *placement.Problem   `json:"-"`
	Choices   Choices              `json:"choices"`
	Rules     *rules.File          `json:"-"`
	Placement *placement.Placement `json:"placement,omitempty"`
	Plan      *plan.Plan           `json:"plan,omitempty"`
	// Deployment is the one that stands of it, 0 if none does; Stands is where that has its workloads.
	Deployment int64                `json:"deployment"`
	Stands     *placement.Placement `json:"stands,omitempty"`
	wish       DraftRequest
	// Err says why there is a design and yet no plan.
	Err error `json:"-"`
}

// Effects say what each policy of the template changed for an instance, by its workload's name.
func (d *Draft) Effects(workload string) []string {
	if d.Design == nil || d.Placement == nil || d.Problem == nil {
		return nil
	}
	known := d.Rules
	if known == nil {
		known = rules.Default()
	}
	for i := range d.Placement.Choices {
		if c := &d.Placement.Choices[i]; c.Workload == workload {
			return plan.Effects(d.Design, d.Problem.Workloads[i].Node, known.Asking, c.Verdicts)
		}
	}
	return nil
}

// DraftRequest says how a template is to be worked out. Inputs win over the preset's.
type DraftRequest struct {
	Preset string       `json:"preset,omitempty"`
	Inputs tosca.Inputs `json:"inputs"`
	// Workflow is the imperative workflow to follow; "" is the template's own deploy, or the declarative one.
	Workflow string `json:"workflow,omitempty"`
	// Choices are those made of the placement beside the template, Rules the administrator's; nil for those that ship.
	Choices Choices     `json:"choices"`
	Rules   *rules.File `json:"-"`
	// Like is an earlier placement; what is as good stays where it has it.
	Like *placement.Placement `json:"-"`
	// Name is the deployment's; "" is the template's own.
	Name string `json:"name,omitempty"`
	// Stand is what stands already; it keeps its addresses. Keep are the places where workloads stand, and stay.
	Stand *plan.Plan                `json:"-"`
	Keep  map[string]placement.Spot `json:"-"`
	// Lifted are the rules that do not hold for a workload, Heed those of them that hold again.
	Lifted map[string][]string `json:"lifted,omitempty"`
	Heed   []string            `json:"heed,omitempty"`
	// Levels are the service levels that may be chosen, from the one that promises least.
	Levels []LevelChoice `json:"-"`
}

// NewDraft works a template out for an estate; without one, as far as the design.
func NewDraft(t *Template, w DraftRequest, e *estate.Estate) *Draft {
	d := &Draft{Template: t, Preset: w.Preset, Workflow: w.Workflow, wish: w}
	if w.Stand != nil {
		d.Stands = w.Like
	}
	p, err := t.Preset(w.Preset)
	if err != nil {
		d.Err = err
		return d
	}
	all := tosca.Inputs{}
	maps.Copy(all, p.Inputs)
	maps.Copy(all, w.Inputs)
	d.Design, d.Diagnostics = t.Design(all, p.Diagnostics, topology.Options{Standing: Existing(e), NoSites: e == nil})
	if d.Design == nil {
		return d
	}
	d.Diagnostics = append(d.Diagnostics, plan.Policies(d.Design, questionsOf(w.Rules))...)
	if e == nil || d.Diagnostics.Errors() > 0 {
		return d
	}
	if d.Problem, d.Err = ProblemOf(d.Design, e, w); d.Err != nil {
		return d
	}
	notes := Stay(d.Problem, w)
	d.Choices, d.Rules = w.Choices, w.Rules
	if d.Rules == nil {
		d.Rules = rules.Default()
	}
	go t.Digest() // beside the placement: it is asked for when there is a plan
	offers := make(chan tosca.Diagnostics, 1)
	go func() { offers <- plan.Offers(d.Design, *d.Problem) }() // beside the placement: they seldom find anything
	d.place(w, e, notes)
	d.Diagnostics = append(d.Diagnostics, <-offers...)
	if d.Diagnostics.Errors() > 0 { // what no site offers says more than that nothing could be placed
		d.Placement, d.Plan, d.Err = nil, nil, nil
	}
	return d
}

// questionsOf are the names of the questions that a rule file asks; of the one that ships, if nil.
func questionsOf(f *rules.File) []string {
	if f == nil {
		f = rules.Default()
	}
	out := make([]string, len(f.Questions))
	for i, q := range f.Questions {
		out[i] = q.Name
	}
	return out
}

// mostReleases bounds how often what stands is let go for want of room.
const mostReleases = 24

// solve places a problem; what stands and has no room any more is let go, so that there may be a place for it.
func solve(p *placement.Problem, o placement.Options) (*placement.Placement, error) {
	for n := 0; ; n++ {
		placed, err := placement.Solve(*p, o)
		if err == nil || n == mostReleases || !release(p, err) {
			return placed, err
		}
	}
}

// place finds a place for every workload and compiles the plan.
func (d *Draft) place(w DraftRequest, e *estate.Estate, notes []string) {
	if d.Placement, d.Err = solve(d.Problem, placement.Options{Like: w.Like}); d.Err != nil {
		return
	}
	d.Plan, d.Err = plan.Compile(d.Design, d.Placement, e, plan.Options{Preset: w.Preset, Workflow: w.Workflow, Like: w.Stand, Name: w.Name})
	d.Err = fault.Default(fault.Invalid, d.Err) // it is the template, or what was asked of it, that does not go
	if d.Err == nil {
		d.Plan.Notes = slices.Concat(d.Plan.Notes, notes)
		d.Plan.Template, d.Plan.Revision, d.Plan.Source = d.Template.Origin(), d.Template.Revision, d.Template.Digest()
		if len(w.Lifted) > 0 {
			d.Plan.Lifted = w.Lifted
		}
	}
}
