package api

import (
	"bytes"
	"context"
	"net/http"
	"strconv"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/inventory"
	"andamio/internal/core/promise"
	"andamio/internal/core/token"
	"andamio/internal/service/accounts"
	"andamio/internal/service/fronts"
	"andamio/internal/service/moves"
	"andamio/internal/service/offers"
	"andamio/internal/service/promises"
	"andamio/internal/service/quotas"
	"andamio/internal/service/reactions"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/requests"
	"andamio/internal/service/sites"
	"andamio/internal/service/tokens"
	"andamio/internal/service/watch"
	"andamio/internal/service/workspace"
)

func number(id int64) string { return strconv.FormatInt(id, 10) }

// siteListed is a connected site, with how it was surveyed last.
type siteListed struct {
	workspace.Connection
	URL      string    `json:"url"`
	Surveyed time.Time `json:"surveyed,omitzero"`
	State    string    `json:"state,omitempty"`
	Next     time.Time `json:"next_survey,omitzero"`
}

func siteOperations(s *Server) {
	lists(s, "listSites", "/sites", "List the connected sites, with when they were surveyed and will be", "sites", []string{"site list"}, func(l *siteListed) string { return l.Site },
		func(ctx context.Context, a *app.App, _ *paging) ([]siteListed, error) {
			all, err := a.Connections()
			var out []siteListed
			for _, c := range all {
				l := siteListed{Connection: c, URL: c.Address()}
				if last, err := a.LastSurvey(ctx, c.Site); err == nil {
					l.Surveyed, l.State = last.Started, string(last.State)
					l.Next, _ = c.Next(last.Started)
				}
				out = append(out, l)
			}
			return out, err
		})
	reads(s, "getEstate", "/estate", "Show what the sites offer and what is free", "sites", []string{"estate", "estate rooms"}, func(ctx context.Context, a *app.App, _ *nothing) (*estate.Estate, error) { return a.Estate(ctx) })
	reads(s, "listPairs", "/pairs", "Show how the pairs of sites for moves are", "sites", []string{"pair"}, func(ctx context.Context, a *app.App, _ *nothing) ([]sites.Pair, error) { return a.Pairs(ctx) })
	type survey struct {
		Body reconcile.SurveyRequest
	}
	does(s, operation{id: "surveySite", method: http.MethodPost, path: "/surveys", summary: "List everything that there is at a site, region by region", tag: "sites", status: http.StatusOK, twins: []string{"survey"}},
		func(ctx context.Context, a *app.App, in *survey) (*body[app.Survey], error) {
			if in.Body.Site == "" {
				return nil, fault.Invalidf("name the site that is surveyed")
			}
			out, err := a.Survey(ctx, in.Body)
			return &body[app.Survey]{out}, err
		})
}

