package runs

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"andamio/internal/core/clock"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// Proposal is a plan that somebody proposed, for somebody else, or another process, to confirm.
type Proposal = store.Proposal

// ProposalHolds is for how long a proposal can be confirmed where nothing else is said.
const ProposalHolds = 24 * time.Hour

// DueLapse is the kind of what is due when the time of a proposal is over.
const DueLapse = "lapse"

// Ground is what a plan was worked out from: the last run of its deployment, and how that ended. A plan of a new deployment has
// none; that its name is free is looked at when the run is made.
type Ground struct {
	Run   int64      `json:"run,omitempty"`
	State run.Status `json:"state,omitempty"`
}

// GroundOf is what a plan for a deployment is worked out from now.
func (svc *Service) GroundOf(ctx context.Context, deployment int64) (Ground, error) {
	if deployment == 0 {
		return Ground{}, nil
	}
	runs, err := svc.store.RunsOf(ctx, deployment)
	if err != nil || len(runs) == 0 {
		return Ground{}, err
	}
	last := runs[len(runs)-1]
	return Ground{last.ID, last.State}, nil
}

// Propose keeps an order until somebody confirms it, or its time is over. Nothing is done by it.
func (svc *Service) Propose(ctx context.Context, o deployments.Order, holds time.Duration) (*Proposal, error) {
	var out *Proposal
	err := svc.desk.Do(ctx, guard.Propose, thing(o), func() (err error) {
		out, err = svc.propose(ctx, o, holds)
		return err
	}, saying(o))
	return out, err
}

func (svc *Service) propose(ctx context.Context, o deployments.Order, holds time.Duration) (*Proposal, error) {
	if o.Move != 0 {
		return nil, fault.Refusedf("what belongs to move %d is begun with it, and not proposed", o.Move)
	}
	g, err := svc.GroundOf(ctx, o.Deployment)
	if err != nil {
		return nil, err
	}
	p := Proposal{Deployment: o.Deployment, Name: o.Plan.Name, Purpose: MadeFor(o.Plan), Template: cmp.Or(o.Template, o.Plan.Template)}
	if !o.For.Nobody() {
		whose, err := json.Marshal(o.For)
		if err != nil {
			return nil, err
		}
		p.Body = string(whose)
	}
	if err := svc.KeepOrder(ctx, &p, o); err != nil {
		return nil, err
	}
	return svc.KeepProposal(ctx, p, g, holds)
}

// KeepOrder keeps the plans of what is proposed.
func (svc *Service) KeepOrder(ctx context.Context, p *Proposal, o deployments.Order) error {
	if err := svc.deployments.KeepSource(ctx, cmp.Or(o.Wanted, o.Plan)); err != nil {
		return err
	}
	limits, err := json.Marshal(o.Limits)
	if err != nil {
		return err
	}
	p.Limits = string(limits)
	if p.Plan, err = svc.store.SavePlan(ctx, o.Plan); err != nil {
		return err
	}
	p.Wanted, err = svc.saveWanted(ctx, o, p.Plan)
	return err
}

// KeepProposal keeps a proposal with what it was worked out from, and has it lapse when its time is over.
func (svc *Service) KeepProposal(ctx context.Context, p Proposal, from any, holds time.Duration) (*Proposal, error) {
	if holds <= 0 {
		return nil, fault.Invalidf("a proposal holds for some time, not for %s", holds)
	}
	body, err := json.Marshal(from)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	p.Created, p.Until, p.By, p.Ground = now, now.Add(holds), svc.desk.Actor, string(body)
	id, err := svc.store.Propose(ctx, p)
	if err != nil {
		return nil, err
	}
	due := clock.Due{Kind: DueLapse, Subject: strconv.FormatInt(id, 10), Start: p.Until, By: svc.desk.Actor, Seen: now}
	if _, err := svc.store.Register(ctx, due); err != nil {
		return nil, err
	}
	p, err = svc.store.Proposal(ctx, id)
	return &p, err
}

// Proposals lists all proposals, the newest first.
func (svc *Service) Proposals(ctx context.Context) ([]Proposal, error) {
	all, err := svc.store.Proposals(ctx)
	if err != nil {
		return nil, err
	}
	return acting.Seen(ctx, svc.desk, all, func(p Proposal) guard.Thing { return guard.Thing{Proposal: p.ID} })
}

