// Package reply has the values that commands print and the interface for programs answers with, where no service has them as they are.
package reply

import (
	"cmp"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"

	"andamio/internal/core/kinds"
	"andamio/internal/core/measure"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/core/tosca"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/service/watch"
	"andamio/internal/store"
)

// AsJSON is as the standard library's, but that a list of nothing is empty, and never null: programs go through it without asking.
var AsJSON = json.JoinOptions(jsonv1.DefaultOptionsV1(), json.FormatNilSliceAsNull(false), json.FormatNilMapAsNull(false), jsontext.EscapeForHTML(false))

// Changed is one line of a difference.
type Changed struct {
	Resource string      `json:"resource"`
	Kind     kinds.Kind  `json:"kind"`
	Site     string      `json:"site"`
	Change   plan.Change `json:"change"`
	Reasons  []string    `json:"reasons,omitempty"`
}

// Change is what a change would do.
type Change struct {
	Deployment  int64          `json:"deployment"`
	Purpose     string         `json:"purpose"`
	Changes     []Changed      `json:"changes"`
	Losses      []plan.Loss    `json:"losses"`
	Steps       []string       `json:"steps"`
	Seconds     float64        `json:"seconds"`
	CostPerHour money.Amount   `json:"cost_per_hour"`
	Currency    string         `json:"currency"`
	Promised    *plan.Promised `json:"promised,omitempty"`
}

// ChangesOf are the resources of a plan that are not kept as they are.
func ChangesOf(p *plan.Plan) []Changed {
	out := []Changed{}
	for _, r := range p.Resources {
		if r.Change != plan.Keep {
			out = append(out, Changed{r.ID, r.Kind, r.Site, cmp.Or(r.Change, plan.Build), r.Reasons}) // a plan that raises says of nothing what becomes of it
		}
	}
	return out
}

// ChangeOf is what an order would do.
func ChangeOf(o deployments.Order) Change {
	steps := make([]string, len(o.Plan.Steps))
	for i := range o.Plan.Steps {
		steps[i] = o.Plan.Steps[i].ID
	}
	losses := o.Plan.Losses()
	if losses == nil {
		losses = []plan.Loss{}
	}
	return Change{o.Deployment, o.Plan.Purpose, ChangesOf(o.Plan), losses, steps, o.Plan.Seconds, o.Plan.CostPerHour, o.Plan.Currency, o.Plan.Promised}
}

// Standing is a deployment in a line.
type Standing struct {
	ID          int64        `json:"id"`
	Name        string       `json:"name"`
	State       run.Status   `json:"state"`
	Word        string       `json:"word"`
	Resources   int          `json:"resources"`
	CostPerHour money.Amount `json:"cost_per_hour"`
	Currency    string       `json:"currency"`
	LastRun     int64        `json:"last_run"`
	Purpose     string       `json:"purpose"`
}

// StandingOf is a deployment in a line.
func StandingOf(d *deployments.Deployment) Standing {
	return Standing{d.ID, d.Name, d.State(), d.Health().Word, len(d.Stand.Plan.Resources), d.CostPerHour(), d.Stand.Plan.Currency, d.Last().ID, d.Last().Purpose}
}

// Proposed is a proposal, with why it cannot be confirmed any more; "" if it can.
type Proposed struct {
	runs.Proposal
	Why string `json:"cannot_be_confirmed,omitempty"`
}

// Checked is what is wrong with a template, or doubtful.
type Checked struct {
	Template    string            `json:"template"`
	Diagnostics tosca.Diagnostics `json:"diagnostics"`
	Mistakes    int               `json:"mistakes"`
}

// CheckedOf is what is wrong with a template of a name.
func CheckedOf(template string, d tosca.Diagnostics) Checked {
	if d == nil {
		d = tosca.Diagnostics{}
	}
	return Checked{template, d, d.Errors()}
}

// Measured is a thing with what was measured of it last.
type Measured struct {
	measure.Thing
	Latest []watch.Figure `json:"latest"`
}

// Begun is a run that goes on in the background.
type Begun struct {
	Run int64 `json:"run"`
}

// Withdrawn is a proposal that was withdrawn.
type Withdrawn struct {
	Withdrawn int64 `json:"withdrawn"`
}

// Run is a run in a line.
type Run struct {
	ID          int64        `json:"id"`
	Deployment  int64        `json:"deployment"`
	Name        string       `json:"name"`
	Purpose     string       `json:"purpose"`
	State       run.Status   `json:"state"`
	Created     time.Time    `json:"created"`
	Ended       time.Time    `json:"ended,omitzero"`
	Steps       int          `json:"steps"`
	CostPerHour money.Amount `json:"cost_per_hour"`
	Currency    string       `json:"currency"`
	// Left says that a person settled what failed, Void that it only took note of things and was taken back.
	Left bool `json:"left,omitempty"`
	Void bool `json:"void,omitempty"`
}

// RunOf is a run in a line.
func RunOf(r *store.Run) Run {
	return Run{r.ID, r.Deployment, r.Name, r.Purpose, r.State, r.Created, r.Ended, r.Steps, r.CostPerHour, r.Currency, r.Left, r.Void}
}