func watchOperations(s *Server) {
	lists(s, "listAlerts", "/alerts", "List what is wrong, each cause once", "alerts", []string{"alert"}, func(x *alarm.Alert) string { return number(x.ID) },
		func(ctx context.Context, a *app.App, _ *paging) ([]alarm.Alert, error) { return a.Alerts(ctx) })
	type OfAlert struct {
		Alert int64 `path:"alert" minimum:"1"`
	}
	type story struct {
		alarm.Alert
		Story watch.Story `json:"story"`
	}
	reads(s, "getAlert", "/alerts/{alert}", "Show an alert with whom it hits, what changed before and what would help", "alerts", []string{"alert show"}, func(ctx context.Context, a *app.App, in *OfAlert) (*story, error) {
		x, err := a.Alert(ctx, in.Alert)
		if err != nil {
			return nil, err
		}
		told, err := a.Story(ctx, x)
		return &story{x, told}, err
	})
	type say struct {
		OfAlert
		Body struct {
			Words string    `json:"words,omitempty" maxLength:"2000"`
			Until time.Time `json:"until,omitzero" doc:"of a silence: when it ends"`
		}
	}
	does(s, operation{id: "acknowledgeAlert", method: http.MethodPost, path: "/alerts/{alert}/acknowledge", summary: "Say that you see to it", tag: "alerts", status: http.StatusOK, twins: []string{"alert acknowledge"}},
		func(ctx context.Context, a *app.App, in *say) (*body[alarm.Alert], error) {
			x, err := a.Acknowledge(ctx, in.Alert, in.Body.Words, time.Now())
			return &body[alarm.Alert]{x}, err
		})
	does(s, operation{id: "silenceAlert", method: http.MethodPost, path: "/alerts/{alert}/silence", summary: "Have it be silent until a time, with the reason", tag: "alerts", status: http.StatusOK, twins: []string{"alert silence"}},
		func(ctx context.Context, a *app.App, in *say) (*body[alarm.Alert], error) {
			x, err := a.Silence(ctx, in.Alert, in.Body.Words, in.Body.Until, time.Now())
			return &body[alarm.Alert]{x}, err
		})
	does(s, operation{id: "unsilenceAlert", method: http.MethodDelete, path: "/alerts/{alert}/silence", summary: "Have it be silent no more", tag: "alerts", status: http.StatusOK, twins: []string{"alert unsilence"}},
		func(ctx context.Context, a *app.App, in *OfAlert) (*body[alarm.Alert], error) {
			x, err := a.Unsilence(ctx, in.Alert)
			return &body[alarm.Alert]{x}, err
		})
	reads(s, "getThresholds", "/thresholds", "List from where on what is measured is a warning, or critical, with what ships", "alerts", []string{"threshold"}, func(ctx context.Context, a *app.App, _ *nothing) (*alarm.File, error) { return a.Thresholds(ctx) })
	reads(s, "listReactions", "/reactions", "List what is done by itself about how things are", "alerts", []string{"reaction", "reaction show"}, func(ctx context.Context, a *app.App, _ *nothing) ([]reactions.Status, error) { return a.Reacting(ctx) })
	reads(s, "listFronts", "/fronts", "List names in front of many places, and who answers there", "sites", []string{"front"}, func(ctx context.Context, a *app.App, _ *nothing) ([]fronts.Status, error) { return a.FrontStates(ctx) })
	does(s, operation{id: "getMetrics", method: http.MethodGet, path: "/metrics", summary: "What is measured now (OpenMetrics 1.0)", tag: "alerts", answers: openMetrics, twins: []string{"measure export"}}, func(ctx context.Context, a *app.App, _ *nothing) (*planned, error) {
		var out bytes.Buffer
		err := a.WriteOpenMetrics(ctx, &out, time.Now())
		return &planned{openMetrics, out.Bytes()}, err
	})
}

// openMetrics is the media type of what is measured (OpenMetrics 1.0).
const openMetrics = "application/openmetrics-text; version=1.0.0; charset=utf-8"

