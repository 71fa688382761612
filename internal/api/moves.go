package api

import (
	"context"
	"net/http"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/run"
	"andamio/internal/service/moves"
)

// OfMove names a move.
type OfMove struct {
	Move int64 `path:"move" minimum:"1"`
}

// moveListed is a move in a line.
type moveListed struct {
	ID int64 `json:"id"`
	*moves.Move
	Waves []string `json:"wave_states"`
}

func moveOperations(s *Server) {
	listed := func(m *moves.Move) moveListed {
		l := moveListed{ID: m.ID, Move: m}
		for _, st := range m.States {
			l.Waves = append(l.Waves, string(st))
		}
		return l
	}
	lists(s, "listMoves", "/moves", "List the moves, the newest first", "moves", []string{"move"}, func(l *moveListed) string { return number(l.ID) }, func(ctx context.Context, a *app.App, _ *paging) ([]moveListed, error) {
		all, err := a.Moves(ctx)
		var out []moveListed
		for _, m := range all {
			out = append(out, listed(m))
		}
		return out, err
	})
	reads(s, "getMove", "/moves/{move}", "Show how a move is", "moves", []string{"move status"}, func(ctx context.Context, a *app.App, in *OfMove) (moveListed, error) {
		m, err := a.Move(ctx, in.Move)
		if err != nil {
			return moveListed{}, err
		}
		return listed(m), nil
	})
	type begin struct {
		Whether
		moves.Request
	}
	does(s, operation{id: "moveWorkloads", method: http.MethodPost, path: "/deployments/{deployment}/move", summary: "Move workloads to another site, with a way back", tag: "moves", status: http.StatusOK, twins: []string{"move plan", "move start"}},
		func(ctx context.Context, a *app.App, in *changing[begin]) (*moveBegun, error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			m, err := a.DraftMove(ctx, d.ID, in.Body.Request)
			if err != nil {
				return nil, err
			}
			return beginMove(ctx, a, d.Name, m, in.Body.done())
		})
}

// moveBegun is what a move would do, and what became of it.
type moveBegun struct {
	Status int
	Body   struct {
		Steps    int     `json:"steps"`
		Seconds  float64 `json:"seconds"`
		Down     float64 `json:"down_seconds" doc:"for how long what is moved does not serve"`
		Move     int64   `json:"move,omitempty"`
		Run      int64   `json:"run,omitempty"`
		Proposal int64   `json:"proposal,omitempty"`
	}
}

// beginMove answers with what a move would do, and begins or proposes it, as is said.
func beginMove(ctx context.Context, a *app.App, name string, m *moves.Draft, w Whether) (*moveBegun, error) {
	out := &moveBegun{Status: http.StatusOK}
	out.Body.Steps, out.Body.Seconds, out.Body.Down = len(m.Order.Plan.Steps), m.Seconds, m.Down
	switch {
	case w.Propose && w.Confirm != "":
		return nil, fault.Invalidf("it is begun or proposed, not both")
	case w.Propose:
		p, err := a.ProposeMove(ctx, m, w.holds())
		if err != nil {
			return nil, err
		}
		out.Status, out.Body.Proposal = http.StatusCreated, p.ID
	case w.Confirm == "":
	case w.Confirm != name:
		return nil, fault.Invalidf("nothing was done: %q is not the deployment's name, %s", w.Confirm, name)
	default:
		var err error
		out.Status = http.StatusAccepted
		out.Body.Move, out.Body.Run, err = a.StartMove(ctx, m, nil)
		return out, err
	}
	return out, nil
}

// endingOperations cut a move over, and end it.
func endingOperations(s *Server) {
	type steer struct {
		OfMove
		Body struct {
			Wave int `json:"wave,omitempty" minimum:"0"`
		}
	}
	type begun struct {
		Body struct {
			Run int64 `json:"run"`
		}
	}
	for _, x := range []struct {
		id, path, summary string
		twins             []string
		do                func(ctx context.Context, a *app.App, move int64, wave int) (int64, error)
	}{
		{"cutOverMove", "/cut-over", "Have the workload go on where it is moved to, as soon as it can", []string{"move cutover"}, func(ctx context.Context, a *app.App, id int64, _ int) (int64, error) { return 0, a.CutOver(ctx, id) }},
		{"commitMove", "/commit", "End a move: what was left behind is taken away", []string{"move commit"}, func(ctx context.Context, a *app.App, id int64, wave int) (int64, error) {
			return a.Commit(ctx, id, wave)
		}},
		{"goBackFromMove", "/back", "Have everything go on where it was", []string{"move back"}, func(ctx context.Context, a *app.App, id int64, wave int) (int64, error) {
			return a.GoBack(ctx, id, wave)
		}},
	} {
		does(s, operation{id: x.id, method: http.MethodPost, path: "/moves/{move}" + x.path, summary: x.summary, tag: "moves", status: http.StatusAccepted, twins: x.twins}, func(ctx context.Context, a *app.App, in *steer) (*begun, error) {
			out := &begun{}
			var err error
			out.Body.Run, err = x.do(ctx, a, in.Move, in.Body.Wave)
			return out, err
		})
	}
}

// steeringOperations are those on a move that goes on, and on going over to copies.
func steeringOperations(s *Server) {
	type steering struct {
		Move int64 `path:"move" minimum:"1"`
		Body struct {
			Say       string `json:"say" enum:"pause,go on,limit"`
			PerSecond int64  `json:"bytes_per_second,omitempty" minimum:"0" doc:"with limit: bytes a second; 0 is no bound"`
		}
	}
	does(s, operation{id: "steerMove", method: http.MethodPost, path: "/moves/{move}/steer", summary: "Have a move pause, go on, or copy no faster", tag: "moves", status: http.StatusNoContent, twins: []string{"move pause", "move resume", "move limit"}},
		func(ctx context.Context, a *app.App, in *steering) (*gone, error) {
			verb := map[string]string{"pause": run.Pause, "go on": run.GoOn}[in.Body.Say]
			if verb == "" {
				verb = run.LimitTo + number(in.Body.PerSecond)
			}
			return nil, a.Steer(ctx, in.Move, verb)
		})
	type failOver struct {
		Whether
		moves.FailOver
	}
	does(s, operation{id: "failOver", method: http.MethodPost, path: "/deployments/{deployment}/replicas/fail-over", summary: "Have workloads go on where copies of their disks are", tag: "replicas", status: http.StatusOK, twins: []string{"replica failover"}},
		func(ctx context.Context, a *app.App, in *changing[failOver]) (*moveBegun, error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			m, err := a.DraftFailOver(ctx, d.ID, in.Body.FailOver)
			if err != nil {
				return nil, err
			}
			return beginMove(ctx, a, d.Name, m, in.Body.done())
		})
}
