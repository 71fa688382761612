package api

import (
	"context"
	"strconv"

	"andamio/internal/app"
)

func number(id int64) string { return strconv.FormatInt(id, 10) }

func workspaceOperations(s *Server) {
	lists(s, "listLog", "/log", "Say who did what, when, by which way, to what and with which plan, the newest first", "workspace", []string{"log"}, func(e *app.Entry) string { return number(e.Seq) },
		func(ctx context.Context, a *app.App, _ *paging) ([]app.Entry, error) {
			return a.LastOfTrail(ctx, 10_000)
		})
	reads(s, "getWorkspace", "/workspace", "Say where the workspace is kept, and how much is in it", "workspace", []string{"workspace"}, func(ctx context.Context, a *app.App, _ *nothing) (app.Stored, error) {
		return a.StoredIn(ctx)
	})
	reads(s, "verifyLog", "/log/verify", "Say whether the log is whole and unchanged", "workspace", nil, func(ctx context.Context, a *app.App, _ *nothing) (*app.Verified, error) {
		return a.VerifyTrail(ctx, "")
	})
	s.followLog()
}
