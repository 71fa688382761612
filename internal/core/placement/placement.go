// Package placement decides where each workload runs: site, zone, host where the site exposes hosts, and size.
//
// In goes a [Problem], workloads and rules over an estate; out comes a [Placement] with the cost of each choice, its
// reason, and for every workload and every other site either what it would cost there or what rules it out. Equal
// problems give equal placements.
//
// Workloads are taken in order of how few sites they may use and how large they are, each at the cheapest place that
// fits, going back where that leaves a later one without a place. The result is the first complete placement found,
// which is not proven to be the cheapest.
package placement

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"andamio/internal/core/estate"
)

// Workload is what is placed as one: an instance with its volumes.
type Workload struct {
	// Name is unique; Node is the template node it is an instance of.
	Name, Node string
	// Need is what it takes of a zone or host, volumes included.
	Need estate.Capacity
	// VolumesGiB is the part of Need.DiskGiB that is billed as volumes.
	VolumesGiB float64
	// OS is the system it needs, "" for any.
	OS string
	// Image is the image it must start from, "" for any of its system.
	Image string
}

// Rule limits where workloads may run. Allow rules list what a site must satisfy; an empty list asks nothing.
type Rule struct {
	Name    string
	Because string
	// Nodes are the names of the nodes it covers; none means all.
	Nodes                                 []string
	Sites, Kinds, Jurisdictions, Features []string
	// Apart, if not empty, keeps the instances of each covered node apart: "site", "zone" or "host".
	Apart string
}

func (r Rule) covers(node string) bool { return len(r.Nodes) == 0 || slices.Contains(r.Nodes, node) }

// Allowed are the sites that no rule keeps a node from, whatever their capacity, and why it is kept from the others.
func Allowed(e *estate.Estate, rules []Rule, node string) (sites []*estate.Site, why []string) {
	for _, site := range e.Sites {
		lack := ""
		for _, r := range rules {
			if lack == "" && r.covers(node) {
				if lack = r.lack(site); lack != "" {
					why = append(why, fmt.Sprintf("%s: rule %s, %s", site.Name, r.Name, lack))
				}
			}
		}
		if lack == "" {
			sites = append(sites, site)
		}
	}
	return sites, why
}

// Offers reports whether a site has a size that holds the need.
func Offers(site *estate.Site, need estate.Capacity) bool {
	_, ok := shape(Workload{Need: need}, site)
	return ok
}

// Problem is what is to be placed and where.
type Problem struct {
	Estate    *estate.Estate
	Workloads []Workload
	Rules     []Rule
}

// Choice is where one workload goes, and why.
type Choice struct {
	Workload string
	Site     string
	Zone     string
	Host     string
	// Size is the site's name for the shape, "" where it is free-form.
	Size string
	// CostPerHour is what the instance, its volumes and its address cost there.
	CostPerHour float64
	Reasons     []string
	// Elsewhere has a verdict for every other site, in the estate's order.
	Elsewhere []Verdict
}

// Verdict says of one workload at one site whether it fits and at which cost, or what rules it out.
type Verdict struct {
	Site string `json:"site"`
	Fits bool   `json:"fits"`
	// CostPerHour is set where it fits.
	CostPerHour float64 `json:"cost_per_hour,omitempty"`
	Reason      string  `json:"reason"`
}

// Placement is a choice for every workload, in the problem's order.
type Placement struct {
	Choices     []Choice
	CostPerHour float64

	at map[string]int
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

// Impossible is the error for a problem without a placement: the workloads that fit nowhere, each with what rules
// out every site.
type Impossible struct {
	Workload string
	Verdicts []Verdict
}

func (e *Impossible) Error() string {
	lines := []string{fmt.Sprintf("there is no place for %s:", e.Workload)}
	for _, v := range e.Verdicts {
		lines = append(lines, fmt.Sprintf("  %s: %s", v.Site, v.Reason))
	}
	return strings.Join(lines, "\n")
}

// maxTries bounds going back: enough for hundreds of workloads, and never a hang.
const maxTries = 200_000

// ErrGaveUp says that no placement was found within the bounded search, though one may exist.
var ErrGaveUp = errors.New("no placement found within the search's bound; loosen a rule or add capacity")

// Solve places the workloads. The error is [*Impossible] or [ErrGaveUp].
func Solve(p Problem) (*Placement, error) {
	s := newSearch(p)
	for _, w := range p.Workloads {
		if len(s.options[w.Name]) == 0 {
			return nil, &Impossible{w.Name, s.verdicts(w)}
		}
	}
	if !s.place(0) {
		if s.tries >= maxTries {
			return nil, ErrGaveUp
		}
		w := s.order[s.deepest]
		return nil, &Impossible{w.Name, s.verdicts(w)}
	}
	return s.result(), nil
}

func round(x float64) float64 { return math.Round(x*1e6) / 1e6 }
