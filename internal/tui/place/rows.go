package place

import (
	"fmt"
	"strings"

	"andamio/internal/core/money"
	"andamio/internal/core/placement"
	"andamio/internal/service/templates"
)

// row is workloads that are alike: instances of one node, at one site, with the same verdicts.
type row struct {
	title, node, tier string
	workloads         []string
	site              string
	cores             int
	memory            float64
	cost              money.Amount
	pinned            bool
	sites             []placement.Verdict
	// first is the choice of the first of them.
	first *placement.Choice
}

// rowsOf gathers the rows of a siting, in the problem's order.
func rowsOf(s *templates.Siting) []row {
	var out []row
	at := map[string]int{}
	for i := range s.Placement.Choices {
		c, w := &s.Placement.Choices[i], &s.Problem.Workloads[i]
		key := w.Node + "|" + c.Site + fmt.Sprint(w.Pin != nil) + verdictKey(c)
		k, known := at[key]
		if !known {
			k = len(out)
			at[key] = k
			out = append(out, row{node: w.Node, tier: w.Tier, site: c.Site, cores: w.Need.Cores, memory: w.Need.MemoryGiB,
				pinned: w.Pin != nil && !w.Stays, sites: c.Verdicts, first: c})
		}
		out[k].workloads = append(out[k].workloads, c.Workload)
		out[k].cost += c.CostPerHour
	}
	for i := range out {
		out[i].title = titleOf(&out[i])
	}
	return out
}

// verdictKey is equal for choices whose cells would read the same.
func verdictKey(c *placement.Choice) string {
	var b strings.Builder
	for _, v := range c.Verdicts {
		fmt.Fprintf(&b, "|%s %.3f", v.Short, v.More)
	}
	return b.String()
}

// titleOf names a row: the node, and which of its instances are in it.
func titleOf(r *row) string {
	first := strings.TrimPrefix(strings.TrimPrefix(r.workloads[0], r.node), "-")
	last := strings.TrimPrefix(strings.TrimPrefix(r.workloads[len(r.workloads)-1], r.node), "-")
	switch {
	case first == "":
		return r.node
	case len(r.workloads) == 1:
		return r.node + " " + first
	case number(last)-number(first) == len(r.workloads)-1:
		return r.node + " " + first + "–" + last
	}
	return fmt.Sprintf("%s ×%d", r.node, len(r.workloads))
}

func number(s string) int {
	n := 0
	for _, c := range s {
		if c < '0' || c > '9' {
			return -1
		}
		n = n*10 + int(c-'0')
	}
	return n
}