// OpenProposals are those that can be confirmed, the newest first; whether what one is to settle is there still, confirming it finds out.
func (svc *Service) OpenProposals(ctx context.Context) ([]Proposal, error) {
	all, err := svc.Proposals(ctx)
	if err != nil {
		return nil, err
	}
	var out []Proposal
	for i := range all {
		if all[i].State == store.ProposalOpen && svc.stillHolds(ctx, &all[i]) == nil {
			out = append(out, all[i])
		}
	}
	return out, nil
}

// Proposed is what a proposal is to do, if that can still be done; the error says why it cannot.
func (svc *Service) Proposed(ctx context.Context, id int64) (*Proposal, deployments.Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Proposal: id}); err != nil {
		return nil, deployments.Order{}, err
	}
	p, err := svc.store.Proposal(ctx, id)
	if err != nil {
		return nil, deployments.Order{}, err
	}
	o := deployments.Order{Deployment: p.Deployment, Template: p.Template}
	if p.Kind == store.ProposalSettle { // its plans are worked out when it is looked at
		return &p, o, svc.stillHolds(ctx, &p)
	}
	if o.Plan, err = svc.store.Plan(ctx, p.Plan); err != nil {
		return nil, deployments.Order{}, err
	}
	if p.Wanted != 0 && p.Wanted != p.Plan {
		if o.Wanted, err = svc.store.Plan(ctx, p.Wanted); err != nil {
			return nil, deployments.Order{}, err
		}
	}
	if err := json.Unmarshal([]byte(p.Limits), &o.Limits); err != nil {
		return nil, deployments.Order{}, err
	}
	if p.Kind == store.ProposalPlan && p.Body != "" {
		if err := json.Unmarshal([]byte(p.Body), &o.For); err != nil {
			return nil, deployments.Order{}, err
		}
	}
	return &p, o, svc.stillHolds(ctx, &p)
}

// stillHolds says why a proposal cannot be confirmed any more.
func (svc *Service) stillHolds(ctx context.Context, p *Proposal) error {
	switch {
	case p.State == store.ProposalConfirmed && p.Outcome == store.Outcome{}:
		return fault.Conflictf("proposal %d was being confirmed when that broke off: have it worked out anew", p.ID)
	case p.State == store.ProposalConfirmed && p.Run == 0:
		return fault.Conflictf("proposal %d was confirmed already: it is act %d", p.ID, p.Act)
	case p.State == store.ProposalConfirmed:
		return fault.Conflictf("proposal %d was confirmed already: it is run %d", p.ID, p.Run)
	case p.State == store.ProposalWithdrawn:
		return fault.Conflictf("proposal %d was withdrawn", p.ID)
	case p.State == store.ProposalLapsed, time.Now().After(p.Until):
		return fault.Conflictf("proposal %d held until %s: have it worked out anew", p.ID, p.Until.Local().Format("2006-01-02 15:04"))
	}
	if p.Kind == store.ProposalSettle { // what it is to settle is looked at when it is worked out: that reads the whole inventory
		return nil
	}
	var was Ground
	if err := json.Unmarshal([]byte(p.Ground), &was); err != nil {
		return fmt.Errorf("what proposal %d was worked out from cannot be read: %w", p.ID, err)
	}
	now, err := svc.GroundOf(ctx, p.Deployment)
	if err != nil || now == was {
		return err
	}
	return svc.changedGround(ctx, p, was, now)
}

// changedGround says what came between a proposal and its confirmation.
func (svc *Service) changedGround(ctx context.Context, p *Proposal, was, now Ground) error {
	if was.Run == now.Run {
		return fault.Conflictf("proposal %d was worked out when run %d was %s, and it is %s now: have it worked out anew", p.ID, was.Run, was.State, now.State)
	}
	r, err := svc.store.Run(ctx, now.Run)
	if err != nil {
		return err
	}
	by := ""
	if all, err := svc.store.TrailOfRun(ctx, r.ID); err == nil && len(all) > 0 {
		by = ", by " + all[0].Name
	}
	return fault.Conflictf("%s has changed since proposal %d: run %d (%s%s) came after it; have it worked out anew", p.Name, p.ID, r.ID, cmp.Or(r.Purpose, "raise"), by)
}
