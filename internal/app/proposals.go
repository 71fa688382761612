package app

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// Proposal is a plan that somebody proposed, for somebody else, or another process, to confirm.
type Proposal = store.Proposal

// ProposalHolds is for how long a proposal can be confirmed where nothing else is said.
const ProposalHolds = 24 * time.Hour

// ground is what a plan was worked out from: the last run of its deployment, and how that ended. A plan of a new deployment has
// none; that its name is free is looked at when the run is made.
type ground struct {
	Run   int64      `json:"run,omitempty"`
	State run.Status `json:"state,omitempty"`
}

func (a *App) groundOf(ctx context.Context, deployment int64) (ground, error) {
	if deployment == 0 {
		return ground{}, nil
	}
	runs, err := a.store.RunsOf(ctx, deployment)
	if err != nil || len(runs) == 0 {
		return ground{}, err
	}
	last := runs[len(runs)-1]
	return ground{last.ID, last.State}, nil
}

// Propose keeps an order until somebody confirms it, or its time is over. Nothing is done by it.
func (a *App) Propose(ctx context.Context, o Order, holds time.Duration) (*Proposal, error) {
	var out *Proposal
	err := a.do(ctx, guard.Propose, o.Plan.Name, func() (err error) {
		out, err = a.propose(ctx, o, holds)
		return err
	}, saying("%s", madeFor(o.Plan)))
	return out, err
}

func (a *App) propose(ctx context.Context, o Order, holds time.Duration) (*Proposal, error) {
	if o.Move != 0 {
		return nil, fault.Refusedf("what belongs to move %d is begun with it, and not proposed", o.Move)
	}
	g, err := a.groundOf(ctx, o.Deployment)
	if err != nil {
		return nil, err
	}
	p := Proposal{Deployment: o.Deployment, Name: o.Plan.Name, Purpose: madeFor(o.Plan), Template: cmp.Or(o.Template, o.Plan.Template)}
	if err := a.keepOrder(ctx, &p, o); err != nil {
		return nil, err
	}
	return a.keepProposal(ctx, p, g, holds)
}

// keepOrder keeps the plans of what is proposed.
func (a *App) keepOrder(ctx context.Context, p *Proposal, o Order) error {
	if err := a.keepSource(ctx, cmp.Or(o.Wanted, o.Plan)); err != nil {
		return err
	}
	limits, err := json.Marshal(o.Limits)
	if err != nil {
		return err
	}
	p.Limits = string(limits)
	if p.Plan, err = a.store.SavePlan(ctx, o.Plan); err != nil {
		return err
	}
	p.Wanted, err = a.saveWanted(ctx, o, p.Plan)
	return err
}

// keepProposal keeps a proposal with what it was worked out from, and has it lapse when its time is over.
func (a *App) keepProposal(ctx context.Context, p Proposal, ground any, holds time.Duration) (*Proposal, error) {
	if holds <= 0 {
		return nil, fault.Invalidf("a proposal holds for some time, not for %s", holds)
	}
	body, err := json.Marshal(ground)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	p.Created, p.Until, p.By, p.Ground = now, now.Add(holds), a.actor, string(body)
	id, err := a.store.Propose(ctx, p)
	if err != nil {
		return nil, err
	}
	due := Due{Kind: dueLapse, Subject: strconv.FormatInt(id, 10), Start: p.Until, By: a.actor, Seen: now}
	if _, err := a.store.Register(ctx, due); err != nil {
		return nil, err
	}
	p, err = a.store.Proposal(ctx, id)
	return &p, err
}

// Proposals lists all proposals, the newest first.
func (a *App) Proposals(ctx context.Context) ([]Proposal, error) { return a.store.Proposals(ctx) }

// OpenProposals are those that can be confirmed, the newest first; whether what one is to settle is there still, confirming it finds out.
func (a *App) OpenProposals(ctx context.Context) ([]Proposal, error) {
	all, err := a.store.Proposals(ctx)
	if err != nil {
		return nil, err
	}
	var out []Proposal
	for i := range all {
		if all[i].State == store.ProposalOpen && a.stillHolds(ctx, &all[i]) == nil {
			out = append(out, all[i])
		}
	}
	return out, nil
}

// Proposed is what a proposal is to do, if that can still be done; the error says why it cannot.
func (a *App) Proposed(ctx context.Context, id int64) (*Proposal, Order, error) {
	p, err := a.store.Proposal(ctx, id)
	if err != nil {
		return nil, Order{}, err
	}
	o := Order{Deployment: p.Deployment, Template: p.Template}
	if p.Kind == store.ProposalSettle { // its plans are worked out when it is looked at
		return &p, o, a.stillHolds(ctx, &p)
	}
	if o.Plan, err = a.store.Plan(ctx, p.Plan); err != nil {
		return nil, Order{}, err
	}
	if p.Wanted != 0 && p.Wanted != p.Plan {
		if o.Wanted, err = a.store.Plan(ctx, p.Wanted); err != nil {
			return nil, Order{}, err
		}
	}
	if err := json.Unmarshal([]byte(p.Limits), &o.Limits); err != nil {
		return nil, Order{}, err
	}
	return &p, o, a.stillHolds(ctx, &p)
}

