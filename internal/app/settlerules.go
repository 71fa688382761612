package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/settling"
)

// fileSettling holds the workspace's standing rules.
const fileSettling = "settling.yaml"

// SettlingRules are the workspace's standing rules; none if there is no file.
func (w *Workspace) SettlingRules() (*settling.File, error) {
	data, err := os.ReadFile(w.path(fileSettling))
	if errors.Is(err, fs.ErrNotExist) {
		return &settling.File{Version: settling.Version}, nil
	}
	if err != nil {
		return nil, err
	}
	f, err := settling.Read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.path(fileSettling), err))
	}
	return f, nil
}

// SettleByRules settles what the standing rules say, as one act a rule that can be undone like any other, and returns
// how many findings each rule settled.
func (a *App) SettleByRules(ctx context.Context) (map[string]int, error) {
	rules, err := a.workspace.SettlingRules()
	if err != nil || len(rules.Rules) == 0 {
		return nil, err
	}
	inv, err := a.Reconcile(ctx)
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
		s, err := a.Settling(ctx, inv, choices, fmt.Sprintf("%s (rule %s)", r.Reason, r.Rule), r.Until(time.Now()))
		if err != nil {
			return done, err
		}
		if len(s.Orders) > 0 {
			return done, fault.Refusedf("the rule %s would change a site, which no rule may", r.Rule)
		}
		if _, _, err := a.By(ByRule).Settle(ctx, s); err != nil {
			return done, err
		}
		done[r.Rule] = len(choices)
	}
	return done, nil
}
