package problem

import (
	"andamio/internal/core/cost"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
	"math"
)

// AnswerVersion is the format of answers.
const AnswerVersion = "andamio.placement/1"

// Answer is a placement as it is written.
type Answer struct {
	Version   string  `json:"version"`
	Name      string  `json:"name,omitempty"`
	Currency  string  `json:"currency"`
	Objective float64 `json:"objective"`
	Bound     float64 `json:"bound"`
	// Gap is how far the objective may be from the best, as a part of it; 0 where it is proven.
	Gap         float64         `json:"gap"`
	Proven      bool            `json:"proven"`
	CostPerHour money.Amount    `json:"cost_per_hour"`
	PerMonth    money.Amount    `json:"cost_per_month"`
	Cost        placement.Cost  `json:"cost"`
	Parts       placement.Parts `json:"objective_parts"`
	Payments    []cost.Payment  `json:"payments"`
	Sites       []cost.Line     `json:"sites"`
	Tiers       []cost.Line     `json:"tiers"`
	Broken      []Broken        `json:"preferences_not_met,omitempty"`
	Choices     []Choice        `json:"choices"`
}

// Broken is a preference that is not met.
type Broken struct {
	Rule      string   `json:"rule"`
	Because   string   `json:"because,omitempty"`
	Workloads []string `json:"workloads"`
	Weight    float64  `json:"weight"`
}

// Choice is where a workload goes, with a verdict on every site.
type Choice struct {
	Workload    string         `json:"workload"`
	Site        string         `json:"site"`
	Zone        string         `json:"zone"`
	Host        string         `json:"host,omitempty"`
	Size        string         `json:"size,omitempty"`
	CostPerHour money.Amount   `json:"cost_per_hour"`
	Cost        placement.Cost `json:"cost"`
	Reasons     []string       `json:"reasons,omitempty"`
	Verdicts    []Verdict      `json:"verdicts,omitempty"`
}

// Verdict judges a workload at a site. More is by how much the objective would grow.
type Verdict struct {
	Site        string       `json:"site"`
	Fits        bool         `json:"fits"`
	CostPerHour money.Amount `json:"cost_per_hour,omitempty"`
	More        float64      `json:"more,omitempty"`
	Rules       []string     `json:"rules,omitempty"`
	Reason      string       `json:"reason"`
}

// written is a number of an objective as it is written down: to the millionth, as money is.
func written(x float64) float64 { return math.Round(x*1e6) / 1e6 }

func partsOf(p placement.Parts) placement.Parts {
	return placement.Parts{Cost: written(p.Cost), Latency: written(p.Latency), Spread: written(p.Spread), Keep: written(p.Keep), Preferences: written(p.Preferences)}
}

// Answered writes a placement down.
func Answered(name string, p *placement.Problem, got *placement.Placement) *Answer {
	a := &Answer{Version: AnswerVersion, Name: name, Currency: p.Estate.Currency, Objective: written(got.Objective), Bound: written(got.Bound), Gap: written(got.Gap()),
		Proven: got.Proven, CostPerHour: got.CostPerHour, PerMonth: got.CostPerHour.Times(cost.Month), Cost: got.Cost, Parts: partsOf(got.Parts),
		Payments: cost.Payments(p, got), Sites: cost.Sums(p, got, "site"), Tiers: cost.Sums(p, got, "tier"), Choices: make([]Choice, 0, len(got.Choices))}
	for _, b := range got.Broken {
		a.Broken = append(a.Broken, Broken(b))
	}
	for i := range got.Choices {
		c := &got.Choices[i]
		out := Choice{Workload: c.Workload, Site: c.Site, Zone: c.Zone, Host: c.Host, Size: c.Size, CostPerHour: c.CostPerHour, Cost: c.Cost, Reasons: c.Reasons}
		for _, v := range c.Verdicts {
			out.Verdicts = append(out.Verdicts, Verdict{Site: v.Site, Fits: v.Fits, CostPerHour: v.CostPerHour, More: written(v.More), Rules: v.Rules, Reason: v.Reason})
		}
		a.Choices = append(a.Choices, out)
	}
	return a
}