func promiseOperations(s *Server) {
	reads(s, "listPromises", "/promises", "List what is promised of deployments, and how it was kept", "promises", []string{"promises"}, func(ctx context.Context, a *app.App, _ *nothing) ([]promises.Kept, error) {
		return a.Promises(ctx, time.Now())
	})
	reads(s, "listLevels", "/levels", "List the service levels, and who has which", "promises", []string{"level"}, func(ctx context.Context, a *app.App, _ *nothing) ([]promises.LevelUse, error) {
		return a.Levels(ctx, time.Now())
	})
	does(s, operation{id: "extendLease", method: http.MethodPost, path: "/deployments/{deployment}/lease/extend", summary: "Extend a lease, as its terms allow", tag: "promises", status: http.StatusOK, twins: []string{"lease extend"}},
		func(ctx context.Context, a *app.App, in *OfDeployment) (*body[promise.Promise], error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			p, err := a.ExtendLease(ctx, d.ID, time.Now())
			return &body[promise.Promise]{p}, err
		})
	reads(s, "getClock", "/clock", "Say what is due, and what became of what was", "workspace", []string{"clock"}, func(ctx context.Context, a *app.App, _ *nothing) (app.Clock, error) {
		return a.Clock(ctx, time.Now(), 50)
	})
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
	type OfMove struct {
		Move int64 `path:"move" minimum:"1"`
	}
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

func inventoryOperations(s *Server) {
	lists(s, "listFindings", "/findings", "Say where declared, recorded and observed disagree", "inventory", []string{"reconcile"}, func(f *inventory.Finding) string { return f.ID },
		func(ctx context.Context, a *app.App, _ *paging) ([]inventory.Finding, error) {
			inv, err := a.Reconcile(ctx)
			if err != nil {
				return nil, err
			}
			return inv.Findings, nil
		})
	type find struct {
		Words string `query:"words" maxLength:"200"`
	}
	reads(s, "find", "/find", "Find anything by a part of its name or address", "inventory", []string{"find"}, func(ctx context.Context, a *app.App, in *find) ([]reconcile.Thing, error) {
		inv, err := a.Reconcile(ctx)
		if err != nil {
			return nil, err
		}
		all, err := a.Things(ctx, inv, nil)
		if err != nil {
			return nil, err
		}
		return reconcile.Find(in.Words, all), nil
	})
	type OfRecord struct {
		Record string `path:"record" maxLength:"200"`
	}
	reads(s, "getRecordHistory", "/records/{record}/history", "Show what became of a record", "inventory", []string{"records show"}, func(ctx context.Context, a *app.App, in *OfRecord) ([]app.RecordChange, error) {
		return a.RecordHistory(ctx, in.Record)
	})
}

// theirs reads what is somebody's own, or offered to them: a token that is bounded to a part of what there is does not.
func theirs[I, T any](s *Server, id, at, summary, tag string, r guard.Right, twins []string, read func(ctx context.Context, a *app.App, in *I) (T, error)) {
	reads(s, id, at, summary, tag, twins, func(ctx context.Context, a *app.App, in *I) (T, error) {
		if err := a.Unbounded(r); err != nil {
			var none T
			return none, err
		}
		return read(ctx, a, in)
	})
}

// OfRequest names a request.
type OfRequest struct {
	Request int64 `path:"request" minimum:"1"`
}

func requestOperations(s *Server) {
	theirs(s, "listOffers", "/offers", "List what may be asked for", "requests", guard.Ask, []string{"offer"}, func(ctx context.Context, a *app.App, _ *nothing) ([]offers.Offer, error) { return a.Offers(ctx) })
	theirs(s, "listRequests", "/requests", "List what was asked for", "requests", guard.Ask, []string{"request"}, func(ctx context.Context, a *app.App, _ *nothing) ([]requests.View, error) { return a.Requests(ctx) })
	theirs(s, "getRequest", "/requests/{request}", "Show what was asked for", "requests", guard.Ask, []string{"request show"}, func(ctx context.Context, a *app.App, in *OfRequest) (requests.View, error) {
		return a.Request(ctx, in.Request)
	})
	type ask struct {
		Body requests.Asked
	}
	asked := func(ctx context.Context, a *app.App, id int64, err error) (*body[requests.View], error) {
		if err != nil {
			return nil, err
		}
		v, err := a.Request(ctx, id)
		return &body[requests.View]{v}, err
	}
	does(s, operation{id: "askFor", method: http.MethodPost, path: "/requests", summary: "Ask for what is offered", tag: "requests", status: http.StatusCreated, twins: []string{"request ask"}}, func(ctx context.Context, a *app.App, in *ask) (*body[requests.View], error) {
		if err := a.Unbounded(guard.Ask); err != nil {
			return nil, err
		}
		r, err := a.AskFor(ctx, in.Body)
		return asked(ctx, a, r.ID, err)
	})
	type decision struct {
		OfRequest
		Body struct {
			Yes   bool   `json:"yes"`
			Words string `json:"words,omitempty" maxLength:"2000"`
		}
	}
	does(s, operation{id: "decideRequest", method: http.MethodPost, path: "/requests/{request}/decide", summary: "Decide a request that waits for you", tag: "requests", status: http.StatusOK, twins: []string{"decide"}},
		func(ctx context.Context, a *app.App, in *decision) (*body[requests.View], error) {
			if err := a.Unbounded(guard.Approve); err != nil {
				return nil, err
			}
			_, err := a.Answer(ctx, in.Request, in.Body.Yes, in.Body.Words)
			return asked(ctx, a, in.Request, err)
		})
	does(s, operation{id: "withdrawRequest", method: http.MethodPost, path: "/requests/{request}/withdraw", summary: "Withdraw what was asked for", tag: "requests", status: http.StatusOK, twins: []string{"request withdraw"}},
		func(ctx context.Context, a *app.App, in *decision) (*body[requests.View], error) {
			if err := a.Unbounded(guard.Ask); err != nil {
				return nil, err
			}
			_, err := a.TakeBack(ctx, in.Request, in.Body.Words)
			return asked(ctx, a, in.Request, err)
		})
	theirs(s, "listQuotas", "/quotas", "Say how much of every quota and budget is used, held, paused and free", "requests", guard.Account, []string{"quota"}, func(ctx context.Context, a *app.App, _ *nothing) ([]quotas.Use, error) {
		return a.Uses(ctx, time.Now())
	})
	type query struct {
		From  time.Time `query:"from" doc:"the beginning; a month ago where nothing is said"`
		To    time.Time `query:"to" doc:"the end; now where nothing is said"`
		By    string    `query:"by" default:"team" maxLength:"64"`
		Every string    `query:"every" enum:"hour,day,month" required:"false"`
	}
	theirs(s, "getAccount", "/account", "Say what stood, for how long, and what it cost whom", "requests", guard.Account, []string{"account"}, func(ctx context.Context, a *app.App, in *query) (*accounts.Account, error) {
		now := time.Now()
		q := spanned(in.From, in.To, now)
		q.By, q.Every = in.By, in.Every
		return a.Account(ctx, q, now)
	})
}

func workspaceOperations(s *Server) {
	lists(s, "listLog", "/log", "Say who did what, when, by which way, to what and with which plan, the newest first", "workspace", []string{"log"}, func(e *app.Entry) string { return number(e.Seq) },
		func(ctx context.Context, a *app.App, _ *paging) ([]app.Entry, error) {
			return a.LastOfTrail(ctx, 10_000)
		})
	reads(s, "verifyLog", "/log/verify", "Say Whether the log is whole and unchanged", "workspace", nil, func(ctx context.Context, a *app.App, _ *nothing) (*app.Verified, error) {
		return a.VerifyTrail(ctx, "")
	})
}

func tokenOperations(s *Server) {
	lists(s, "listTokens", "/tokens", "List your tokens, or, where you keep the workspace, everybody's", "tokens", []string{"token"}, func(t *token.Token) string { return t.ID },
		func(ctx context.Context, a *app.App, _ *paging) ([]token.Token, error) { return a.Tokens(ctx) })
	type wish struct {
		Body struct {
			tokens.Wish
			Seconds int64 `json:"for_seconds,omitempty" minimum:"1" maximum:"31622400" doc:"for how long it is one; 90 days where nothing is said"`
		}
	}
	does(s, operation{id: "makeToken", method: http.MethodPost, path: "/tokens", summary: "Make a token, within the bounds of the one that you come with; its secret is told once", tag: "tokens", status: http.StatusCreated, twins: []string{"token make"}},
		func(ctx context.Context, a *app.App, in *wish) (*body[tokens.Made], error) {
			w := in.Body.Wish
			w.For = time.Duration(in.Body.Seconds) * time.Second
			made, err := a.MakeToken(ctx, w, time.Now())
			return &body[tokens.Made]{made}, err
		})
	type OfToken struct {
		Token string `path:"token" maxLength:"64"`
	}
	type rotate struct {
		OfToken
		Body struct {
			Overlap int64 `json:"overlap_seconds,omitempty" minimum:"0" maximum:"604800" doc:"for how long the secret that it has holds still"`
		}
	}
	does(s, operation{id: "rotateToken", method: http.MethodPost, path: "/tokens/{token}/rotate", summary: "Give a token another secret, which is told once", tag: "tokens", status: http.StatusOK, twins: []string{"token rotate"}},
		func(ctx context.Context, a *app.App, in *rotate) (*body[tokens.Made], error) {
			made, err := a.RotateToken(ctx, in.Token, time.Duration(in.Body.Overlap)*time.Second, time.Now())
			return &body[tokens.Made]{made}, err
		})
	does(s, operation{id: "revokeToken", method: http.MethodDelete, path: "/tokens/{token}", summary: "Have a token be none any more, with those that were made by it", tag: "tokens", status: http.StatusNoContent, twins: []string{"token revoke"}},
		func(ctx context.Context, a *app.App, in *OfToken) (*gone, error) {
			return nil, a.RevokeToken(ctx, in.Token, time.Now())
		})
}
