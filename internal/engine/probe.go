package engine

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/reach"
	"andamio/internal/site"
)

// probeClient asks endpoints; it neither follows redirects nor keeps connections, so that each answer is fresh.
var probeClient = &http.Client{
	Timeout:       5 * time.Second,
	Transport:     &http.Transport{DisableKeepAlives: true, DialContext: dialSoon},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// dialSoon connects to an endpoint, from where the context says: one that is there answers in time.
func dialSoon(ctx context.Context, network, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	return reach.Dial(ctx, network, address)
}

// probe asks an endpoint until it answers as the step's condition demands.
func (e *Engine) probe(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	if s.Check.Address == nil || s.Check.Port == nil {
		return site.Final(fmt.Errorf("%s asks an endpoint, and does not say which", s.ID))
	}
	address, err := s.Check.Address.Text(e)
	if err != nil {
		return err
	}
	port, err := s.Check.Port.Text(e)
	if err != nil {
		return err
	}
	where := net.JoinHostPort(address, port)
	wait := 50 * time.Millisecond
	for {
		said, good := Ask(ctx, s.Check, where)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		events := []run.Event{{Kind: run.Answered, Resource: s.Resource, Text: said, Good: good}}
		if good {
			events = append(events, run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: said})
		}
		if err := e.record(events...); err != nil || good {
			return err
		}
		if err := pause(ctx, wait); err != nil {
			return err
		}
		wait = min(wait*2, 2*time.Second)
	}
}

// maxAnswer bounds what is read of a page.
const maxAnswer = 64 << 10

// Answer is what came of asking an endpoint once.
type Answer struct {
	// Said says it in a line; Good that it is as the condition wants it, Reached that somebody answered, though maybe wrongly.
	Said          string
	Good, Reached bool
	// Took is how long it took to the end of the answer.
	Took time.Duration
}

// Ask makes one real request of an endpoint and says in a line what came back, and whether it is a good answer: a
// connection for tcp, for http a page with the status and the content that the condition names.
func Ask(ctx context.Context, c plan.Condition, where string) (said string, good bool) {
	a := Probe(ctx, c, where)
	return a.Said, a.Good
}

// Probe is [Ask] with all that is known of the answer.
func Probe(ctx context.Context, c plan.Condition, where string) Answer {
	began := time.Now()
	var a Answer
	if c.Kind == plan.CheckHTTP {
		a = askHTTP(ctx, "http://"+where+c.Path, c)
	} else {
		a = askTCP(ctx, where)
	}
	a.Took = time.Since(began)
	return a
}

func askTCP(ctx context.Context, where string) Answer {
	conn, err := dialSoon(ctx, "tcp", where)
	if err != nil {
		return Answer{Said: reason(err) + " · tcp " + where}
	}
	conn.Close()
	return Answer{Said: "open · tcp " + where, Good: true, Reached: true}
}

func askHTTP(ctx context.Context, url string, c plan.Condition) Answer {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return Answer{Said: err.Error()}
	}
	resp, err := probeClient.Do(req)
	if err != nil {
		return Answer{Said: reason(err) + " · " + url}
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if err != nil {
		return Answer{Said: "broke off · " + url, Reached: true}
	}
	said := fmt.Sprintf("%d · %s · %d bytes: %s", resp.StatusCode, url, len(body), firstWords(string(body)))
	if want := cmp.Or(c.Status, http.StatusOK); resp.StatusCode != want {
		return Answer{Said: said, Reached: true}
	}
	if !strings.Contains(string(body), c.Contains) {
		return Answer{Said: fmt.Sprintf("%s (without %q)", said, c.Contains), Reached: true}
	}
	return Answer{Said: said, Good: true, Reached: true}
}

// firstWords is the beginning of a page's text, for telling one page from another.
func firstWords(body string) string {
	text := strings.Join(strings.Fields(body), " ")
	if r := []rune(text); len(r) > 60 {
		return string(r[:59]) + "…"
	}
	return text
}

// reason says why a connection failed in a word.
func reason(err error) string {
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "refused"
	case errors.As(err, &timeout) && timeout.Timeout():
		return "silent"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "unreachable"
	}
	return "no answer"
}

// Certificate asks an endpoint that speaks TLS for its certificate, and returns when that ends. Whether anybody vouches for it is not asked: whoever is late with one is told so by that.
func Certificate(ctx context.Context, where string) (ends time.Time, err error) {
	host, _, err := net.SplitHostPort(where)
	if err != nil {
		return time.Time{}, err
	}
	raw, err := dialSoon(ctx, "tcp", where)
	if err != nil {
		return time.Time{}, err
	}
	defer raw.Close()
	conn := tls.Client(raw, &tls.Config{ServerName: host, InsecureSkipVerify: true}) // nothing is sent or believed
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	if err := conn.HandshakeContext(ctx); err != nil {
		return time.Time{}, err
	}
	all := conn.ConnectionState().PeerCertificates
	if len(all) == 0 {
		return time.Time{}, errors.New("it showed no certificate")
	}
	return all[0].NotAfter, nil
}
