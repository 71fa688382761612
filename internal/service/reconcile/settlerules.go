package reconcile

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/settling"
)

// SettleByRules settles what the standing rules say, as one act a rule that can be undone like any other, and returns
// how many findings each rule settled.
func (svc *Service) SettleByRules(ctx context.Context) (map[string]int, error) {
	rules, err := svc.workspace.SettlingRules()
	if err != nil || len(rules.Rules) == 0 {
		return nil, err
	}
	inv, err := svc.inside().Reconcile(ctx)
	if err != nil {
		return nil, err
	}
	picked := map[*settling.Rule][]Choice{}
	for i := range inv.Findings {
		if r := rules.For(&inv.Findings[i]); r != nil {
			picked[r] = append(picked[r], Choice{inv.Findings[i], r.Settle})
		}
	}
	done := map[string]int{}
	for i := range rules.Rules {
		r := &rules.Rules[i]
		choices := picked[r]
		if len(choices) == 0 {
			continue
		}
		s, err := svc.inside().Settling(ctx, inv, choices, fmt.Sprintf("%s (rule %s)", r.Reason, r.Rule), r.Until(time.Now()))
		if err != nil {
			return done, err
		}
		if len(s.Orders) > 0 {
			return done, fault.Refusedf("the rule %s would change a site, which no rule may", r.Rule)
		}
		if _, _, err := svc.Settle(ctx, s); err != nil {
			return done, err
		}
		done[r.Rule] = len(choices)
	}
	return done, nil
}
