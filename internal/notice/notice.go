// Package notice sends and receives signed notices over HTTP, so that a site can say that something of it has changed
// instead of being asked.
//
// A notice is a CloudEvent 1.0: sent in the structured JSON mode of its HTTP binding, and heard in all three. Two header fields go with it: the time
// at which it was signed, in seconds since 1970, and the signature, an HMAC-SHA256 over that time, a full stop and the
// body, before which the attributes are in the binary mode (see [signed]). What is badly signed, old, oversized or heard before is refused. A notice is only a hint to look: what is so is
// read from the site.
package notice

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
)

// The header fields, and the type of notices that a resource has changed.
const (
	HeaderTime      = "Andamio-Time"
	HeaderSignature = "Andamio-Signature"
	TypeChanged     = "example.andamio.resource.changed"
	TypeMessage     = "example.andamio.message"
	scheme          = "sha256="
)

// Bounds of what is received: how large a notice may be, and how far its time may lie from now.
const (
	MaxBody = 64 << 10
	MaxAge  = 5 * time.Minute
)

// Changed is the data of a notice that a resource has changed.
type Changed struct {
	Kind  string `json:"kind"`
	ID    string `json:"id"`
	State string `json:"state"`
	// Sequence grows with every change of the resource.
	Sequence int64 `json:"sequence"`
}

// New makes an event with an id of its own.
func New(kind, source, subject string, at time.Time, data any) (event.Event, error) {
	e := event.New()
	e.SetID(rand.Text())
	e.SetType(kind)
	e.SetSource(source)
	if subject != "" {
		e.SetSubject(subject)
	}
	e.SetTime(at)
	return e, e.SetData(event.ApplicationJSON, data)
}

// Sign is the signature of a body at a time.
func Sign(secret string, at time.Time, body []byte) string {
	h := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(h, "%d.", at.Unix())
	h.Write(body)
	return scheme + hex.EncodeToString(h.Sum(nil))
}

// Post posts an event to a sink, signed, and returns the answer, whose body whoever asked closes.
func Post(ctx context.Context, client *http.Client, sink, secret string, e event.Event, at time.Time) (*http.Response, error) {
	body, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	return post(ctx, client, sink, secret, structured, body, at)
}

// post posts a body that has all of its events in it, signed.
func post(ctx context.Context, client *http.Client, sink, secret, media string, body []byte, at time.Time) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, sink, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", media)
	req.Header.Set(HeaderTime, strconv.FormatInt(at.Unix(), 10))
	req.Header.Set(HeaderSignature, Sign(secret, at, body))
	return client.Do(req)
}

// Send posts an event to a sink, signed. Any answer but a success is an error.
func Send(ctx context.Context, client *http.Client, sink, secret string, e event.Event, at time.Time) error {
	resp, err := Post(ctx, client, sink, secret, e, at)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, MaxBody))
	if resp.StatusCode >= 300 {
		return fmt.Errorf("%s answered %s", sink, resp.Status)
	}
	return nil
}

// Receiver is an HTTP handler that gives good notices to Hear, each once.
type Receiver struct {
	Secret string
	// Also tells of another secret that counts, "" if there is none; it may be nil.
	Also func() string
	Hear func(event.Event)
	// Now is the clock; nil is the real one.
	Now func() time.Time

	mu    sync.Mutex
	heard map[string]time.Time
	swept time.Time
}

// ServeHTTP checks a notice, or several together, and answers 204; 400 for what is no notice, 401 for a wrong signature or time, 409 for one
// that was heard before, 413 for one too large, 415 for what is in none of the modes of CloudEvents. OPTIONS asks whether notices may be posted.
func (r *Receiver) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	if req.Method == http.MethodOptions {
		allow(w, req.Header)
		return
	}
	if req.Method != http.MethodPost {
		w.Header().Set("Allow", "POST, OPTIONS")
		http.Error(w, "notices are posted", http.StatusMethodNotAllowed)
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, req.Body, MaxBody))
	if err != nil {
		http.Error(w, "the notice is too large", http.StatusRequestEntityTooLarge)
		return
	}
	if status, err := r.Take(req.Header, body); err != nil {
		http.Error(w, err.Error(), status)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// Take checks a notice, or several together, that came in some way with header fields, and gives what is good to Hear. What is wrong is an error, with the status that says
// so over HTTP.
func (r *Receiver) Take(header http.Header, body []byte) (status int, err error) {
	now := time.Now()
	if r.Now != nil {
		now = r.Now()
	}
	if why := r.verify(header, signed(header, body), now); why != "" {
		return http.StatusUnauthorized, errors.New(why)
	}
	all, err := read(header, body)
	switch {
	case errors.Is(err, errMedia):
		return http.StatusUnsupportedMediaType, err
	case err != nil:
		return http.StatusBadRequest, err
	}
	again := 0
	for _, e := range all {
		if !r.first(e.Source()+" "+e.ID(), now) {
			again++
			continue
		}
		r.Hear(e)
	}
	if again > 0 && again == len(all) {
		return http.StatusConflict, errors.New("this notice was heard before")
	}
	return http.StatusNoContent, nil
}

// verify says what is wrong with a signature or its time, "" if nothing is.
func (r *Receiver) verify(h http.Header, body []byte, now time.Time) string {
	seconds, err := strconv.ParseInt(h.Get(HeaderTime), 10, 64)
	if err != nil {
		return "the notice does not say when it was signed"
	}
	at := time.Unix(seconds, 0)
	if age := now.Sub(at); age > MaxAge || age < -MaxAge {
		return "the notice was signed too long ago, or the clocks differ"
	}
	if !r.vouched(h.Get(HeaderSignature), at, body) {
		return "the signature is not right"
	}
	return ""
}

// vouched reports that a signature was made with a secret that counts.
func (r *Receiver) vouched(got string, at time.Time, body []byte) bool {
	if !strings.HasPrefix(got, scheme) {
		return false
	}
	if hmac.Equal([]byte(got), []byte(Sign(r.Secret, at, body))) {
		return true
	}
	if r.Also == nil {
		return false
	}
	other := r.Also()
	return other != "" && hmac.Equal([]byte(got), []byte(Sign(other, at, body)))
}

// first reports that an event is heard for the first time. What is older than a notice may be is forgotten.
func (r *Receiver) first(key string, now time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.heard == nil {
		r.heard = map[string]time.Time{}
	}
	if _, again := r.heard[key]; again {
		return false
	}
	r.heard[key] = now
	if now.Sub(r.swept) > MaxAge {
		r.swept = now
		for k, at := range r.heard {
			if now.Sub(at) > 2*MaxAge {
				delete(r.heard, k)
			}
		}
	}
	return true
}
