package reconcile

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/inventory"
	"andamio/internal/core/plan"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/store"
)

// proposedChoices are the choices of a settling that was proposed.
type proposedChoices struct {
	Choices []proposedChoice `json:"choices"`
	Reason  string           `json:"reason,omitempty"`
	Until   time.Time        `json:"until,omitzero"`
}

type proposedChoice struct {
	Finding string        `json:"finding"`
	Way     inventory.Way `json:"way"`
	// Effect is what it was to do, which is to be so still.
	Effect string `json:"effect"`
}

// ProposeSettling keeps a settling that was worked out until somebody confirms it, or its time is over. It holds as long as the findings are
// there and settling them does what it was to do.
func (svc *Service) ProposeSettling(ctx context.Context, s *Settling, holds time.Duration) (*runs.Proposal, error) {
	var out *runs.Proposal
	err := svc.desk.Do(ctx, guard.Propose, s.thing(), func() (err error) {
		out, err = svc.proposeSettling(ctx, s, holds)
		return err
	}, acting.Saying("settling"))
	return out, err
}

func (svc *Service) proposeSettling(ctx context.Context, s *Settling, holds time.Duration) (*runs.Proposal, error) {
	body := proposedChoices{Reason: s.reason, Until: s.until}
	for _, i := range s.Items {
		body.Choices = append(body.Choices, proposedChoice{i.Finding.ID, i.Way, i.Effect})
	}
	data, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	name := s.MustType()
	if name == "" {
		name = "findings" // what is typed again where no data goes: one word
	}
	p := runs.Proposal{Kind: store.ProposalSettle, Name: name, Purpose: "settle " + s.what(), Body: string(data), Limits: "{}"}
	if p.Plan, err = svc.store.SavePlan(ctx, mainPlan(s, p.Purpose)); err != nil {
		return nil, err
	}
	return svc.runs.KeepProposal(ctx, p, body.Choices, holds)
}

// mainPlan is the first plan that a settling would run, or one of nothing where it changes records alone.
func mainPlan(s *Settling, purpose string) *plan.Plan {
	if all := s.Plans(); len(all) > 0 {
		return all[0]
	}
	return &plan.Plan{Version: plan.Version, Name: deployments.ByHand, Purpose: purpose, Inputs: map[string]any{}, Services: []plan.Service{}}
}

// ProposedSettling is what a proposal would settle, worked out of what is so now; the error says why it cannot any more.
func (svc *Service) ProposedSettling(ctx context.Context, id int64) (*Settling, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	p, _, err := svc.runs.Proposed(ctx, id)
	if err != nil {
		return nil, err
	}
	return svc.proposedSettling(ctx, p)
}

func (svc *Service) proposedSettling(ctx context.Context, p *runs.Proposal) (*Settling, error) {
	var body proposedChoices
	if err := json.Unmarshal([]byte(p.Body), &body); err != nil {
		return nil, fmt.Errorf("what proposal %d is to settle cannot be read: %w", p.ID, err)
	}
	inv, err := svc.inside().Reconcile(ctx)
	if err != nil {
		return nil, err
	}
	var choices []Choice
	for _, c := range body.Choices {
		i := slices.IndexFunc(inv.Findings, func(f inventory.Finding) bool { return f.ID == c.Finding })
		if i < 0 || !inv.Findings[i].Can(c.Way) {
			return nil, fault.Conflictf("proposal %d was to %s, and by now there is nothing to settle so: have it worked out anew", p.ID, c.Effect)
		}
		choices = append(choices, Choice{inv.Findings[i], c.Way})
	}
	s, err := svc.inside().Settling(ctx, inv, choices, body.Reason, body.Until)
	if err != nil {
		return nil, err
	}
	for i, c := range body.Choices {
		if now := s.Items[i].Effect; now != c.Effect {
			return nil, fault.Conflictf("proposal %d was to %s, and by now it would %s: have it worked out anew", p.ID, c.Effect, now)
		}
	}
	return s, nil
}

// SettleProposed settles what was proposed.
func (svc *Service) SettleProposed(ctx context.Context, p *runs.Proposal, _ deployments.Order) (runs.Confirmed, error) {
	s, err := svc.proposedSettling(ctx, p)
	if err != nil {
		return runs.Confirmed{}, err
	}
	act, begun, err := svc.Settle(ctx, s)
	out := runs.Confirmed{Outcome: store.Outcome{Act: act}, Runs: begun}
	if len(begun) > 0 {
		out.Run = begun[0]
	}
	return out, err
}
