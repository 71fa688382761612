package api

import (
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/dispatch"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/ledger"
	"andamio/internal/core/measure"
	"andamio/internal/core/offer"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/run"
	"andamio/internal/reply"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/offers"
	"andamio/internal/service/promises"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/requests"
	"andamio/internal/service/sites"
	"andamio/internal/service/watch"
	"andamio/internal/service/workspace"
)

// promisingOperations have something be promised of deployments, and no more.
func promisingOperations(s *Server) {
	reads(s, "listPromisesOf", "/deployments/{deployment}/promises", "List what is promised of a deployment, and how it was kept", "promises", nil, func(ctx context.Context, a *app.App, in *OfDeployment) ([]promises.Kept, error) {
		d, err := in.find(ctx, a)
		if err != nil {
			return nil, err
		}
		return a.PromisesOf(ctx, d.ID, time.Now())
	})
	type promising struct {
		OfDeployment
		Kind string `path:"kind" maxLength:"64" doc:"saved, replicated, drilled, hours, lease, guarded or recovered"`
		Body struct {
			Saved      *promise.SavedTerms      `json:"saved,omitempty"`
			Replicated *promise.ReplicatedTerms `json:"replicated,omitempty"`
			Drilled    *promise.DrilledTerms    `json:"drilled,omitempty"`
			Hours      *promise.HoursTerms      `json:"hours,omitempty"`
			Lease      *promise.LeaseTerms      `json:"lease,omitempty"`
			Guarded    *promise.GuardedTerms    `json:"guarded,omitempty"`
			Recovered  *promise.RecoveredTerms  `json:"recovered,omitempty"`
		}
	}
	does(s, operation{id: "promise", method: http.MethodPut, path: "/deployments/{deployment}/promises/{kind}", summary: "Promise something of a deployment, by its terms", tag: "promises", status: http.StatusOK,
		twins: []string{"snapshot every", "replica every", "snapshot drill", "hours", "lease", "calendar guard", "recovery"}},
		func(ctx context.Context, a *app.App, in *promising) (*body[promise.Promise], error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			b := in.Body
			p, err := a.SetPromise(ctx, promise.Promise{Deployment: d.ID, Kind: promise.Kind(in.Kind), Saved: b.Saved, Replicated: b.Replicated, Drilled: b.Drilled, Hours: b.Hours, Lease: b.Lease, Guarded: b.Guarded,
				Recovered: b.Recovered}, time.Now())
			return &body[promise.Promise]{p}, fault.Default(fault.Invalid, err)
		})
	type dropping struct {
		OfDeployment
		Kind string `path:"kind" maxLength:"64"`
	}
	does(s, operation{id: "promiseNoMore", method: http.MethodDelete, path: "/deployments/{deployment}/promises/{kind}", summary: "Promise it no more", tag: "promises", status: http.StatusNoContent,
		twins: []string{"snapshot every drop", "replica every drop", "snapshot drill drop", "hours drop", "lease drop", "calendar guard drop", "recovery drop"}},
		func(ctx context.Context, a *app.App, in *dropping) (*gone, error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			return nil, a.DropPromise(ctx, d.ID, promise.Kind(in.Kind))
		})
	type levelled struct {
		Whether
		Level string `json:"level,omitempty" maxLength:"128" doc:"the service level; none where nothing is said"`
	}
	changes(s, "giveLevel", "/level", "Give a deployment a service level, or none", []string{"level give", "level drop"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *levelled) (deployments.Order, error) {
		return a.Levelling(ctx, d.ID, in.Level, time.Now())
	})
	type until struct {
		OfDeployment
		Set  string `path:"set" maxLength:"128"`
		Body struct {
			Until time.Time `json:"until"`
		}
	}
	does(s, operation{id: "endSnapshots", method: http.MethodPut, path: "/deployments/{deployment}/snapshots/{set}/until", summary: "Have a set of snapshots be dropped at a time", tag: "snapshots", status: http.StatusOK, twins: []string{"snapshot until"}},
		func(ctx context.Context, a *app.App, in *until) (*body[promise.EndsTerms], error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			x, err := a.EndSnapshot(ctx, d.ID, in.Set, in.Body.Until, time.Now())
			return &body[promise.EndsTerms]{x}, err
		})
	type beside struct {
		Whether
		Set  string `json:"set"`
		Name string `json:"name"`
	}
	changes(s, "raiseBeside", "/snapshots/beside", "Raise another deployment of what a set of snapshots keeps", []string{"snapshot beside"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *beside) (deployments.Order, error) {
		return a.Beside(ctx, d.ID, in.Set, in.Name)
	})
	addressOperations(s)
}

