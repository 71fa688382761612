package api

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/tokens"
)

// visitor is whoever came with a token that holds.
type visitor struct {
	app   *app.App
	token string
	from  netip.Addr
}

type visiting struct{}

// visitorOf is who made a request.
func visitorOf(ctx context.Context) *visitor {
	v, _ := ctx.Value(visiting{}).(*visitor)
	return v
}

// entering lets in whoever shows a token that holds, as often as they may come.
func (s *Server) entering(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		now, from := time.Now(), addressOf(r)
		if r.URL.Path == signIn {
			s.signingIn(w, r, next, from, now)
			return
		}
		b, is := s.bears(w, r, from, now)
		if !is {
			return
		}
		v := &visitor{s.app.Within(guard.Actor{Name: b.Token.Of, Way: guard.API}, b.Token.ID, b.Limits...), b.Token.ID, from}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), visiting{}, v)))
	})
}

// bears is what a request bears whose token holds and may come as often as it does. Anything else is answered.
func (s *Server) bears(w http.ResponseWriter, r *http.Request, from netip.Addr, now time.Time) (tokens.Bearer, bool) {
	secret, is := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	b, err := s.app.Bears(r.Context(), secret, from, now)
	switch {
	case (err != nil || !is) && !s.gates.strangers.take(from.String(), now): // whoever has one is not kept out by others who come from there
		writeProblem(w, tooMany("too many requests without a token that holds came from there"))
	case err != nil || !is:
		s.stranger(w, err)
	case !s.gates.tokens.take(b.Token.ID, now):
		writeProblem(w, tooMany("that token makes too many requests"))
	default:
		return b, true
	}
	return b, false
}

// signingIn lets in whoever has no token yet, as seldom as strangers may come, as nobody.
func (s *Server) signingIn(w http.ResponseWriter, r *http.Request, next http.Handler, from netip.Addr, now time.Time) {
	if !s.gates.strangers.take(from.String(), now) {
		writeProblem(w, tooMany("too many who sign in came from there"))
		return
	}
	v := &visitor{s.app.Within(guard.Actor{Way: guard.API}, ""), "", from}
	next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), visiting{}, v)))
}

// stranger answers whoever is not let in.
func (s *Server) stranger(w http.ResponseWriter, err error) {
	if err != nil && fault.CodeOf(err) != fault.NotAllowed {
		s.app.Log.Error("it could not be looked whether a token holds", "err", err)
		writeProblem(w, problemOf(err))
		return
	}
	w.Header().Set("WWW-Authenticate", `Bearer realm="andamio"`) // RFC 6750, section 3
	detail := "show a token that holds: Authorization: Bearer TOKEN"
	if err != nil {
		detail = err.Error()
	}
	writeProblem(w, withStatus(http.StatusUnauthorized, problem(fault.NotAllowed, detail)))
}

func tooMany(why string) *Problem {
	return withStatus(http.StatusTooManyRequests, problem(fault.Unavailable, why))
}

// addressOf is where a request came from.
func addressOf(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	a, _ := netip.ParseAddr(host)
	return a.Unmap()
}

// gates bound how often whom may come.
type gates struct{ tokens, strangers *gate }

func newGates(l Limits) *gates {
	return &gates{tokens: newGate(rate.Limit(l.PerSecond), l.Burst), strangers: newGate(rate.Limit(l.Strangers)/60, l.Strangers)}
}

// gate bounds how often each of many may come.
type gate struct {
	every rate.Limit
	burst int

	mu   sync.Mutex
	each map[string]*rate.Limiter
}

// mostAtGate bounds the memory of a gate: beyond it all who have not come too often are forgotten.
const mostAtGate = 10_000

func newGate(every rate.Limit, burst int) *gate {
	return &gate{every: every, burst: burst, each: map[string]*rate.Limiter{}}
}

func (g *gate) of(who string, now time.Time) *rate.Limiter {
	if l := g.each[who]; l != nil {
		return l
	}
	if len(g.each) >= mostAtGate {
		for name, l := range g.each {
			if l.TokensAt(now) >= float64(g.burst) {
				delete(g.each, name)
			}
		}
	}
	l := rate.NewLimiter(g.every, g.burst)
	g.each[who] = l
	return l
}

// take notes that somebody came; false if they come too often.
func (g *gate) take(who string, now time.Time) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.of(who, now).AllowN(now, 1)
}
