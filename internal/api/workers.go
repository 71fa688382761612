package api

import (
	"context"
	"net"
	"net/http"
	"strings"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/reach"
	"andamio/internal/service/workers"
	"andamio/internal/session"
	"andamio/internal/tunnel"
	"andamio/internal/upgrade"
)

// Paths at which a connection is taken over: by a worker that joins, and by another process of the workspace that goes through one.
const (
	pathJoin  = "/" + Version + "/workers/join"
	pathRelay = "/" + Version + "/workers/relay"
)

func workerOperations(s *Server) {
	lists(s, "listWorkers", "/workers", "List the workers in closed networks that are there, with the sites that they reach", "sites", []string{"workers"}, func(w *workers.Worker) string { return w.Pool + "/" + w.Name },
		func(ctx context.Context, a *app.App, _ *paging) ([]workers.Worker, error) { return a.Workers(ctx) })
	type through struct {
		Site string `path:"site" maxLength:"128"`
		Body struct {
			Pool   string            `json:"pool" maxLength:"63" doc:"pool of workers through which the site is reached; empty is from where the workspace is served"`
			Labels map[string]string `json:"labels,omitempty" doc:"what those workers of the pool are labelled with through which it is reached; empty is all of them"`
			Wait   *float64          `json:"wait,omitempty" minimum:"0" maximum:"604800" doc:"for how many seconds a step of a run waits for one of them where none is there; 600 where nothing is said"`
		}
	}
	does(s, operation{id: "setThrough", method: http.MethodPut, path: "/sites/{site}/through", summary: "Have a site be reached through a pool of workers, or from here", tag: "sites", status: http.StatusNoContent, twins: []string{"site through"}},
		func(ctx context.Context, a *app.App, in *through) (*gone, error) {
			to := reach.Through{Pool: in.Body.Pool, Labels: in.Body.Labels}
			if w := in.Body.Wait; w != nil {
				if to.Wait = time.Duration(*w * float64(time.Second)); to.Wait == 0 {
					to.Wait = reach.NoWait
				}
			}
			return nil, a.SetThrough(ctx, in.Site, to)
		})
}

// upgrading takes over the connections of those who ask for the protocol of workers or of sessions, and leaves all else to others.
func (s *Server) upgrading(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case asksConsole(r):
			s.console(w, r)
		case r.URL.Path == pathSession && upgrade.Asks(r, session.Protocol):
			s.visit(w, r)
		case r.URL.Path == pathSession:
			writeProblem(w, withStatus(http.StatusUpgradeRequired, problem(fault.Invalid, "andamio --server comes here, by HTTP/1.1 with Upgrade: "+session.Protocol)))
		case r.URL.Path != pathJoin && r.URL.Path != pathRelay:
			next.ServeHTTP(w, r)
		case !upgrade.Asks(r, tunnel.Protocol):
			writeProblem(w, withStatus(http.StatusUpgradeRequired, problem(fault.Invalid, "workers alone come here, by HTTP/1.1 with Upgrade: "+tunnel.Protocol)))
		case r.URL.Path == pathRelay:
			s.relay(w, r)
		default:
			s.join(w, r)
		}
	})
}

// mostQuery bounds what a worker says of itself.
const mostQuery = 8 << 10

// join has a worker join that shows a token whose person may connect sites.
func (s *Server) join(w http.ResponseWriter, r *http.Request) {
	now, from := time.Now(), addressOf(r)
	b, is := s.bears(w, r, from, now)
	if !is {
		return
	}
	if len(r.URL.RawQuery) > mostQuery {
		writeProblem(w, problem(fault.Invalid, "a worker says too much of itself"))
		return
	}
	q := r.URL.Query()
	j := workers.Joining{Pool: q.Get("pool"), Name: q.Get("name"), From: from.String()}
	var err error
	if j.Labels, err = workers.Labels(q["label"]); err != nil {
		writeProblem(w, problemOf(err))
		return
	}
	a := s.app.Within(guard.Actor{Name: b.Token.Of, Way: guard.API}, b.Token.ID, b.Limits...)
	v := &visitor{a, b.Token.ID, from}
	ctx, cancel := s.heed(r.Context(), v, 0, func(context.Context) error { return nil }) // a token that is revoked ends it
	defer cancel()
	taken := false
	err = a.JoinWorker(ctx, j, app.ThisProcess(), func() (net.Conn, error) { taken = true; return upgrade.Take(w, tunnel.Protocol) })
	if !taken {
		writeProblem(w, problemOf(err))
	}
}

// relay connects another process of this workspace through a worker that has connected here.
func (s *Server) relay(w http.ResponseWriter, r *http.Request) {
	now, from := time.Now(), addressOf(r)
	secret, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !s.app.MayRelay(secret) {
		if !s.gates.strangers.take(from.String(), now) {
			writeProblem(w, tooMany("too many requests without a token that holds came from there"))
			return
		}
		s.stranger(w, fault.NotAllowedf("processes of this workspace alone go through its workers so"))
		return
	}
	q := r.URL.Query()
	to, err := s.app.Relay(r.Context(), q.Get("pool"), q.Get("worker"), q.Get("address"))
	if err != nil {
		tunnel.Tell(w, http.StatusBadGateway, err)
		return
	}
	defer to.Close()
	c, err := upgrade.Take(w, tunnel.Protocol)
	if err != nil {
		s.app.Log.Warn("a connection could not be taken over", "err", err)
		return
	}
	defer c.Close()
	tunnel.Join(r.Context(), c, to)
}

// RelaysAt says to other processes of the workspace where this one is reached, whose certificate is known by a pin; "" is in clear.
func (s *Server) RelaysAt(u, pin string) { s.app.ReachedAt(u, pin) }
