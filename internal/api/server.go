// Package api serves a workspace to programs: over HTTP/1.1 and 2, with what commands do as operations, described by an OpenAPI document that is made of them. Whoever comes shows
// a token, and may what its person may within the token's bounds. docs/api.md says how it is used.
package api

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humago"
	jsonv2 "github.com/go-json-experiment/json"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/reply"
)

// Version is that of the interface: paths begin with it, and within it nothing is taken away.
const Version = "v1"

// Limits bound what programs may use of a server.
type Limits struct {
	// PerSecond is how many requests a second a token may make, and Burst how many at once; Strangers how many a minute an address may make without one that holds.
	PerSecond, Burst, Strangers int
	// Body and Upload are how many bytes of a request are read: of a value, and of a file.
	Body, Upload int64
	// Patience is how long an operation may take that is no stream.
	Patience time.Duration
	// Followers is how many streams there may be at once, Send how long one may take for what it is sent.
	Followers int
	Send      time.Duration
	// Sessions is how many commands and screens are run at once for those who are elsewhere, Large how many bytes there may be of a file that goes to a disk, and of those that come with a session.
	Sessions int
	Large    int64
}

// Usual are the limits where nobody says otherwise.
var Usual = Limits{PerSecond: 50, Burst: 200, Strangers: 30, Body: 1 << 20, Upload: 256 << 20, Patience: time.Minute, Followers: 1000, Send: 10 * time.Second, Sessions: 100, Large: 8 << 30}

// Server is the interface of one workspace.
type Server struct {
	app *app.App
	// shared is what is heard once for all that follow it, whoever serves.
	shared *app.App
	limits Limits
	api    huma.API
	mux    *http.ServeMux
	gates  *gates
	twins  []Twin
	follow chan struct{}
	hub    *hub
	// visits runs what those ask for who are elsewhere, as many at once as visiting has room for.
	visits   Visits
	visiting chan struct{}
	ongoing  sync.WaitGroup
	bearing  bearing
}

// Twin is an operation with the commands that do the same.
type Twin struct {
	// Operation is its id.
	Operation string
	// Commands are those of which it is the twin, as they are written: "snapshot take".
	Commands []string
}

// New makes the interface of a workspace.
func New(a *app.App, limits Limits) *Server {
	s := &Server{app: a, shared: a.Shared(), limits: limits, mux: http.NewServeMux(), gates: newGates(limits), follow: make(chan struct{}, limits.Followers), hub: &hub{all: map[int64]*hearing{}}, visiting: make(chan struct{}, limits.Sessions)}
	c := huma.Config{OpenAPI: &huma.OpenAPI{OpenAPI: "3.1.0", Info: &huma.Info{Title: "Andamio", Version: "1", Description: description},
		Components: &huma.Components{Schemas: schemas(), SecuritySchemes: map[string]*huma.SecurityScheme{
			"token": {Type: "http", Scheme: "bearer", Description: "a token, as andamio token make says it"}}},
		Security: []map[string][]string{{"token": {}}}},
		Formats: map[string]huma.Format{"application/json": inJSON, "json": inJSON}, DefaultFormat: "application/json", NoFormatFallback: false, RejectUnknownQueryParameters: true}
	s.api = humago.New(s.mux, c)
	for _, add := range []func(*Server){deploymentOperations, runOperations, proposalOperations, planOperations, siteOperations, watchOperations, promiseOperations, moveOperations,
		inventoryOperations, requestOperations, fileOperations, workspaceOperations, tokenOperations, signInOperations, promisingOperations, measuringOperations, connectingOperations, steeringOperations, managingOperations, rehearsingOperations, offerOperations, requestActs, workerOperations, peopleOperations, actingOperations, levelOperations, endingOperations, transferOperations, packageOperations, consoleOperations} {
		add(s)
	}
	s.mux.HandleFunc("GET /"+Version+"/openapi.json", s.document)
	s.mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, problemOf(fault.NotFoundf("there is nothing at %s %s: see /%s/openapi.json", r.Method, r.URL.Path, Version)))
	})
	return s
}

