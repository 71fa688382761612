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
	from := addressOf(r)
	b, is := s.bears(w, r, from, time.Now())
	if !is {
		return
	}
	if s.visits == nil {
		writeProblem(w, problem(fault.NotFound, "no commands are run here for those who are elsewhere"))
		return
	}
	select {
	case s.visiting <- struct{}{}:
		defer func() { <-s.visiting }()
	default:
		writeProblem(w, tooMany("too many sessions are open here; close one, or come again later"))
		return
	}
	s.ongoing.Add(1)
	defer s.ongoing.Done()
	a := s.app.Within(guard.Actor{Name: b.Token.Of, Way: guard.Command}, b.Token.ID, b.Limits...)
	ctx, cancel := s.heed(r.Context(), &visitor{a, b.Token.ID, from}, 0, func(context.Context) error { return nil }) // a token that is revoked ends it
	defer cancel()
	c, err := upgrade.Take(w, session.Protocol)
	if err != nil {
		s.app.Log.Info("a session was not taken over", "err", err)
		return
	}
	v, err := session.Accept(ctx, c, s.limits.Large)
	if err != nil {
		s.app.Log.Info("a session did not begin", "of", b.Token.Of, "err", err)
		return
	}
	v.From = from.String()
	if err := v.End(s.visits(a, v)); err != nil {
		s.app.Log.Info("a session broke off", "of", b.Token.Of, "err", err)
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
