package api

import (
	"bytes"
	"context"
	"net/http"
	"strconv"
	"strings"

	"andamio/internal/app"
	"andamio/internal/core/dispatch"
	"andamio/internal/core/fault"
	"andamio/internal/core/plan"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/tosca"
	"andamio/internal/reply"
	"andamio/internal/service/runs"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// planned is a plan, as plan files are.
type planned struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func plannedOf(p *plan.Plan) (*planned, error) {
	data, err := p.Write()
	return &planned{"application/json", data}, err
}

// archived is a template as an archive (TOSCA CSAR, TOSCA 1.3, section 6), as andamio pack writes it.
type archived struct {
	Name    string   `query:"name" maxLength:"128" doc:"what the deployment is to be called; as the template says where nothing is said"`
	Preset  string   `query:"preset" maxLength:"128" doc:"a set of inputs that comes with the template"`
	Inputs  []string `query:"input,explode" doc:"NAME=VALUE, as they are written in a template"`
	RawBody []byte   `contentType:"application/zip"`
}

// draft works out a template that was sent.
func (in *archived) draft(ctx context.Context, a *app.App) (*templates.Draft, error) {
	t, err := templateIn(in.RawBody)
	if err != nil {
		return nil, err
	}
	w := templates.DraftRequest{Name: in.Name, Preset: in.Preset}
	if w.Inputs, err = inputsOf(in.Inputs); err != nil {
		return nil, err
	}
	return a.Drafting(ctx, t, w)
}

// templateIn is the template in an archive that was sent.
func templateIn(archive []byte) (*templates.Template, error) {
	tree, err := source.ReadArchive(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	t, err := templates.ReadTemplate(tree.Files, templates.SentName, tree.Root)
	return t, fault.Default(fault.Invalid, err)
}

// inputsOf reads inputs, NAME=VALUE each.
func inputsOf(pairs []string) (tosca.Inputs, error) {
	out := tosca.Inputs{}
	for _, pair := range pairs {
		name, text, has := strings.Cut(pair, "=")
		if !has {
			return nil, fault.Invalidf("%q is no NAME=VALUE", pair)
		}
		v, wrong := tosca.ParseInput(name, text)
		if len(wrong) > 0 {
			return nil, fault.Default(fault.Invalid, wrong)
		}
		out[name] = v
	}
	return out, nil
}

func planOperations(s *Server) {
	does(s, operation{id: "checkTemplate", method: http.MethodPost, path: "/templates/check", summary: "Say what is wrong with a template, and where", tag: "plans", status: http.StatusOK, upload: true, twins: []string{"check"}},
		func(ctx context.Context, a *app.App, in *archived) (*body[reply.Checked], error) {
			d, err := in.draft(ctx, a)
			if err != nil {
				return nil, err
			}
			return &body[reply.Checked]{reply.CheckedOf(d.Template.Name, d.Diagnostics)}, nil
		})
	does(s, operation{id: "compilePlan", method: http.MethodPost, path: "/plans", summary: "Compile a template into a plan", tag: "plans", status: http.StatusOK, upload: true, answers: "application/json", twins: []string{"plan"}},
		func(ctx context.Context, a *app.App, in *archived) (*planned, error) {
			d, err := in.draft(ctx, a)
			if err != nil {
				return nil, err
			}
			if d.Plan == nil {
				return nil, notPlanned(d)
			}
			o, err := a.OrderOf(ctx, d)
			if err != nil {
				return nil, err
			}
			if err := a.KeepSource(ctx, o.Plan); err != nil {
				return nil, err
			}
			return plannedOf(o.Plan)
		})
}

// notPlanned says why there is no plan.
func notPlanned(d *templates.Draft) error {
	if d.Err != nil {
		return fault.Default(fault.Refused, d.Err)
	}
	p := problem(fault.Invalid, "the template has mistakes")
	for i := range d.Diagnostics {
		x := &d.Diagnostics[i]
		p.Errors = append(p.Errors, Wrong{x.Pos.String(), x.Message})
	}
	return p
}

// OfProposal names a proposal.
type OfProposal struct {
	Proposal int64 `path:"proposal" minimum:"1"`
}

func proposalOperations(s *Server) {
	lists(s, "listProposals", "/proposals", "List the plans that were proposed, with why some cannot be confirmed any more", "proposals", []string{"proposals"}, func(p *reply.Proposed) string { return strconv.FormatInt(p.ID, 10) },
		func(ctx context.Context, a *app.App, _ *paging) ([]reply.Proposed, error) {
			found, err := a.Proposals(ctx)
			out := make([]reply.Proposed, 0, len(found))
			for _, p := range found {
				l := reply.Proposed{Proposal: p}
				if _, _, why := a.Proposed(ctx, p.ID); why != nil {
					l.Why = why.Error()
				}
				out = append(out, l)
			}
			return out, err
		})
	type proposalShown struct {
		runs.Proposal
		Change *reply.Change `json:"change,omitempty" doc:"what it would do; left out of what settles findings"`
	}
	reads(s, "getProposal", "/proposals/{proposal}", "Show what was proposed, if it can be confirmed still", "proposals", nil, func(ctx context.Context, a *app.App, in *OfProposal) (*proposalShown, error) {
		p, o, err := a.Proposed(ctx, in.Proposal)
		if err != nil {
			return nil, err
		}
		out := &proposalShown{Proposal: *p}
		if o.Plan != nil {
			c := reply.ChangeOf(o)
			out.Change = &c
		}
		return out, nil
	})
	does(s, operation{id: "confirmProposal", method: http.MethodPost, path: "/proposals/{proposal}/confirm", summary: "Begin what was proposed, if what it was worked out from is as it was", tag: "proposals", status: http.StatusAccepted, twins: []string{"confirm"}}, confirmProposal)
	does(s, operation{id: "withdrawProposal", method: http.MethodDelete, path: "/proposals/{proposal}", summary: "Take back a proposal that nobody has confirmed", tag: "proposals", status: http.StatusNoContent, twins: []string{"withdraw"}},
		func(ctx context.Context, a *app.App, in *OfProposal) (*gone, error) {
			return nil, a.Withdraw(ctx, in.Proposal)
		})
}

func confirmProposal(ctx context.Context, a *app.App, in *struct {
	OfProposal
	Body struct {
		Confirm string `json:"confirm" doc:"the name of what it is of, as the proposal says it"`
	}
}) (*body[runs.Confirmed], error) {
	p, _, err := a.Proposed(ctx, in.Proposal)
	if err != nil {
		return nil, err
	}
	if in.Body.Confirm != p.Name {
		return nil, fault.Invalidf("nothing was done: %q is not the name of what it is of, %s", in.Body.Confirm, p.Name)
	}
	out, err := a.Confirm(ctx, in.Proposal)
	return &body[runs.Confirmed]{out}, err
}

// rehearsingOperations imagine runs.
func rehearsingOperations(s *Server) {
	does(s, operation{id: "rehearsePlan", method: http.MethodPost, path: "/plans/rehearse", summary: "Imagine a run of a plan many times, and say how long it may take and what decides that", tag: "plans", status: http.StatusOK, upload: true, twins: []string{"rehearse"}},
		func(ctx context.Context, a *app.App, in *struct {
			RawBody []byte `contentType:"application/json"`
		}) (*body[rehearse.Answer], error) {
			p, err := plan.Read(in.RawBody)
			if err != nil {
				return nil, fault.Default(fault.Invalid, err)
			}
			x, err := a.Rehearse(ctx, p, dispatch.Limits{})
			return &body[rehearse.Answer]{x}, err
		})
}