const description = `What commands do, for programs. Errors are problem details (RFC 9457) with the code that commands have. What changes anything is worked out and answered first: with
"confirm", the name of the deployment, it is begun, and with "propose" it is kept for somebody to confirm. A POST may carry an Idempotency-Key: repeated within a day it is answered as it was. Lists are
cut into pages. What was asked for by GET has an ETag.`

// inJSON writes values as commands do, with no list that is null.
var inJSON = huma.Format{
	Marshal:   func(w io.Writer, v any) error { return jsonv2.MarshalWrite(w, v, reply.AsJSON) },
	Unmarshal: func(data []byte, v any) error { return jsonv2.Unmarshal(data, v, jsonv2.RejectUnknownMembers(false)) },
}

// Twins are all operations with the commands that do the same.
func (s *Server) Twins() []Twin { return s.twins }

// Document is the OpenAPI document (OpenAPI 3.1.0).
func (s *Server) Document() ([]byte, error) { return json.MarshalIndent(s.api.OpenAPI(), "", "  ") }

func (s *Server) document(w http.ResponseWriter, _ *http.Request) {
	data, err := s.Document()
	if err != nil {
		writeProblem(w, problemOf(err))
		return
	}
	w.Header().Set("Content-Type", "application/vnd.oai.openapi+json;version=3.1")
	_, _ = w.Write(data)
}

// Handler answers requests: whoever comes without a token that holds is told no more than that.
func (s *Server) Handler() http.Handler {
	return s.recovering(s.upgrading(s.entering(s.tagging(s.repeating(s.mux)))))
}

// recovering answers what should not happen, and says in the log what it was.
func (s *Server) recovering(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if x := recover(); x != nil && x != http.ErrAbortHandler {
				s.app.Log.Error("a request failed as none should", "method", r.Method, "path", r.URL.Path, "err", x)
				writeProblem(w, unexpected())
			}
		}()
		// Nobody holds a connection for longer than an operation may take; a stream sets its own times.
		control, now := http.NewResponseController(w), time.Now()
		_, _ = control.SetReadDeadline(now.Add(s.limits.Patience)), control.SetWriteDeadline(now.Add(2*s.limits.Patience))
		h := w.Header()
		h.Set("Cache-Control", "no-store")
		h.Set("X-Content-Type-Options", "nosniff")
		next.ServeHTTP(w, r)
	})
}

// Where says where a server listens.
type Where struct {
	// Address is ADDRESS:PORT. Certificate and Key are files in PEM; Clients one of authorities by which programs must be known besides.
	Address, Certificate, Key, Clients string
}

// Open listens. In clear it does on this machine alone.
func (w Where) Open() (net.Listener, error) {
	c, err := w.config()
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", w.Address)
	if err != nil {
		return nil, fault.Unavailablef("programs cannot be served at %s: %w", w.Address, err)
	}
	if c != nil {
		return tls.NewListener(l, c), nil
	}
	if at, is := l.Addr().(*net.TCPAddr); is && !at.IP.IsLoopback() {
		return nil, errors.Join(fault.Refusedf("programs are served in clear on this machine alone, and %s is not: name a certificate and its key, or have some made by --tls-init", w.Address), l.Close())
	}
	return l, nil
}

// grace is how long requests may go on after the server was to end.
const grace = 5 * time.Second

// Serve answers until the context ends.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	h := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return ctx }, ErrorLog: slog.NewLogLogger(s.app.Log.Handler(), slog.LevelDebug)}
	ended := make(chan error, 1)
	go func() { ended <- h.Serve(l) }()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	// Streams end with the context; others have a moment.
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), grace)
	defer cancel()
	err := h.Shutdown(end)
	if errors.Is(err, context.DeadlineExceeded) {
		err = h.Close()
	}
	<-ended
	s.forgetting()
	return err
}

// scheme is what addresses of a listener begin with.
func scheme(l net.Listener) string {
	if _, plain := l.(*net.TCPListener); plain {
		return "http"
	}
	return "https"
}

// URL is where a listener's server is reached.
func URL(l net.Listener) string { return scheme(l) + "://" + l.Addr().String() + "/" + Version }

// isStream reports that a request asks for events as they happen, or for a file.
func isStream(r *http.Request) bool {
	return strings.HasSuffix(r.URL.Path, "/events") || strings.HasSuffix(r.URL.Path, "/file")
}
