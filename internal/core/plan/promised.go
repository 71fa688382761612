package plan

import (
	"fmt"

	"andamio/internal/core/money"
	"andamio/internal/core/promise"
)

// Promised is a service level that a deployment has from a run on, in the place of another.
type Promised struct {
	// Level is its name, and Was that of the one before; "" is none.
	Level string `json:"level,omitempty"`
	Was   string `json:"was,omitempty"`
	// Promises are what it consists of, as they were when the plan was made.
	Promises []promise.Promise `json:"promises,omitempty"`
	// Adds say what is promised that was not, Ends what is promised no more.
	Adds []string `json:"adds,omitempty"`
	Ends []string `json:"ends,omitempty"`
	// CostPerHour is what keeping all copies costs an hour at most, when there are as many as are kept.
	CostPerHour money.Amount `json:"cost_per_hour,omitempty"`
}

// Nothing reports that a plan changes nothing, neither at a site nor of what is promised.
func (p *Plan) Nothing() bool { return len(p.Steps) == 0 && p.Promised == nil }

// Lines say in words what becomes of what is promised, each in a line, with what that costs in a currency; none where nothing is.
func (p *Promised) Lines(currency string) []string {
	if p == nil {
		return nil
	}
	var out []string
	switch {
	case p.Level == "":
		out = append(out, "the service level "+p.Was+" is taken away")
	case p.Was == "" || p.Was == p.Level:
		out = append(out, "the service level is "+p.Level)
	default:
		out = append(out, "the service level is "+p.Level+", and was "+p.Was)
	}
	for _, text := range p.Adds {
		out = append(out, "promised: "+text)
	}
	for _, text := range p.Ends {
		out = append(out, "no more: "+text)
	}
	if p.CostPerHour > 0 {
		out = append(out, fmt.Sprintf("keeping the copies costs at most %.3f %s/h, when there are as many", p.CostPerHour.Units(), currency))
	}
	return out
}