// addressOperations lease addresses for what Andamio does not build.
func addressOperations(s *Server) {
	lists(s, "listAddressLeases", "/address-leases", "List the addresses that are leased", "promises", []string{"lease address list"}, func(l *promise.AddressLease) string { return l.Site + " " + l.Value },
		func(ctx context.Context, a *app.App, _ *paging) ([]promise.AddressLease, error) {
			return a.AddressLeases(ctx)
		})
	type leasing struct {
		Body struct {
			Site  string    `json:"site"`
			Value string    `json:"value,omitempty" doc:"the address; any that is free where nothing is said"`
			For   string    `json:"for"`
			Until time.Time `json:"until"`
		}
	}
	does(s, operation{id: "leaseAddress", method: http.MethodPost, path: "/address-leases", summary: "Lease an address of a site's pools", tag: "promises", status: http.StatusCreated, twins: []string{"lease address"}},
		func(ctx context.Context, a *app.App, in *leasing) (*body[promise.AddressLease], error) {
			l, err := a.LeaseAddress(ctx, promise.AddressLease{Site: in.Body.Site, Value: in.Body.Value, For: in.Body.For, Until: in.Body.Until}, time.Now())
			return &body[promise.AddressLease]{l}, err
		})
	type leased struct {
		Site  string `path:"site" maxLength:"128"`
		Value string `path:"value" maxLength:"128"`
	}
	does(s, operation{id: "extendAddressLease", method: http.MethodPut, path: "/address-leases/{site}/{value}", summary: "Lease it for longer", tag: "promises", status: http.StatusOK, twins: []string{"lease address extend"}},
		func(ctx context.Context, a *app.App, in *struct {
			Site  string `path:"site" maxLength:"128"`
			Value string `path:"value" maxLength:"128"`
			Body  struct {
				Until time.Time `json:"until"`
			}
		}) (*body[promise.AddressLease], error) {
			l, err := a.ExtendAddress(ctx, in.Site, in.Value, in.Body.Until, time.Now())
			return &body[promise.AddressLease]{l}, err
		})
	does(s, operation{id: "returnAddress", method: http.MethodDelete, path: "/address-leases/{site}/{value}", summary: "Return it", tag: "promises", status: http.StatusNoContent, twins: []string{"lease address return"}},
		func(ctx context.Context, a *app.App, in *leased) (*gone, error) {
			return nil, a.ReturnAddress(ctx, in.Site, in.Value)
		})
}

// measuredThing is what is measured of a thing.
type measuredThing struct {
	measure.Thing
	Latest []watch.Figure `json:"latest"`
}

