package store

import (
	"time"

	"andamio/internal/core/guard"
)

// ProposalState is how far a proposal is.
type ProposalState string

// The states. One that is open and whose time is over is confirmed no more.
const (
	ProposalOpen      ProposalState = "open"
	ProposalConfirmed ProposalState = "confirmed"
	ProposalWithdrawn ProposalState = "withdrawn"
	// ProposalLapsed proposals were confirmed by nobody while they held.
	ProposalLapsed ProposalState = "lapsed"
)

// ProposalKind is of what a proposal is.
type ProposalKind string

// The kinds: a plan, a wave of a move, settling findings.
const (
	ProposalPlan   ProposalKind = ""
	ProposalMove   ProposalKind = "move"
	ProposalSettle ProposalKind = "settle"
)

// Settles reports that a proposal is to settle findings.
func (p *Proposal) Settles() bool { return p.Kind == ProposalSettle }

// Moves reports that a proposal is to begin a wave of a move.
func (p *Proposal) Moves() bool { return p.Kind == ProposalMove }

// Outcome is what came of a proposal: a run, the act of settling, or both.
type Outcome struct {
	Run int64 `json:"run,omitempty"`
	Act int64 `json:"act,omitempty"`
}

// Proposal is something that somebody proposed.
type Proposal struct {
	ID      int64        `json:"proposal"`
	Kind    ProposalKind `json:"kind,omitempty"`
	Created time.Time    `json:"created"`
	Until   time.Time    `json:"until"`
	By      guard.Actor  `json:"by"`
	// Deployment is what the plan changes, 0 for a new one; Name is its name, Template where its template was opened.
	Deployment int64  `json:"deployment,omitempty"`
	Name       string `json:"name"`
	Purpose    string `json:"purpose"`
	Template   string `json:"template,omitempty"`
	// Plan and Wanted are kept plans: what is done, and the whole design that it leads to, 0 for none.
	Plan   int64  `json:"-"`
	Wanted int64  `json:"-"`
	Limits string `json:"-"`
	// Ground is what it was worked out from, as JSON.
	Ground string        `json:"-"`
	State  ProposalState `json:"state"`
	// Body is what is to be moved or settled, as JSON.
	Body string `json:"-"`
	Outcome
}
