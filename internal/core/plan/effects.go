package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/placement"
	"andamio/internal/core/printable"
	"andamio/internal/core/topology"
)

// Effects say of each policy of a design that covers an instance's node what it changed for it, in a sentence: what it
// demands or answers, and which sites that rules out. asking names the administrator's rules that ask a question; verdicts
// are those of one of the node's instances.
func Effects(d *topology.Design, node string, asking func(question string) []string, verdicts []placement.Verdict) []string {
	var out []string
	for _, r := range d.Rules {
		if !covers(r, d, node) {
			continue
		}
		text := "policy " + r.Name
		if r.Because != "" {
			text += " (" + r.Because + ")"
		}
		if does := changed(r, asking, verdicts); does != "" {
			out = append(out, text+": "+does)
		}
	}
	return out
}

func covers(r topology.Rule, d *topology.Design, node string) bool {
	return len(r.Targets) == 0 || slices.Contains(basesOf(r, d), node)
}

func changed(r topology.Rule, asking func(string) []string, verdicts []placement.Verdict) string {
	switch r.Kind {
	case "answers":
		return answering(r, asking, verdicts)
	case "allow":
		return excluding([]string{r.Name}, verdicts)
	case "spread":
		over, _ := r.Properties["over"].(string)
		return "instances stand apart, by " + over + "; " + excluding([]string{r.Name}, verdicts)
	case "together":
		over, _ := r.Properties["over"].(string)
		return "instances stand together, by " + over + "; " + excluding([]string{r.Name}, verdicts)
	case "traffic":
		return "what passes between them draws them to each other, and costs where it leaves a site"
	}
	return ""
}

// answering says which questions are answered, and what the rules that ask them come to.
func answering(r topology.Rule, asking func(string) []string, verdicts []placement.Verdict) string {
	given, _ := r.Properties["answers"].(map[string]any)
	var said, names []string
	for _, q := range slices.Sorted(maps.Keys(given)) {
		yes, _ := given[q].(bool)
		said = append(said, fmt.Sprintf("%s is %s", strings.ReplaceAll(q, "_", " "), map[bool]string{true: "yes", false: "no"}[yes]))
		names = append(names, asking(q)...)
	}
	text := "answers that " + strings.Join(said, ", ")
	if len(names) == 0 {
		return text + ", which no rule asks"
	}
	rule := "rule "
	if len(names) > 1 {
		rule = "rules "
	}
	return text + "; so " + rule + strings.Join(names, ", ") + " counts: " + excluding(names, verdicts)
}

// excluding says which sites some rules rule out.
func excluding(names []string, verdicts []placement.Verdict) string {
	var sites []string
	for _, v := range verdicts {
		if slices.ContainsFunc(v.Rules, func(n string) bool { return slices.Contains(names, n) }) {
			sites = append(sites, v.Site)
		}
	}
	if len(sites) == 0 {
		return "no site is ruled out by it as things are"
	}
	return printable.Count(len(sites), "site") + " ruled out by it: " + strings.Join(sites, ", ")
}
