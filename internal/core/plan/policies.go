package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

// Policies finds placement policies that would be void without a word: an answer to a question that nobody asks, a policy
// that says nothing, one whose targets are nothing that is placed. questions are those that the administrator's rules ask.
func Policies(d *topology.Design, questions []string) tosca.Diagnostics {
	var out tosca.Diagnostics
	say := func(r topology.Rule, s tosca.Severity, code tosca.Code, hint, format string, args ...any) {
		out = append(out, tosca.Diagnostic{Pos: r.Pos, Width: max(len(r.Name), 1), Code: code, Severity: s, Hint: hint,
			Message: "policy " + r.Name + " " + fmt.Sprintf(format, args...)})
	}
	for _, r := range d.Rules {
		switch r.Kind {
		case "answers":
			given, _ := r.Properties["answers"].(map[string]any)
			if len(given) == 0 {
				say(r, tosca.Mistake, tosca.CodeMissingKey, "answer one of "+strings.Join(questions, ", "), "answers no question, so it has no effect")
			}
			for _, q := range slices.Sorted(maps.Keys(given)) {
				if slices.Contains(questions, q) {
					continue
				}
				hint := "there are " + strings.Join(questions, ", ")
				if meant := tosca.Nearest(q, questions); meant != "" {
					hint = "write " + meant
				}
				say(r, tosca.Mistake, tosca.CodeUnknownKey, hint, "answers %s, which no rule asks", q)
			}
		case "allow":
			empty := true
			for _, v := range r.Properties {
				empty = empty && len(texts(v)) == 0
			}
			if empty {
				say(r, tosca.Mistake, tosca.CodeMissingKey, "give sites, site_kinds, jurisdictions or features", "demands nothing of a site, so it has no effect")
			}
		case "together", "spread":
		default:
			continue
		}
		if len(r.Targets) > 0 && len(basesOf(r, d)) == 0 {
			say(r, tosca.Doubt, tosca.CodeUnused, "name compute nodes, or software on them", "has targets of which none is placed, so it has no effect")
		}
	}
	return out
}
