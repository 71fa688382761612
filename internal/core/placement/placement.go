// Package placement decides where each workload runs: site, zone, host where the site exposes hosts, and size.
//
// In goes a [Problem]: workloads with what they need, what passes between them, rules, weights and an estate. Out comes a
// [Placement]: a choice for every workload, its cost by part, how far it can be from the best there is, and for every
// workload and every site whether it fits there, what it would cost, or what rules it out. Where nothing fits the error
// is [*Impossible], with the smallest set of rules and capacities that make it so.
//
// The search works in this order, and ends as soon as the bound meets what was found:
//
//   - model.go turns the problem into numbers: for each workload the sites it may use with the sizes that are worth
//     considering, rooms with their capacities, groups that are kept apart, pairs that talk.
//   - bound.go finds a lower bound of the objective: capacities and groups get prices (a Lagrangian relaxation, led by
//     subgradients), what passes between two workloads is split between them (message passing on each pair).
//   - construct.go places everything along those prices; improve.go moves, swaps and rebuilds parts of what was found.
//   - exact.go searches what the bound cannot exclude, and proves the best, where the problem is small enough.
//
// Equal problems and equal seeds give equal placements, unless the search was stopped.
package placement

import (
	"andamio/internal/core/estate"
	"andamio/internal/core/money"
)

// Problem is what is to be placed and where.
type Problem struct {
	Estate    *estate.Estate
	Workloads []Workload
	Traffic   []Traffic
	Rules     []Rule
	Weights   Weights
	// Payment is how instances are paid for; where a site does not offer it, by the hour.
	Payment estate.Payment
	// Budget is the most that everything may cost per hour; 0 is no limit.
	Budget float64
}

// Workload is what is placed as one: an instance with its volumes.
type Workload struct {
	// Name is unique; Node is the template node it is an instance of, Tier the service or tier it belongs to.
	Name, Node, Tier string
	// Need is what it takes of a zone or host, volumes included.
	Need estate.Capacity
	// VolumesGiB is the part of Need.DiskGiB that is billed as volumes, of the storage class Storage.
	VolumesGiB float64
	Storage    string
	// OS is the system it needs, "" for any; Image the image it must start from, "" for any of its system that has the
	// Capabilities.
	OS, Image    string
	Release      estate.Release
	Capabilities []string
	// Appliance is a service of its own that a site may run in the workload's place, by its name; "" for none.
	Appliance string
	// Addresses is how many addresses of the site's pools it takes.
	Addresses int
	// Answers are those to the administrator's plain questions; Tags are for rules and for cost.
	Answers map[string]bool
	Tags    map[string]string
	// Now is where it runs already; nil if nowhere. Pin is where it must be: what is empty in it is free. Forbid are sites
	// it must not be at.
	Now, Pin *Spot
	Forbid   []string
	// Stays says that Pin is where it stands, and nobody's choice. Exempt are the names of rules that do not hold for it.
	Stays  bool
	Exempt []string
	// Ends are fixed ends that it exchanges data with: data that stands somewhere, users at a place.
	Ends []End
}

// Spot is a place: a site, and as much more as is known.
type Spot struct {
	Site string `json:"site"`
	Zone string `json:"zone,omitempty"`
	Host string `json:"host,omitempty"`
	Size string `json:"size,omitempty"`
}

// End is data or users at a site, with what passes to and from there in GiB per hour, and the most milliseconds there may
// be between (0 for any).
type End struct {
	Site          string
	ToGiB, FrGiB  float64
	MaxMs, Weight float64
}

// Traffic is what passes between two workloads: GiB per hour from the first to the second and back, the most
// milliseconds there may be between them (0 for any), and how much each millisecond matters (1 is ordinary).
type Traffic struct {
	From, To      string
	GiB, BackGiB  float64
	MaxMs, Weight float64
}

// Weights say what counts how much. The objective is in the estate's currency per hour.
type Weights struct {
	// Cost is the factor on what everything costs.
	Cost float64 `json:"cost"`
	// Latency is what a millisecond between two that talk is worth.
	Latency float64 `json:"latency"`
	// Spread is what each instance is worth that is beyond half of its node's at one site.
	Spread float64 `json:"spread"`
	// Keep is what it is worth not to move a workload that runs.
	Keep float64 `json:"keep"`
}