// stillHolds says why a proposal cannot be confirmed any more.
func (a *App) stillHolds(ctx context.Context, p *Proposal) error {
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
	var was ground
	if err := json.Unmarshal([]byte(p.Ground), &was); err != nil {
		return fmt.Errorf("what proposal %d was worked out from cannot be read: %w", p.ID, err)
	}
	now, err := a.groundOf(ctx, p.Deployment)
	if err != nil || now == was {
		return err
	}
	return a.changedGround(ctx, p, was, now)
}

// changedGround says what came between a proposal and its confirmation.
func (a *App) changedGround(ctx context.Context, p *Proposal, was, now ground) error {
	if was.Run == now.Run {
		return fault.Conflictf("proposal %d was worked out when run %d was %s, and it is %s now: have it worked out anew", p.ID, was.Run, was.State, now.State)
	}
	r, err := a.store.Run(ctx, now.Run)
	if err != nil {
		return err
	}
	by := ""
	if all, err := a.store.TrailOfRun(ctx, r.ID); err == nil && len(all) > 0 {
		by = ", by " + all[0].Name
	}
	return fault.Conflictf("%s has changed since proposal %d: run %d (%s%s) came after it; have it worked out anew", p.Name, p.ID, r.ID, cmp.Or(r.Purpose, "raise"), by)
}

// Confirmed is what came of confirming a proposal: the outcome that is kept, and all runs that were begun.
type Confirmed struct {
	store.Outcome
	Runs []int64 `json:"runs,omitempty"`
}

// confirmedRun is what came of one that began a run.
func confirmedRun(id int64) Confirmed {
	return Confirmed{Outcome: store.Outcome{Run: id}, Runs: []int64{id}}
}

// Confirm begins what was proposed, once, if what it was worked out from is as it was; it returns what came of it.
func (a *App) Confirm(ctx context.Context, id int64) (out Confirmed, err error) {
	err = a.do(ctx, guard.Confirm, fmt.Sprintf("proposal %d", id), func() (err error) {
		out, err = a.confirm(ctx, id)
		return err
	})
	return out, err
}

func (a *App) confirm(ctx context.Context, id int64) (Confirmed, error) {
	p, o, err := a.Proposed(ctx, id)
	if err != nil {
		return Confirmed{}, err
	}
	mine, err := a.store.SettleProposal(ctx, id, store.ProposalOpen, store.ProposalConfirmed, store.Outcome{})
	if err != nil {
		return Confirmed{}, err
	}
	if !mine {
		return Confirmed{}, fault.Conflictf("proposal %d was confirmed or withdrawn by somebody else at this moment", id)
	}
	out, err := a.beginProposed(ctx, p, o)
	if err != nil && out.Outcome == (store.Outcome{}) {
		_, back := a.store.SettleProposal(context.WithoutCancel(ctx), id, store.ProposalConfirmed, store.ProposalOpen, out.Outcome)
		return out, errors.Join(err, back)
	}
	_, kept := a.store.SettleProposal(context.WithoutCancel(ctx), id, store.ProposalConfirmed, store.ProposalConfirmed, out.Outcome)
	return out, errors.Join(err, kept, a.lapsesNoMore(ctx, id))
}

// lapsesNoMore has nothing be due for a proposal that is not open any more.
func (a *App) lapsesNoMore(ctx context.Context, id int64) error {
	return a.store.Unregister(context.WithoutCancel(ctx), dueLapse, strconv.FormatInt(id, 10))
}

// beginProposed does what was proposed.
func (a *App) beginProposed(ctx context.Context, p *Proposal, o Order) (Confirmed, error) {
	switch p.Kind {
	case store.ProposalMove:
		return a.moveProposed(ctx, p, o)
	case store.ProposalSettle:
		return a.settleProposed(ctx, p)
	}
	id, err := a.runProposed(ctx, p, o)
	if err != nil {
		return Confirmed{}, err
	}
	return confirmedRun(id), a.spawn(id)
}

// runProposed makes the run of a proposal, unless another run of its deployment was made meanwhile.
func (a *App) runProposed(ctx context.Context, p *Proposal, o Order) (int64, error) {
	id, err := a.NewRun(ctx, o)
	if err != nil || p.Deployment == 0 {
		return id, err
	}
	runs, err := a.store.RunsOf(ctx, p.Deployment)
	if err != nil {
		return 0, errors.Join(err, a.store.Forget(ctx, id))
	}
	var was ground
	if err := json.Unmarshal([]byte(p.Ground), &was); err != nil {
		return 0, errors.Join(err, a.store.Forget(ctx, id))
	}
	for _, r := range runs {
		if r.ID > was.Run && r.ID < id {
			return 0, errors.Join(a.changedGround(ctx, p, was, ground{Run: r.ID, State: r.State}), a.store.Forget(ctx, id))
		}
	}
	return id, nil
}

// Withdraw takes a proposal back that nobody has confirmed.
func (a *App) Withdraw(ctx context.Context, id int64) error {
	return a.do(ctx, guard.Withdraw, fmt.Sprintf("proposal %d", id), func() error {
		if _, err := a.store.Proposal(ctx, id); err != nil {
			return err
		}
		mine, err := a.store.SettleProposal(ctx, id, store.ProposalOpen, store.ProposalWithdrawn, store.Outcome{})
		if err == nil && !mine {
			return fault.Conflictf("proposal %d is not open any more", id)
		}
		return errors.Join(err, a.lapsesNoMore(ctx, id))
	})
}
