package store

import (
	"time"

	"andamio/internal/core/decide"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
)

// RequestState is how far a request has got by itself; what its run does is the run's to tell.
type RequestState string

// The states. One that was asked again at another price waits for whoever asked. What is approved is about to be built, and what is built has a
// run.
const (
	RequestWaiting   RequestState = "waiting"
	RequestPriced    RequestState = "priced again"
	RequestApproved  RequestState = "approved"
	RequestBuilt     RequestState = "built"
	RequestRefused   RequestState = "refused"
	RequestWithdrawn RequestState = "withdrawn"
)

// ErrNameTaken says that a request which is not over yet has the name.
var ErrNameTaken = fault.Conflictf("something of that name was asked for at this moment")

// Request is what somebody asked of an offer.
type Request struct {
	ID     int64       `json:"id"`
	Offer  string      `json:"offer"`
	Person string      `json:"person"`
	Owner  guard.Owner `json:"owner"`
	RequestBody
	State      RequestState `json:"state"`
	Run        int64        `json:"run,omitempty"`
	Deployment int64        `json:"deployment,omitempty"`
	Created    time.Time    `json:"created"`
	Changed    time.Time    `json:"changed"`
}

// RequestBody is what of a request nobody looks for.
type RequestBody struct {
	// Number is the offer's version, Title what it is called.
	Number  int64         `json:"number"`
	Title   string        `json:"title"`
	Name    string        `json:"name"`
	Answers offer.Answers `json:"answers,omitempty"`
	Why     string        `json:"why,omitempty"`
	// PerHour is the price that was agreed, Hidden that it is not shown; Seconds is how long it was expected to take.
	PerHour  money.Amount `json:"per_hour"`
	Currency string       `json:"currency,omitempty"`
	Hidden   bool         `json:"hidden,omitempty"`
	Seconds  float64      `json:"seconds"`
	// Sites are where it was to stand when it was asked for.
	Sites    []string        `json:"sites,omitempty"`
	Decision decide.Decision `json:"decision"`
	// Yes are who has said yes; Ground is when the decision was asked for.
	Yes   []string  `json:"yes,omitempty"`
	Asked time.Time `json:"asked,omitzero"`
}

// RequestEvent is an entry of a request's thread.
type RequestEvent struct {
	Seq  int64       `json:"seq"`
	At   time.Time   `json:"at"`
	By   guard.Actor `json:"by"`
	Rule string      `json:"rule,omitempty"`
	// Stage is what it came to; "" is something said.
	Stage string `json:"stage,omitempty"`
	Text  string `json:"text"`
}
