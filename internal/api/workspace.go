package api

import (
	"context"
	"net/http"
	"strconv"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/service/workspace"
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
	reads(s, "getBus", "/bus", "Say on which bus what happens is kept for others, and how far that is; one without a server is none", "workspace", []string{"bus"}, func(ctx context.Context, a *app.App, _ *nothing) (app.BusState, error) {
		b, err := a.BusNow(ctx)
		if b == nil {
			b = &app.BusState{}
		}
		return *b, err
	})
	type busOf struct{ Body workspace.Bus }
	does(s, operation{id: "setBus", method: http.MethodPut, path: "/bus", summary: "Have what happens be kept on a bus", tag: "workspace", status: http.StatusNoContent, twins: []string{"bus set"}},
		func(ctx context.Context, a *app.App, in *busOf) (*gone, error) {
			if in.Body.Server == "" {
				return nil, fault.Invalidf("server: it is not said on which bus; to have what happens be kept on none, delete it")
			}
			return nil, a.SetBus(ctx, in.Body)
		})
	does(s, operation{id: "dropBus", method: http.MethodDelete, path: "/bus", summary: "Have what happens be kept on no bus", tag: "workspace", status: http.StatusNoContent, twins: []string{"bus off"}},
		func(ctx context.Context, a *app.App, _ *nothing) (*gone, error) {
			return nil, a.SetBus(ctx, workspace.Bus{})
		})
	reads(s, "verifyLog", "/log/verify", "Say whether the log is whole and unchanged", "workspace", nil, func(ctx context.Context, a *app.App, _ *nothing) (*app.Verified, error) {
		return a.VerifyTrail(ctx, "")
	})
	s.followLog()
}
