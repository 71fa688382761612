package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"regexp"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/service/tokens"
)

// recorder keeps an answer instead of sending it.
type recorder struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (r *recorder) Header() http.Header { return r.header }

func (r *recorder) WriteHeader(status int) {
	if r.status == 0 {
		r.status = status
	}
}

func (r *recorder) Write(data []byte) (int, error) {
	r.WriteHeader(http.StatusOK)
	return r.body.Write(data)
}

// send sends the answer that was kept.
func (r *recorder) send(w http.ResponseWriter) {
	for name, all := range r.header {
		w.Header()[name] = all
	}
	w.WriteHeader(max(r.status, http.StatusOK))
	_, _ = w.Write(r.body.Bytes())
}

// tagging gives what is read a tag, and says of what a program has by it that it is as it was (RFC 9110, sections 8.8.3 and 13.1.2).
func (s *Server) tagging(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead || isStream(r) {
			next.ServeHTTP(w, r)
			return
		}
		rec := &recorder{header: w.Header().Clone()}
		next.ServeHTTP(rec, r)
		if rec.status != http.StatusOK {
			rec.send(w)
			return
		}
		if rec.header.Get("ETag") == "" {
			rec.header.Set("ETag", tagOf(rec.body.Bytes()))
		}
		if fits(r.Header.Get("If-None-Match"), rec.header.Get("ETag")) {
			w.Header().Set("ETag", rec.header.Get("ETag"))
			w.WriteHeader(http.StatusNotModified)
			return
		}
		rec.send(w)
	})
}

// tagOf is the tag of something.
func tagOf(data []byte) string {
	sum := sha256.Sum256(data)
	return `"` + hex.EncodeToString(sum[:16]) + `"`
}

// fits reports that a tag is one of those of a header, or that any is.
func fits(header, tag string) bool {
	for one := range strings.SplitSeq(header, ",") {
		if one = strings.TrimPrefix(strings.TrimSpace(one), "W/"); one == "*" || one == tag {
			return true
		}
	}
	return false
}

// keys are what an Idempotency-Key is made of.
var keys = regexp.MustCompile(`^[\x21-\x7e]{1,200}$`)

// repeating answers what is asked again with an Idempotency-Key as it was answered, and does it once.
func (s *Server) repeating(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Idempotency-Key")
		if r.Method != http.MethodPost || key == "" {
			next.ServeHTTP(w, r)
			return
		}
		if why := unkept(r.URL.Path); why != "" {
			writeProblem(w, problem(fault.Invalid, why+", and nothing of it is kept: this takes no Idempotency-Key"))
			return
		}
		if !keys.MatchString(key) {
			writeProblem(w, problem(fault.Invalid, "an Idempotency-Key is 200 visible characters at most"))
			return
		}
		data, err := io.ReadAll(http.MaxBytesReader(w, r.Body, s.limits.Upload))
		if err != nil {
			writeProblem(w, withStatus(http.StatusRequestEntityTooLarge, problem(fault.Invalid, "it is too large")))
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(data))
		s.once(w, r, next, key, data)
	})
}

// unkept is why nothing is kept of what is asked for at a path, "" if it is: secrets of tokens and credentials of sites, what machines say, and packages.
func unkept(path string) string {
	if strings.HasPrefix(path, "/"+Version+"/packages") {
		return "what is sent here may be large"
	}
	for _, of := range []string{"/tokens", "/sign-in", "/sites", "/instances/"} {
		if strings.HasPrefix(path, "/"+Version+of) {
			return "what is sent or answered here may be secret"
		}
	}
	return ""
}

// once does a request that was not done before, and answers one that was as then.
func (s *Server) once(w http.ResponseWriter, r *http.Request, next http.Handler, key string, data []byte) {
	v := visitorOf(r.Context())
	asked := sha256.Sum256([]byte(r.Method + " " + r.URL.String() + "\n" + r.Header.Get("Content-Type") + "\n" + string(data)))
	was, err := v.app.Once(r.Context(), key, hex.EncodeToString(asked[:]), time.Now())
	if err != nil {
		writeProblem(w, problemOf(err))
		return
	}
	rec := &recorder{header: w.Header().Clone()}
	if was != nil {
		rec.header.Set("Content-Type", was.Type)
		rec.header.Set("Idempotency-Replayed", "true")
		rec.status = was.Status
		rec.body.Write(was.Body)
		rec.send(w)
		return
	}
	// What was begun is done, and known, also where whoever asked does not wait.
	next.ServeHTTP(rec, r.WithContext(context.WithoutCancel(r.Context())))
	err = v.app.WasAnswered(context.WithoutCancel(r.Context()), key, tokens.Answered{Status: max(rec.status, http.StatusOK), Type: rec.header.Get("Content-Type"), Body: rec.body.Bytes()})
	if err != nil {
		s.app.Log.Error("it could not be kept how a request was answered", "err", err)
	}
	rec.send(w)
}
