package api

import (
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/guard"
	"andamio/internal/service/accounts"
	"andamio/internal/service/offers"
	"andamio/internal/service/quotas"
	"andamio/internal/service/requests"
)

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
