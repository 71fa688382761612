package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/reply"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
)

// Whether says whether what is worked out is done. Without it is answered what would be done, and nothing is.
type Whether struct {
	Confirm string `json:"confirm,omitempty" doc:"the deployment's name: what is worked out is begun"`
	Propose bool   `json:"propose,omitempty" doc:"what is worked out is kept for somebody to confirm"`
	Holds   int    `json:"holds_seconds,omitempty" minimum:"0" maximum:"31536000" doc:"for how long a proposal can be confirmed; a day where nothing is said"`
}

// holds is for how long a proposal can be confirmed.
func (w Whether) holds() time.Duration {
	if w.Holds > 0 {
		return time.Duration(w.Holds) * time.Second
	}
	return runs.ProposalHolds
}

// ordered is what a change would do, and what became of it.
type ordered struct {
	Status   int
	Location string `header:"Location"`
	Body     struct {
		Change   reply.Change   `json:"change"`
		Run      int64          `json:"run,omitempty" doc:"the run that was begun"`
		Proposal *runs.Proposal `json:"proposal,omitempty" doc:"the proposal that was kept"`
	}
}

// carry answers with what an order would do, and begins or proposes it, as is said. Nothing that is to be done is an answer, too.
func carry(ctx context.Context, a *app.App, name string, o deployments.Order, w Whether) (*ordered, error) {
	out := &ordered{Status: http.StatusOK}
	out.Body.Change = reply.ChangeOf(o)
	switch {
	case w.Confirm != "" && w.Propose:
		return nil, fault.Invalidf("it is begun or proposed, not both")
	case o.Plan.Nothing():
		return out, nil
	case w.Propose:
		p, err := a.Propose(ctx, o, w.holds())
		if err != nil {
			return nil, err
		}
		out.Status, out.Location, out.Body.Proposal = http.StatusCreated, fmt.Sprintf("/%s/proposals/%d", Version, p.ID), p
		return out, nil
	case w.Confirm == "":
		return out, nil
	case w.Confirm != name:
		return nil, fault.Invalidf("nothing was done: %q is not the deployment's name, %s", w.Confirm, name)
	}
	id, err := a.Begin(ctx, o)
	if err != nil {
		return nil, err
	}
	out.Status, out.Location, out.Body.Run = http.StatusAccepted, fmt.Sprintf("/%s/runs/%d", Version, id), id
	return out, nil
}

// OfDeployment names a deployment.
type OfDeployment struct {
	Deployment string `path:"deployment" maxLength:"128" doc:"its name, or its number"`
}

// find is the deployment that is named.
func (in OfDeployment) find(ctx context.Context, a *app.App) (*deployments.Deployment, error) {
	return a.FindDeployment(ctx, in.Deployment)
}

// changing is what an operation takes that changes a deployment: T says how.
type changing[T any] struct {
	OfDeployment
	Body T
}

// says is how a body says whether it is done.
type says interface{ done() Whether }

func (w Whether) done() Whether { return w }

// changes adds an operation that changes a deployment.
func changes[T says](s *Server, id, path, summary string, twins []string, order func(ctx context.Context, a *app.App, d *deployments.Deployment, in *T) (deployments.Order, error)) {
	does(s, operation{id: id, method: http.MethodPost, path: "/deployments/{deployment}" + path, summary: summary, tag: "deployments", status: http.StatusOK, twins: twins},
		func(ctx context.Context, a *app.App, in *changing[T]) (*ordered, error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			o, err := order(ctx, a, d, &in.Body)
			if err != nil {
				return nil, err
			}
			return carry(ctx, a, d.Name, o, in.Body.done())
		})
}
