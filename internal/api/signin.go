package api

import (
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/guard"
	"andamio/internal/service/tokens"
)

// signIn is the path that is open to whoever has no token yet.
const signIn = "/" + Version + "/sign-in"

func signInOperations(s *Server) {
	open := func(o operation) operation { o.open, o.path, o.tag = true, "/sign-in", "tokens"; return o }
	does(s, open(operation{id: "getSignIn", method: http.MethodGet, summary: "Say by which provider of identities people sign in; no token is needed"}),
		func(_ context.Context, a *app.App, _ *nothing) (*body[guard.Identity], error) {
			by, err := a.SignsIn()
			return &body[guard.Identity]{by}, err
		})
	type says struct {
		Body struct {
			IDToken string `json:"id_token" maxLength:"16384" doc:"an ID token of the provider for the client that getSignIn says (OpenID Connect Core 1.0), issued within ten minutes"`
			Seconds int64  `json:"for_seconds,omitempty" minimum:"1" maximum:"86400" doc:"for how long the token is one; 8 hours where nothing is said"`
		}
	}
	does(s, open(operation{id: "signIn", method: http.MethodPost, summary: "Make a token for whoever the provider of identities says one is; no token is needed, and its secret is told once", status: http.StatusCreated, twins: []string{"token sign-in"}}),
		func(ctx context.Context, a *app.App, in *says) (*body[tokens.Made], error) {
			made, err := a.SignIn(ctx, in.Body.IDToken, time.Duration(in.Body.Seconds)*time.Second, time.Now())
			return &body[tokens.Made]{made}, err
		})
}
