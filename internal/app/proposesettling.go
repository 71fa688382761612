package app

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
func (a *App) ProposeSettling(ctx context.Context, s *Settling, holds time.Duration) (*Proposal, error) {
	var out *Proposal
	err := a.do(ctx, guard.Propose, s.what(), func() (err error) {
		out, err = a.proposeSettling(ctx, s, holds)
		return err
	}, saying("settling"))
	return out, err
}

func (a *App) proposeSettling(ctx context.Context, s *Settling, holds time.Duration) (*Proposal, error) {
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
	p := Proposal{Kind: store.ProposalSettle, Name: name, Purpose: "settle " + s.what(), Body: string(data), Limits: "{}"}
	if p.Plan, err = a.store.SavePlan(ctx, mainPlan(s, p.Purpose)); err != nil {
		return nil, err
	}
	return a.keepProposal(ctx, p, body.Choices, holds)
}

// mainPlan is the first plan that a settling would run, or one of nothing where it changes records alone.
func mainPlan(s *Settling, purpose string) *plan.Plan {
	if all := s.Plans(); len(all) > 0 {
		return all[0]
	}
	return &plan.Plan{Version: plan.Version, Name: ByHand, Purpose: purpose, Inputs: map[string]any{}, Services: []plan.Service{}}
}

// ProposedSettling is what a proposal would settle, worked out of what is so now; the error says why it cannot any more.
func (a *App) ProposedSettling(ctx context.Context, id int64) (*Settling, error) {
	p, _, err := a.Proposed(ctx, id)
	if err != nil {
		return nil, err
	}
	return a.proposedSettling(ctx, p)
}

func (a *App) proposedSettling(ctx context.Context, p *Proposal) (*Settling, error) {
	var body proposedChoices
	if err := json.Unmarshal([]byte(p.Body), &body); err != nil {
		return nil, fmt.Errorf("what proposal %d is to settle cannot be read: %w", p.ID, err)
	}
	inv, err := a.Reconcile(ctx)
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
	s, err := a.Settling(ctx, inv, choices, body.Reason, body.Until)
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

// settleProposed settles what was proposed.
func (a *App) settleProposed(ctx context.Context, p *Proposal) (Confirmed, error) {
	s, err := a.proposedSettling(ctx, p)
	if err != nil {
		return Confirmed{}, err
	}
	act, runs, err := a.Settle(ctx, s)
	out := Confirmed{Outcome: store.Outcome{Act: act}, Runs: runs}
	if len(runs) > 0 {
		out.Run = runs[0]
	}
	return out, err
}

// proposedWave is a wave of a move that was proposed.
type proposedWave struct {
	Move json.RawMessage `json:"move"`
	ID   int64           `json:"id,omitempty"`
	Wave int             `json:"wave"`
	// Secrets are those that are to be given again when it begins.
	Secrets []string `json:"secrets,omitempty"`
}

// ProposeMove keeps a wave that was drafted until somebody confirms it, or its time is over. It holds as long as its deployment is as it was.
func (a *App) ProposeMove(ctx context.Context, d *MoveDraft, holds time.Duration) (*Proposal, error) {
	var out *Proposal
	err := a.do(ctx, guard.Propose, d.Move.Name, func() (err error) {
		out, err = a.proposeMove(ctx, d, holds)
		return err
	}, saying("move"))
	return out, err
}

func (a *App) proposeMove(ctx context.Context, d *MoveDraft, holds time.Duration) (*Proposal, error) {
	move, err := json.Marshal(d.Move)
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(proposedWave{move, d.Move.ID, d.Wave, d.Secrets})
	if err != nil {
		return nil, err
	}
	g, err := a.groundOf(ctx, d.Order.Deployment)
	if err != nil {
		return nil, err
	}
	p := Proposal{Kind: store.ProposalMove, Deployment: d.Order.Deployment, Name: d.Order.Plan.Name, Purpose: madeFor(d.Order.Plan), Template: d.Order.Template, Body: string(body)}
	if err := a.keepOrder(ctx, &p, d.Order); err != nil {
		return nil, err
	}
	return a.keepProposal(ctx, p, g, holds)
}

// moveProposed begins a wave that was proposed.
func (a *App) moveProposed(ctx context.Context, p *Proposal, o Order) (Confirmed, error) {
	var body proposedWave
	d := &MoveDraft{Move: &Move{}, Order: o}
	err := json.Unmarshal([]byte(p.Body), &body)
	if err == nil {
		err = json.Unmarshal(body.Move, d.Move)
	}
	if err != nil {
		return Confirmed{}, fmt.Errorf("what proposal %d is to move cannot be read: %w", p.ID, err)
	}
	d.Wave, d.Secrets = body.Wave, body.Secrets
	d.Move.Deployment = p.Deployment
	if body.ID != 0 {
		now, err := a.Move(ctx, body.ID)
		if err != nil {
			return Confirmed{}, err
		}
		d.Move.Move, d.Move.States, d.Order.Move = now.Move, now.States, body.ID
	} else {
		d.Move.States = make([]WaveState, len(d.Move.Waves))
		for i := range d.Move.States {
			d.Move.States[i] = WavePlanned
		}
	}
	if err := a.settledBut(ctx, p.Deployment, body.ID); err != nil {
		return Confirmed{}, err
	}
	_, run, err := a.StartMove(ctx, d, nil)
	if err != nil && run == 0 {
		return Confirmed{}, err
	}
	return confirmedRun(run), err
}
