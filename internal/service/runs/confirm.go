package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// Begin begins what was proposed of a kind, and says what came of it.
type Begin func(ctx context.Context, p *Proposal, o deployments.Order) (Confirmed, error)

// Begins says how what was proposed of a kind is begun, where that is more than a run.
func (svc *Service) Begins(kind store.ProposalKind, how Begin) { svc.begin[kind] = how }

// Confirmed is what came of confirming a proposal: the outcome that is kept, and all runs that were begun.
type Confirmed struct {
	store.Outcome
	Runs []int64 `json:"runs,omitempty"`
}

// ConfirmedRun is what came of one that began a run.
func ConfirmedRun(id int64) Confirmed {
	return Confirmed{Outcome: store.Outcome{Run: id}, Runs: []int64{id}}
}

// Confirm begins what was proposed, once, if what it was worked out from is as it was; it returns what came of it.
func (svc *Service) Confirm(ctx context.Context, id int64) (out Confirmed, err error) {
	err = svc.desk.Do(ctx, guard.Confirm, proposal(id), func() (err error) {
		out, err = svc.confirm(ctx, id)
		return err
	})
	return out, err
}

func (svc *Service) confirm(ctx context.Context, id int64) (Confirmed, error) {
	p, o, err := svc.inside().Proposed(ctx, id)
	if err != nil {
		return Confirmed{}, err
	}
	mine, err := svc.store.SettleProposal(ctx, id, store.ProposalOpen, store.ProposalConfirmed, store.Outcome{})
	if err != nil {
		return Confirmed{}, err
	}
	if !mine {
		return Confirmed{}, fault.Conflictf("proposal %d was confirmed or withdrawn by somebody else at this moment", id)
	}
	out, err := svc.beginProposed(ctx, p, o)
	if err != nil && out.Outcome == (store.Outcome{}) {
		_, back := svc.store.SettleProposal(context.WithoutCancel(ctx), id, store.ProposalConfirmed, store.ProposalOpen, out.Outcome)
		return out, errors.Join(err, back)
	}
	_, kept := svc.store.SettleProposal(context.WithoutCancel(ctx), id, store.ProposalConfirmed, store.ProposalConfirmed, out.Outcome)
	return out, errors.Join(err, kept, svc.lapsesNoMore(ctx, id))
}

// lapsesNoMore has nothing be due for a proposal that is not open any more.
func (svc *Service) lapsesNoMore(ctx context.Context, id int64) error {
	return svc.store.Unregister(context.WithoutCancel(ctx), DueLapse, strconv.FormatInt(id, 10))
}

// beginProposed does what was proposed.
func (svc *Service) beginProposed(ctx context.Context, p *Proposal, o deployments.Order) (Confirmed, error) {
	if begin := svc.begin[p.Kind]; begin != nil {
		return begin(ctx, p, o)
	}
	id, err := svc.runProposed(ctx, p, o)
	if err != nil {
		return Confirmed{}, err
	}
	return ConfirmedRun(id), svc.Start(id)
}

// runProposed makes the run of a proposal, unless another run of its deployment was made meanwhile.
func (svc *Service) runProposed(ctx context.Context, p *Proposal, o deployments.Order) (int64, error) {
	id, err := svc.NewRun(ctx, o)
	if err != nil || p.Deployment == 0 {
		return id, err
	}
	runs, err := svc.store.RunsOf(ctx, p.Deployment)
	if err != nil {
		return 0, errors.Join(err, svc.store.Forget(ctx, id))
	}
	var was Ground
	if err := json.Unmarshal([]byte(p.Ground), &was); err != nil {
		return 0, errors.Join(err, svc.store.Forget(ctx, id))
	}
	for _, r := range runs {
		if r.ID > was.Run && r.ID < id {
			return 0, errors.Join(svc.changedGround(ctx, p, was, Ground{Run: r.ID, State: r.State}), svc.store.Forget(ctx, id))
		}
	}
	return id, nil
}

// Withdraw takes a proposal back that nobody has confirmed.
func (svc *Service) Withdraw(ctx context.Context, id int64) error {
	return svc.desk.Do(ctx, guard.Withdraw, proposal(id), func() error {
		if _, err := svc.store.Proposal(ctx, id); err != nil {
			return err
		}
		mine, err := svc.store.SettleProposal(ctx, id, store.ProposalOpen, store.ProposalWithdrawn, store.Outcome{})
		if err == nil && !mine {
			return fault.Conflictf("proposal %d is not open any more", id)
		}
		return errors.Join(err, svc.lapsesNoMore(ctx, id))
	})
}

// proposal is one as what something is done to.
func proposal(id int64) guard.Thing {
	return guard.Thing{Name: fmt.Sprintf("proposal %d", id), Proposal: id}
}
