package api

import (
	"cmp"
	"context"
	"net/http"
	"strconv"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/reply"
	"andamio/internal/service/deployments"
)

// OfRun names a run.
type OfRun struct {
	Run int64 `path:"run" minimum:"1"`
}

// runShown is a run with its steps.
type runShown struct {
	reply.Run
	All     []stepShown       `json:"all"`
	Outputs map[string]string `json:"outputs"`
}

// stepShown is a step as it is.
type stepShown struct {
	ID      string     `json:"id"`
	Title   string     `json:"title"`
	Status  run.Status `json:"status"`
	Site    string     `json:"site"`
	Started time.Time  `json:"started,omitzero"`
	Ended   time.Time  `json:"ended,omitzero"`
	Error   string     `json:"error,omitempty"`
}

func runOperations(s *Server) {
	lists(s, "listRuns", "/runs", "List the runs, the newest first", "runs", nil, func(r *reply.Run) string { return strconv.FormatInt(r.ID, 10) },
		func(ctx context.Context, a *app.App, _ *paging) ([]reply.Run, error) {
			all, err := a.Runs(ctx)
			out := make([]reply.Run, 0, len(all))
			for i := range all {
				out = append(out, reply.RunOf(&all[i]))
			}
			return out, err
		})
	reads(s, "getRun", "/runs/{run}", "Show a run with its steps", "runs", []string{"watch"}, func(ctx context.Context, a *app.App, in *OfRun) (*runShown, error) {
		r, err := a.Run(ctx, in.Run)
		if err != nil {
			return nil, err
		}
		state, err := a.Replay(ctx, in.Run)
		if err != nil {
			return nil, err
		}
		out := &runShown{Run: reply.RunOf(&r), Outputs: state.Outputs}
		for i := range state.Steps {
			st := &state.Steps[i]
			out.All = append(out.All, stepShown{st.ID, st.Title, st.Status, st.Site, st.Started, st.Ended, st.Error})
		}
		return out, nil
	})
	does(s, operation{id: "getPlanOfRun", method: http.MethodGet, path: "/runs/{run}/plan", summary: "Show the plan of a run, as plan files are (schemas/plan.schema.json)", tag: "runs", answers: "application/json"},
		func(ctx context.Context, a *app.App, in *OfRun) (*planned, error) {
			r, err := a.Run(ctx, in.Run)
			if err != nil {
				return nil, err
			}
			p, err := a.PlanOf(ctx, r)
			if err != nil {
				return nil, err
			}
			return plannedOf(p)
		})
	acts := []struct {
		id, path, summary string
		twins             []string
		do                func(ctx context.Context, a *app.App, run int64) error
	}{
		{"cancelRun", "/cancel", "Ask a run to stop where it is", nil, func(ctx context.Context, a *app.App, id int64) error { return a.Cancel(ctx, id) }},
		{"resumeRun", "/resume", "Go on with a run that broke off, was cancelled, or failed", []string{"resume"}, func(ctx context.Context, a *app.App, id int64) error { return a.Resume(ctx, id) }},
		{"leaveRun", "/leave", "Leave what a run left as it is", nil, func(ctx context.Context, a *app.App, id int64) error { return a.Leave(ctx, id) }},
		{"releaseRun", "/release", "Give back what a run holds of the sites", []string{"estate release"}, func(ctx context.Context, a *app.App, id int64) error {
			_, err := a.Release(ctx, id)
			return err
		}},
	}
	for _, x := range acts {
		does(s, operation{id: x.id, method: http.MethodPost, path: "/runs/{run}" + x.path, summary: x.summary, tag: "runs", status: http.StatusNoContent, twins: x.twins},
			func(ctx context.Context, a *app.App, in *OfRun) (*gone, error) { return nil, x.do(ctx, a, in.Run) })
	}
	does(s, operation{id: "decideStep", method: http.MethodPost, path: "/runs/{run}/decide", summary: "Say what is done about a step that failed", tag: "runs", status: http.StatusNoContent}, decideStep)
	does(s, operation{id: "rollBackRun", method: http.MethodPost, path: "/runs/{run}/roll-back", summary: "Take back what a run did, by its inverse", tag: "runs", status: http.StatusOK, twins: []string{"rollback"}}, rollBack)
	does(s, operation{id: "beginRun", method: http.MethodPost, path: "/runs", summary: "Have a deployment be what a plan says: raise it, or change it to that", tag: "runs", status: http.StatusOK, upload: true, twins: []string{"run"}}, runPlan)
	s.followRuns()
}

func decideStep(ctx context.Context, a *app.App, in *struct {
	OfRun
	Body struct {
		Step string `json:"step"`
		Verb string `json:"verb" enum:"retry,skip" doc:"what is done about it"`
	}
}) (*gone, error) {
	return nil, a.Decide(ctx, in.Run, in.Body.Step, in.Body.Verb)
}

func rollBack(ctx context.Context, a *app.App, in *struct {
	OfRun
	Body Whether
}) (*ordered, error) {
	o, err := a.RollingBack(ctx, in.Run)
	if err != nil {
		return nil, err
	}
	d, err := a.Deployment(ctx, o.Deployment)
	if err != nil {
		return nil, err
	}
	return carry(ctx, a, d.Name, o, in.Body)
}

// runPlan raises or changes the deployment of a plan's name.
func runPlan(ctx context.Context, a *app.App, in *struct {
	Confirm  string `query:"confirm" doc:"the deployment's name: it is begun"`
	Propose  bool   `query:"propose" doc:"it is kept for somebody to confirm"`
	Holds    int    `query:"holds_seconds" minimum:"0" maximum:"31536000"`
	Template string `query:"template" maxLength:"4096" doc:"where the plan's template is, for changing the deployment later"`
	RawBody  []byte `contentType:"application/json"`
}) (*ordered, error) {
	p, err := plan.Read(in.RawBody)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	if err := deployments.CheckFresh(p); err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	d, err := a.Taken(ctx, p.Name)
	if err != nil {
		return nil, err
	}
	o := deployments.Order{Plan: p, Template: cmp.Or(in.Template, p.Template)}
	if d != nil {
		if o, err = a.Changed(ctx, d.ID, p, "make "+d.Name+" what a plan says"); err != nil {
			return nil, err
		}
	}
	return carry(ctx, a, p.Name, o, Whether{in.Confirm, in.Propose, in.Holds})
}
