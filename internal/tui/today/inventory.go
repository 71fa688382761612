package today

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/core/money"
	"andamio/internal/core/run"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// inventoryItems are what the inventory needs somebody for: findings that endanger services, sites that could not be seen
// whole, and other findings together.
func (v *View) inventoryItems(now time.Time) []item {
	if v.inv == nil {
		return nil
	}
	var out []item
	open := view.Cmd(view.Goto{Digit: "7"})
	services := map[string]int{}
	var rest, cost money.Amount
	for i := range v.inv.Findings {
		f := &v.inv.Findings[i]
		for _, s := range f.Endangers {
			services[s]++
		}
		if len(f.Endangers) == 0 {
			rest++
			cost += f.CostPerHour
		}
	}
	if len(services) > 0 {
		var names []string
		for s := range services {
			names = append(names, s)
		}
		slices.Sort(names)
		first := v.inv.Findings[0]
		out = append(out, item{rank: rankEndangered, status: run.Failed, title: plural(len(names), "service is endangered", "services are endangered"), below: strings.Join(names, ", "),
			why: fmt.Sprintf("%s %s: %s", first.Name, first.Type, first.Why[0]), acts: "look at the findings", do: open,
			reason: []string{"What is declared for these services is not what the sites have: something is gone, smaller, off, or reached elsewhere."}})
	}
	if failed := v.failedRegions(now); len(failed) > 0 {
		out = append(out, item{rank: rankSurvey, status: run.Held, title: "sites could not be surveyed whole", below: strings.Join(failed, ", "),
			why: "nothing there counts as gone, and nothing new there is found", acts: "look at the sites", do: view.Cmd(view.Goto{Digit: "1"}),
			reason: []string{"A region that could not be listed whole keeps what was seen there before, which gets older."}})
	}
	if rest > 0 {
		below := countsOf(v.inv.Findings)
		why := "what there is and what was asked for differ"
		if cost > 0 {
			why += fmt.Sprintf("; %.3f %s/h that nobody asked for", cost, v.inv.Currency)
		}
		out = append(out, item{rank: rankFindings, status: run.Held, title: plural(int(rest), "finding", "findings") + " to settle", below: below, why: why, acts: "settle them, many at once", do: open,
			reason: []string{"The last surveys and what is declared and recorded disagree. None of these endangers a service."}})
	}
	return out
}

// countsOf says how many findings there are of each sort.
func countsOf(all []inventory.Finding) string {
	counts := map[inventory.Type]int{}
	for i := range all {
		if len(all[i].Endangers) == 0 {
			counts[all[i].Type]++
		}
	}
	var out []string
	for _, t := range inventory.Types {
		if counts[t] > 0 {
			out = append(out, fmt.Sprintf("%d %s", counts[t], t))
		}
	}
	return strings.Join(out, ", ")
}

// failedRegions are the regions that the last survey could not list, with how old what is known of them is.
func (v *View) failedRegions(now time.Time) []string {
	var out []string
	for _, c := range v.inv.Coverage {
		if c.Error == "" {
			continue
		}
		age := "never seen"
		if c.Seen.Year() > 2000 {
			age = "seen " + part.Age(c.Seen, now)
		}
		out = append(out, fmt.Sprintf("%s %s (%s)", c.Site, c.Region, age))
	}
	return out
}
