package moves

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/store"
)

// proposedWave is a wave of a move that was proposed.
type proposedWave struct {
	Move json.RawMessage `json:"move"`
	ID   int64           `json:"id,omitempty"`
	Wave int             `json:"wave"`
	// Secrets are those that are to be given again when it begins.
	Secrets []string `json:"secrets,omitempty"`
}

// ProposeMove keeps a wave that was drafted until somebody confirms it, or its time is over. It holds as long as its deployment is as it was.
func (svc *Service) ProposeMove(ctx context.Context, d *Draft, holds time.Duration) (*runs.Proposal, error) {
	var out *runs.Proposal
	err := svc.desk.Do(ctx, guard.Propose, d.thing(), func() (err error) {
		out, err = svc.proposeMove(ctx, d, holds)
		return err
	}, acting.Saying("move"))
	return out, err
}

func (svc *Service) proposeMove(ctx context.Context, d *Draft, holds time.Duration) (*runs.Proposal, error) {
	move, err := json.Marshal(d.Move)
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(proposedWave{move, d.Move.ID, d.Wave, d.Secrets})
	if err != nil {
		return nil, err
	}
	g, err := svc.runs.GroundOf(ctx, d.Order.Deployment)
	if err != nil {
		return nil, err
	}
	p := runs.Proposal{Kind: store.ProposalMove, Deployment: d.Order.Deployment, Name: d.Order.Plan.Name, Purpose: runs.MadeFor(d.Order.Plan), Template: d.Order.Template, Body: string(body)}
	if err := svc.runs.KeepOrder(ctx, &p, d.Order); err != nil {
		return nil, err
	}
	return svc.runs.KeepProposal(ctx, p, g, holds)
}

// BeginProposed begins a wave that was proposed.
func (svc *Service) BeginProposed(ctx context.Context, p *runs.Proposal, o deployments.Order) (runs.Confirmed, error) {
	var body proposedWave
	d := &Draft{Move: &Move{}, Order: o}
	err := json.Unmarshal([]byte(p.Body), &body)
	if err == nil {
		err = json.Unmarshal(body.Move, d.Move)
	}
	if err != nil {
		return runs.Confirmed{}, fmt.Errorf("what proposal %d is to move cannot be read: %w", p.ID, err)
	}
	d.Wave, d.Secrets = body.Wave, body.Secrets
	d.Move.Deployment = p.Deployment
	if body.ID != 0 {
		now, err := svc.inside().Move(ctx, body.ID)
		if err != nil {
			return runs.Confirmed{}, err
		}
		d.Move.Move, d.Move.States, d.Order.Move = now.Move, now.States, body.ID
	} else {
		d.Move.States = make([]WaveState, len(d.Move.Waves))
		for i := range d.Move.States {
			d.Move.States[i] = WavePlanned
		}
	}
	if err := svc.SettledBut(ctx, p.Deployment, body.ID); err != nil {
		return runs.Confirmed{}, err
	}
	_, run, err := svc.StartMove(ctx, d, nil)
	if err != nil && run == 0 {
		return runs.Confirmed{}, err
	}
	return runs.ConfirmedRun(run), err
}