// Usual are the weights that hold where nobody chose others.
var Usual = Weights{Cost: 1, Latency: 0.0005, Spread: 0.002, Keep: 0.05}

// Options say how long and how to search.
type Options struct {
	Seed uint64
	// Effort is how much work improvement may take, 1 is usual; 0 counts as 1.
	Effort float64
	// Stop, if not nil, is asked often; once it says true the best found so far is returned. Progress hears of every better
	// placement and bound.
	Stop     func() bool
	Progress func(Progress)
	// Like is an earlier placement: where others are as good, what it chose is kept.
	Like *Placement
	// Brief leaves out reasons and verdicts.
	Brief bool
}

// Progress is how far a search has come. Objective is 0 while nothing was found.
type Progress struct {
	Phase            string
	Objective, Bound float64
}

// Placement is a choice for every workload, in the problem's order.
type Placement struct {
	Choices []Choice
	// Objective is what was made small; Bound is what no placement can be below. Proven says that both are the same.
	Objective, Bound float64
	Proven           bool
	// CostPerHour is the money in it, Cost the same by part, Parts everything in the objective by part.
	CostPerHour money.Amount
	Cost        Cost
	Parts       Parts
	// Broken are the preferences that the placement does not meet.
	Broken []Broken

	at map[string]int
}

// Cost is money per hour by what it is for.
type Cost struct {
	Compute money.Amount `json:"compute"`
	Storage money.Amount `json:"storage"`
	Address money.Amount `json:"address"`
	Egress  money.Amount `json:"egress"`
}

// Total is all of it.
func (c Cost) Total() money.Amount { return c.Compute + c.Storage + c.Address + c.Egress }

func (c Cost) plus(o Cost) Cost {
	return Cost{c.Compute + o.Compute, c.Storage + o.Storage, c.Address + o.Address, c.Egress + o.Egress}
}

// Parts are the parts of an objective, weights applied.
type Parts struct {
	Cost        float64 `json:"cost"`
	Latency     float64 `json:"latency"`
	Spread      float64 `json:"spread"`
	Keep        float64 `json:"keep"`
	Preferences float64 `json:"preferences"`
}

// Total is the objective.
func (p Parts) Total() float64 { return p.Cost + p.Latency + p.Spread + p.Keep + p.Preferences }

// Broken is a preference that is not met, by how many, and what that weighs.
type Broken struct {
	Rule, Because string
	Workloads     []string
	Weight        float64
}

// Choice is where one workload goes, and why.
type Choice struct {
	Workload string
	Site     string
	Zone     string
	Host     string
	// Size is the site's name for the shape, "" where it is free-form; Takes is what it takes there.
	Size  string
	Takes estate.Capacity
	// CostPerHour is what the instance, its volumes and its address cost there, and half of what passes between it and
	// others; Cost is the same by part.
	CostPerHour money.Amount
	Cost        Cost
	Reasons     []string
	// Verdicts has one for every site, Elsewhere one for every other site than the chosen, in the estate's order.
	Verdicts  []Verdict
	Elsewhere []Verdict
}

// Verdict says of one workload at one site whether it fits and at which cost, or what rules it out, everything else
// staying where it is.
type Verdict struct {
	Site string `json:"site"`
	Fits bool   `json:"fits"`
	// CostPerHour is set where it fits.
	CostPerHour money.Amount `json:"cost_per_hour,omitempty"`
	// More is how much the whole objective would grow.
	More   float64 `json:"-"`
	Reason string  `json:"reason"`
	// Short is the reason in a word or two; Rules names every rule that excludes the site.
	Short string   `json:"-"`
	Rules []string `json:"-"`
	// Ms is the most milliseconds to anything it talks to, -1 if it talks to nothing.
	Ms float64 `json:"-"`
}

// Gap is how far the objective can be from the best there is, as a part of it.
func (p *Placement) Gap() float64 {
	if p.Proven || p.Objective <= p.Bound {
		return 0
	}
	return (p.Objective - p.Bound) / max(p.Objective, 1e-9)
}

// Choice returns the choice for the workload, or nil.
func (p *Placement) Choice(workload string) *Choice {
	if i, ok := p.at[workload]; ok {
		return &p.Choices[i]
	}
	return nil
}

// index builds the look-up of Choice.
func (p *Placement) index() {
	p.at = make(map[string]int, len(p.Choices))
	for i := range p.Choices {
		p.at[p.Choices[i].Workload] = i
	}
}
