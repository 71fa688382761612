package sandbox

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"

	"andamio/internal/site/occi/wire"
)

// Fault is one way in which a stand-in misbehaves, as real sites do.
type Fault string

// The faults.
const (
	// Unavailable answers 503 and does nothing; Throttle 429 with a Retry-After; Refuse 400.
	Unavailable Fault = "unavailable"
	Throttle    Fault = "throttle"
	Refuse      Fault = "refuse"
	// Silent takes the request and neither acts nor answers; Lost acts, and its answer never comes.
	Silent Fault = "silent"
	Lost   Fault = "lost"
	// Phantom says that it was done and did nothing; Deny says that it failed and did it.
	Phantom Fault = "phantom"
	Deny    Fault = "deny"
	// Broken builds something that ends in error.
	Broken Fault = "broken"
	// Crashed acts, and the site crashes before it answers, with all that runs there; it comes back. Only stand-ins that keep
	// what they hold do so.
	Crashed Fault = "crashed"
	// Twice sends each notice twice, Shuffled late and in another order.
	Twice    Fault = "twice"
	Shuffled Fault = "shuffled"
)

// Rule says when a stand-in misbehaves.
type Rule struct {
	Fault Fault
	// Site, Call (create, read, list, change, act, delete) and Term (compute, storage...) bound where; "" is anywhere.
	Site, Call, Term string
	// Region bounds listings to those of a region; the first Skip calls that fit are let pass.
	Region string
	Skip   int
	// Times is how often; 0 is without end. Share is how likely each time; 0 is always.
	Times int
	Share float64
}

// faults are the rules of a sandbox.
type faults struct {
	mu    sync.Mutex
	rules []Rule
	rand  *rand.Rand
}

// Misbehave replaces the rules by which the stand-ins misbehave.
func (s *Sandbox) Misbehave(rules ...Rule) {
	s.faults.mu.Lock()
	defer s.faults.mu.Unlock()
	s.faults.rules = rules
}

// Troubles is a mixture of faults, each call meeting one with the probability given: what a soak test is run with.
// Silence is rarer, since it costs a caller its patience.
func Troubles(share float64) []Rule {
	var out []Rule
	for _, r := range []Rule{{Fault: Unavailable}, {Fault: Deny, Call: "create"}, {Fault: Deny, Call: "delete"},
		{Fault: Phantom, Call: "create"}, {Fault: Phantom, Call: "delete"}, {Fault: Broken, Call: "create"}, {Fault: Twice}, {Fault: Shuffled}} {
		r.Share = share
		out = append(out, r)
	}
	out = append(out, Rule{Fault: Crashed, Call: "create", Share: share / 40}, Rule{Fault: Crashed, Call: "act", Share: share / 40})
	for _, r := range []Rule{{Fault: Lost, Call: "create"}, {Fault: Lost, Call: "delete"}, {Fault: Silent}, {Fault: Throttle}} {
		r.Share = share / 4
		out = append(out, r)
	}
	return out
}

// pick is the fault that a call meets, "" if none.
func (f *faults) pick(site, call, term string, among ...Fault) Fault {
	return f.pickIn("", site, call, term, among...)
}

// pickIn is the same for a call that is about one region.
func (f *faults) pickIn(region, site, call, term string, among ...Fault) Fault {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range f.rules {
		r := &f.rules[i]
		fits := (r.Site == "" || r.Site == site) && (r.Call == "" || r.Call == call) && (r.Term == "" || r.Term == term) && (r.Region == "" || r.Region == region)
		for _, a := range among {
			if r.Fault == a && fits && r.Times >= 0 && (r.Share == 0 || f.rand.Float64() < r.Share) {
				if r.Skip > 0 {
					r.Skip--
					break
				}
				if r.Times > 0 {
					if r.Times--; r.Times == 0 {
						r.Times = -1
					}
				}
				return r.Fault
			}
		}
	}
	return ""
}

// callOf names a request: what it does, and to what kind of thing.
func callOf(r *http.Request) (call, term string) {
	term, id, _ := strings.Cut(strings.Trim(r.URL.Path, "/"), "/")
	switch {
	case r.Method == http.MethodDelete:
		return "delete", term
	case r.Method == http.MethodGet && id == "":
		return "list", term
	case r.Method == http.MethodGet:
		return "read", term
	case id == "":
		return "create", term
	case r.URL.Query().Get("action") != "":
		return "act", term
	}
	return "change", term
}

// misbehave lets a request meet its fault; false if it meets none and is to be answered properly.
func (c *Cloud) misbehave(w http.ResponseWriter, r *http.Request) bool {
	call, term := callOf(r)
	if terms[term].kind == "" {
		return false // facts and notices are not tampered with
	}
	switch c.faults.pickIn(r.URL.Query().Get(wire.ParamRegion), c.site.Name, call, term, Unavailable, Throttle, Refuse, Silent, Lost, Phantom, Deny, Broken, Crashed) {
	case Unavailable:
		refuse(w, http.StatusServiceUnavailable, "come back later")
	case Throttle:
		w.Header().Set("Retry-After", "1")
		refuse(w, http.StatusTooManyRequests, "too many requests")
	case Refuse:
		refuse(w, http.StatusBadRequest, "this is not allowed here")
	case Silent:
		<-r.Context().Done()
	case Lost:
		c.serve(httptest.NewRecorder(), r)
		<-r.Context().Done()
	case Deny:
		c.serve(httptest.NewRecorder(), r)
		refuse(w, http.StatusInternalServerError, "something went wrong")
	case Crashed:
		if c.folder == "" {
			return false
		}
		c.serve(httptest.NewRecorder(), r)
		go c.crash()
		<-r.Context().Done()
	case Phantom:
		c.pretend(w, call, term)
	case Broken:
		if call != "create" {
			return false
		}
		r.Header.Set(headerBroken, "1")
		c.serve(w, r)
	default:
		return false
	}
	return true
}

// headerBroken marks a request within the stand-in, never on the wire: what it builds is to end in error.
const headerBroken = "X-Sandbox-Broken"

// pretend answers as if a call had been obeyed.
func (c *Cloud) pretend(w http.ResponseWriter, call, term string) {
	switch call {
	case "create":
		c.mu.Lock()
		c.next++
		id := fmt.Sprintf("%s-%s-%d", c.site.Name, term, c.next)
		c.mu.Unlock()
		l := lives[term]
		respond(w, http.StatusCreated, wire.Resource{Kind: terms[term].kind, ID: id, Attributes: map[string]any{l.state: l.inactive, l.word: "accepted"}})
	case "delete":
		w.WriteHeader(http.StatusNoContent)
	default:
		refuse(w, http.StatusServiceUnavailable, "come back later")
	}
}