// measuringOperations are those on what is measured, and what is done about it.
func measuringOperations(s *Server) {
	type which struct {
		Limit      int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		Cursor     string `query:"cursor" maxLength:"512"`
		Deployment int64  `query:"deployment" minimum:"0" doc:"its number; of everything where nothing is said"`
	}
	does(s, operation{id: "listMeasured", method: http.MethodGet, path: "/measures", summary: "Show what sites, machines and endpoints use and how they answer", tag: "alerts", twins: []string{"measure"}},
		func(ctx context.Context, a *app.App, in *which) (*page[measuredThing], error) {
			things, err := a.Measured(ctx, in.Deployment)
			if err != nil {
				return nil, err
			}
			cut, err := paged(things, paging{in.Limit, in.Cursor}, func(t *measure.Thing) string { return t.Key })
			if err != nil {
				return nil, err
			}
			latest, err := a.Figures(ctx, cut.Body.Items, time.Now())
			if err != nil {
				return nil, err
			}
			out := &page[measuredThing]{}
			out.Body.Next = cut.Body.Next
			for _, t := range cut.Body.Items {
				out.Body.Items = append(out.Body.Items, measuredThing{t, latest[t.Key]})
			}
			return out, nil
		})
	type curve struct {
		Key  string    `query:"key" required:"true" maxLength:"512" doc:"the thing, as /measures says it"`
		Name string    `query:"name" required:"true" maxLength:"200" doc:"the measure"`
		From time.Time `query:"from" doc:"an hour before the end where nothing is said"`
		To   time.Time `query:"to" doc:"now where nothing is said"`
		Step int       `query:"step_seconds" minimum:"15" maximum:"2592000" default:"60"`
	}
	reads(s, "getCurve", "/measures/curve", "Show a measure of a thing over time", "alerts", nil, func(ctx context.Context, a *app.App, in *curve) ([]measure.Point, error) {
		things, err := a.Measured(ctx, 0)
		if err != nil {
			return nil, err
		}
		if in.To.IsZero() {
			in.To = time.Now()
		}
		if in.From.IsZero() {
			in.From = in.To.Add(-time.Hour)
		}
		step := time.Duration(in.Step) * time.Second
		if in.To.Sub(in.From) > 10_000*step {
			return nil, fault.Invalidf("that is more than 10000 points: ask for a shorter time or a longer step")
		}
		for _, t := range things {
			if t.Key == in.Key {
				return a.Curve(ctx, t, in.Name, in.From, in.To, step)
			}
		}
		return nil, fault.NotFoundf("nothing that is measured has the key %q", in.Key)
	})
	does(s, operation{id: "previewThresholds", method: http.MethodPost, path: "/thresholds/preview", summary: "Say when a file of thresholds would have fired in the past month", tag: "alerts", status: http.StatusOK, upload: true, twins: []string{"threshold preview", "threshold check"}},
		func(ctx context.Context, a *app.App, in *struct {
			RawBody []byte `contentType:"application/yaml"`
		}) (*body[[]watch.Would], error) {
			now := time.Now()
			x, err := a.Preview(ctx, in.RawBody, now.AddDate(0, -1, 0), now)
			return &body[[]watch.Would]{x}, err
		})
	type resume struct {
		Body struct {
			Reaction   string `json:"reaction"`
			Deployment int64  `json:"deployment"`
		}
	}
	does(s, operation{id: "resumeReaction", method: http.MethodPost, path: "/reactions/resume", summary: "Let a reaction act again that called somebody", tag: "alerts", status: http.StatusNoContent, twins: []string{"reaction resume"}},
		func(ctx context.Context, a *app.App, in *resume) (*gone, error) {
			return nil, a.ResumeReaction(ctx, in.Body.Reaction, in.Body.Deployment)
		})
	lists(s, "listDeliveries", "/hooks/deliveries", "Show what hooks told last", "workspace", []string{"hook"}, func(d *app.Delivery) string { return number(d.ID) },
		func(ctx context.Context, a *app.App, _ *paging) ([]app.Delivery, error) {
			return a.Deliveries(ctx, 1000)
		})
	type again struct {
		Delivery int64 `path:"delivery" minimum:"1"`
	}
	does(s, operation{id: "tellAgain", method: http.MethodPost, path: "/hooks/deliveries/{delivery}/again", summary: "Have something told again that was given up", tag: "workspace", status: http.StatusNoContent, twins: []string{"hook again"}},
		func(ctx context.Context, a *app.App, in *again) (*gone, error) {
			return nil, a.Resend(ctx, in.Delivery)
		})
}

