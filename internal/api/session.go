package api

import (
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/session"
	"andamio/internal/upgrade"
)

// pathSession is where a connection is taken over by whoever has a command, or the screens, run here.
const pathSession = "/" + Version + "/session"

// Visits runs what somebody who is elsewhere asks for, as whoever the workspace is given for, and returns the status with which it ended.
type Visits func(a *app.App, v *session.Visit) int

// Receives has the server run commands and screens for those who are elsewhere; without it none are run.
func (s *Server) Receives(run Visits) { s.visits = run }

// visit runs what somebody asks for who shows a token that holds, until it ends, they are gone or the token does not hold any more.
func (s *Server) visit(w http.ResponseWriter, r *http.Request) {
	ctx, x, leave := s.seat(w, r, guard.Command)
	if leave == nil {
		return
	}
	defer leave()
	if s.visits == nil {
		writeProblem(w, problem(fault.NotFound, "no commands are run here for those who are elsewhere"))
		return
	}
	c, err := upgrade.Take(w, session.Protocol)
	if err != nil {
		s.app.Log.Info("a session was not taken over", "err", err)
		return
	}
	v, err := session.Accept(ctx, c, s.limits.Large)
	if err != nil {
		s.app.Log.Info("a session did not begin", "of", x.app.Actor().Name, "err", err)
		return
	}
	v.From = x.from.String()
	if err := v.End(s.visits(x.app, v)); err != nil {
		s.app.Log.Info("a session broke off", "of", x.app.Actor().Name, "err", err)
	}
}

// seat has whoever shows a token that holds have one of the places that there are for those who stay, until they leave or the token does not hold any more. Whoever gets none is answered, and leave is nil.
func (s *Server) seat(w http.ResponseWriter, r *http.Request, way guard.Way) (ctx context.Context, v *visitor, leave func()) {
	from := addressOf(r)
	b, is := s.bears(w, r, from, time.Now())
	if !is {
		return nil, nil, nil
	}
	select {
	case s.visiting <- struct{}{}:
	default:
		writeProblem(w, tooMany("too many sessions are open here; close one, or come again later"))
		return nil, nil, nil
	}
	s.ongoing.Add(1)
	v = &visitor{s.app.Within(guard.Actor{Name: b.Token.Of, Way: way}, b.Token.ID, b.Limits...), b.Token.ID, from}
	ctx, cancel := s.heed(r.Context(), v, 0, func(context.Context) error { return nil }) // a token that is revoked ends it
	return ctx, v, func() {
		cancel()
		s.ongoing.Done()
		<-s.visiting
	}
}

// forgetting waits a moment until sessions that ended with the server have taken away the files that came with them.
func (s *Server) forgetting() {
	over := make(chan struct{})
	go func() {
		s.ongoing.Wait()
		close(over)
	}()
	select {
	case <-over:
	case <-time.After(grace):
	}
}
