package api

import (
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/token"
	"andamio/internal/service/tokens"
)

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