// connectingOperations are those on sites, and on moves between them.
func connectingOperations(s *Server) {
	type connect struct {
		Body struct {
			workspace.Connection
			Secrets map[string]string `json:"secrets,omitempty" doc:"what its driver needs that is secret, by name"`
		}
	}
	connection := func(in *connect) (workspace.Connection, error) {
		c := in.Body.Connection
		return c, fault.Default(fault.Invalid, c.Tell(in.Body.Secrets))
	}
	does(s, operation{id: "connectSite", method: http.MethodPost, path: "/sites", summary: "Test and connect a site", tag: "sites", status: http.StatusCreated, twins: []string{"site add"}},
		func(ctx context.Context, a *app.App, in *connect) (*body[*sites.Tested], error) {
			if err := a.CheckSiteName(in.Body.Site); err != nil {
				return nil, fault.Default(fault.Invalid, err)
			}
			c, err := connection(in)
			if err != nil {
				return nil, err
			}
			x, err := a.Connect(ctx, c)
			return &body[*sites.Tested]{x}, err
		})
	type OfSite struct {
		Site string `path:"site" maxLength:"128"`
	}
	does(s, operation{id: "testSite", method: http.MethodPost, path: "/sites/{site}/test", summary: "Test a site that is connected", tag: "sites", status: http.StatusOK, twins: []string{"site test"}},
		func(ctx context.Context, a *app.App, in *OfSite) (*body[*sites.Tested], error) {
			c, err := a.Connection(in.Site)
			if err != nil {
				return nil, err
			}
			x, err := a.Test(ctx, c)
			return &body[*sites.Tested]{x}, err
		})
	does(s, operation{id: "removeSite", method: http.MethodDelete, path: "/sites/{site}", summary: "Connect a site no more, on which nothing stands", tag: "sites", status: http.StatusNoContent, twins: []string{"site remove"}},
		func(ctx context.Context, a *app.App, in *OfSite) (*gone, error) {
			return nil, a.Disconnect(ctx, in.Site)
		})
	type renewal struct {
		OfSite
		Body struct {
			Credential string `json:"credential" minLength:"1" maxLength:"65536"`
		}
	}
	does(s, operation{id: "rotateCredential", method: http.MethodPost, path: "/sites/{site}/rotate", summary: "Change the credential of a site, once it is seen that the new one holds", tag: "sites", status: http.StatusNoContent, twins: []string{"site rotate"}},
		func(ctx context.Context, a *app.App, in *renewal) (*gone, error) {
			return nil, a.Rotate(ctx, in.Site, in.Body.Credential)
		})
	type paired struct {
		A string `path:"a" maxLength:"128"`
		B string `path:"b" maxLength:"128"`
	}
	does(s, operation{id: "removePair", method: http.MethodDelete, path: "/pairs/{a}/{b}", summary: "Pair two sites no more", tag: "sites", status: http.StatusNoContent, twins: []string{"pair remove"}},
		func(ctx context.Context, a *app.App, in *paired) (*gone, error) {
			return nil, a.Unpair(ctx, in.A, in.B)
		})
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
	type manage struct {
		Body struct {
			Whether
			reconcile.TakeOverRequest
		}
	}
	does(s, operation{id: "manageMachines", method: http.MethodPost, path: "/deployments", summary: "Have machines that nobody deployed here be a deployment", tag: "inventory", status: http.StatusOK, twins: []string{"manage"}},
		func(ctx context.Context, a *app.App, in *manage) (*ordered, error) {
			o, err := a.TakingOver(ctx, in.Body.TakeOverRequest)
			if err != nil {
				return nil, err
			}
			return carry(ctx, a, o.Plan.Name, o, in.Body.Whether)
		})
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

// askingOperations are those of who asks for services, decides and pays, beside the ones that begin it.
func askingOperations(s *Server) {
	type OfOffer struct {
		Offer string `path:"offer" maxLength:"128"`
	}
	theirs(s, "getOffer", "/offers/{offer}", "Show what may be asked for", "requests", guard.Ask, []string{"offer show"}, func(ctx context.Context, a *app.App, in *OfOffer) (offers.Offer, error) {
		return a.Offer(ctx, in.Offer, 0)
	})
	does(s, operation{id: "withdrawOffer", method: http.MethodDelete, path: "/offers/{offer}", summary: "Offer something no more", tag: "requests", status: http.StatusNoContent, twins: []string{"offer withdraw"}},
		func(ctx context.Context, a *app.App, in *OfOffer) (*gone, error) {
			return nil, a.WithdrawOffer(ctx, in.Offer)
		})
	type quote struct {
		OfOffer
		Body struct {
			Answers offer.Answers `json:"answers,omitempty"`
			Name    string        `json:"name,omitempty" maxLength:"128"`
			Compare bool          `json:"compare,omitempty" doc:"what it would cost elsewhere, too"`
		}
	}
	does(s, operation{id: "quoteOffer", method: http.MethodPost, path: "/offers/{offer}/quote", summary: "Say what it would cost, and where it would stand", tag: "requests", status: http.StatusOK, twins: []string{"offer quote"}},
		func(ctx context.Context, a *app.App, in *quote) (*body[*offers.Quote], error) {
			if err := a.Unbounded(guard.Ask); err != nil {
				return nil, err
			}
			o, err := a.Offer(ctx, in.Offer, 0)
			if err != nil {
				return nil, err
			}
			x, err := a.Quote(ctx, o, in.Body.Answers, in.Body.Name, in.Body.Compare)
			return &body[*offers.Quote]{x}, err
		})
	type said struct {
		OfRequest
		Body struct {
			Words   string        `json:"words,omitempty" maxLength:"2000"`
			Answers offer.Answers `json:"answers,omitempty"`
		}
	}
	for _, x := range []struct {
		id, path, summary string
		twins             []string
		do                func(ctx context.Context, a *app.App, in *said) error
	}{
		{"sayOfRequest", "/say", "Say something of a request", []string{"request say"}, func(ctx context.Context, a *app.App, in *said) error { return a.SayOf(ctx, in.Request, in.Body.Words) }},
		{"acceptPrice", "/accept", "Accept a price that is another by now", []string{"request accept"}, func(ctx context.Context, a *app.App, in *said) error {
			_, err := a.AcceptPrice(ctx, in.Request)
			return err
		}},
		{"reanswerRequest", "/change", "Give other answers to a request", []string{"request change"}, func(ctx context.Context, a *app.App, in *said) error {
			_, err := a.Reanswer(ctx, in.Request, in.Body.Answers, in.Body.Words)
			return err
		}},
	} {
		does(s, operation{id: x.id, method: http.MethodPost, path: "/requests/{request}" + x.path, summary: x.summary, tag: "requests", status: http.StatusOK, twins: x.twins}, func(ctx context.Context, a *app.App, in *said) (*body[requests.View], error) {
			if err := a.Unbounded(guard.Ask); err != nil {
				return nil, err
			}
			if err := x.do(ctx, a, in); err != nil {
				return nil, err
			}
			v, err := a.Request(ctx, in.Request)
			return &body[requests.View]{v}, err
		})
	}
	type turn struct {
		OfRequest
		Body struct {
			Turn    string `json:"turn" enum:"stop,start,give back"`
			Confirm bool   `json:"confirm,omitempty" doc:"it is begun; else what would be done is answered"`
		}
	}
	does(s, operation{id: "turnRequest", method: http.MethodPost, path: "/requests/{request}/turn", summary: "Stop, start or give back what was built of a request", tag: "requests", status: http.StatusOK, twins: []string{"request stop", "request start", "request give-back"}},
		func(ctx context.Context, a *app.App, in *turn) (*ordered, error) {
			if err := a.Unbounded(guard.Ask); err != nil {
				return nil, err
			}
			o, err := a.Turning(ctx, in.Request, requests.Turn(in.Body.Turn))
			if err != nil {
				return nil, err
			}
			out := &ordered{Status: http.StatusOK}
			out.Body.Change = reply.ChangeOf(o)
			if in.Body.Confirm {
				out.Status = http.StatusAccepted
				out.Body.Run, err = a.TurnIt(ctx, in.Request, requests.Turn(in.Body.Turn))
			}
			return out, err
		})
	theirs(s, "getRequestAgain", "/requests/{request}/again", "Show what would be asked for the same again", "requests", guard.Ask, []string{"request again"}, func(ctx context.Context, a *app.App, in *OfRequest) (requests.Asked, error) {
		return a.Again(ctx, in.Request)
	})
	theirs(s, "listSavings", "/account/savings", "Say what could be saved, and how", "requests", guard.Account, []string{"account savings"}, func(ctx context.Context, a *app.App, _ *nothing) ([]ledger.Saving, error) {
		now := time.Now()
		return a.Savings(ctx, ledger.Query{From: now.AddDate(0, -1, 0), To: now, By: "team"}, now)
	})
	type may struct {
		Person     string `query:"person" required:"true" maxLength:"128"`
		Right      string `query:"right" required:"true" maxLength:"32"`
		Deployment int64  `query:"deployment" minimum:"0"`
		Site       string `query:"site" maxLength:"128"`
	}
	reads(s, "may", "/may", "Say whether a person may do something, and why", "workspace", []string{"team may"}, func(ctx context.Context, a *app.App, in *may) (guard.Answer, error) {
		on := guard.Thing{Name: "that", Deployment: in.Deployment}
		if in.Site != "" {
			on.Sites = []string{in.Site}
		}
		return a.May(ctx, in.Person, guard.Right(in.Right), on)
	})
	type give struct {
		OfDeployment
		Body guard.Owner
	}
	does(s, operation{id: "giveDeployment", method: http.MethodPut, path: "/deployments/{deployment}/owner", summary: "Say whose a deployment is", tag: "deployments", status: http.StatusNoContent, twins: []string{"team give"}},
		func(ctx context.Context, a *app.App, in *give) (*gone, error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			return nil, a.Give(ctx, d.ID, in.Body)
		})
	type secrets struct {
		Body struct {
			Values map[string]string `json:"values" doc:"by name; an empty value drops one"`
		}
	}
	does(s, operation{id: "keepSecrets", method: http.MethodPut, path: "/secrets", summary: "Keep values that plans ask for as secrets", tag: "workspace", status: http.StatusNoContent, twins: []string{"credentials secret"}},
		func(ctx context.Context, a *app.App, in *secrets) (*gone, error) {
			return nil, a.SetSecrets(ctx, in.Body.Values)
		})
}
