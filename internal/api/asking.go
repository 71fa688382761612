package api

import (
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/guard"
	"andamio/internal/core/ledger"
	"andamio/internal/core/offer"
	"andamio/internal/reply"
	"andamio/internal/service/offers"
	"andamio/internal/service/requests"
)

// offerOperations are those on one offer.
func offerOperations(s *Server) {
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
	type published struct {
		File    string `query:"file" required:"true" maxLength:"512" doc:"path of the offer's file in the archive, such as offers/gauge.yaml"`
		RawBody []byte `contentType:"application/zip"`
	}
	does(s, operation{id: "publishOffer", method: http.MethodPost, path: "/offers", summary: "Check an offer that comes in an archive with its template (CSAR), and make it available to its audience", tag: "requests", status: http.StatusCreated, upload: true, twins: []string{"offer publish"}},
		func(ctx context.Context, a *app.App, in *published) (*body[offers.Offer], error) {
			t, err := templateIn(in.RawBody)
			if err != nil {
				return nil, err
			}
			o, _, err := a.PublishSent(ctx, t, in.File)
			return &body[offers.Offer]{o}, err
		})
	type making struct {
		Offer   string   `query:"offer" required:"true" maxLength:"128" doc:"what it is to be called"`
		Preset  string   `query:"preset" maxLength:"128" doc:"a set of inputs that comes with the template"`
		Inputs  []string `query:"input,explode" doc:"NAME=VALUE, inputs that are fixed"`
		RawBody []byte   `contentType:"application/zip"`
	}
	does(s, operation{id: "makeOffer", method: http.MethodPost, path: "/templates/offer", summary: "Make an offer's file of a template, as a beginning", tag: "requests", status: http.StatusOK, upload: true, answers: written, twins: []string{"offer make"}},
		func(ctx context.Context, a *app.App, in *making) (*text, error) {
			t, err := templateIn(in.RawBody)
			if err != nil {
				return nil, err
			}
			inputs, err := inputsOf(in.Inputs)
			if err != nil {
				return nil, err
			}
			data, err := a.MakeFile(ctx, in.Offer, t, in.Preset, inputs)
			return &text{"application/yaml", tagOf(data), data}, err
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
	theirs(s, "listSavings", "/account/savings", "Say what could be saved, and how", "requests", guard.Account, []string{"account savings"}, func(ctx context.Context, a *app.App, _ *nothing) ([]ledger.Saving, error) {
		now := time.Now()
		return a.Savings(ctx, ledger.Query{From: now.AddDate(0, -1, 0), To: now, By: "team"}, now)
	})
}

// requestActs are what is said of a request after it was asked.
func requestActs(s *Server) {
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
}

// peopleOperations say who may what, whose something is, and what plans are given that is secret.
func peopleOperations(s *Server) {
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
