package store

import (
	"time"

	"andamio/internal/core/inventory"
)

// RecordChange is a change of one record: After is nil where it goes, Before where it comes.
type RecordChange struct {
	ID            string            `json:"id"`
	Before, After *inventory.Record `json:"-"`
	Why           string            `json:"why"`
	// At, Who and Act say when, by whom and by which act, in a history.
	At  time.Time `json:"at"`
	Who string    `json:"who"`
	Act int64     `json:"act,omitempty"`
}

// Settlement is what a person did to findings.
type Settlement struct {
	ID     int64
	At     time.Time
	Who    string
	Undone bool
	Body   []byte
}

// SettlementChanges is all that an act does to the inventory, done in one transaction.
type SettlementChanges struct {
	Body    []byte
	Changes []RecordChange
	Ignore  []Ignoring
	Decide  []inventory.Decision
}

// Ignoring is a finding that is let be, and why.
type Ignoring struct {
	inventory.Ignored
	Reason string `json:"reason"`
	Act    int64  `json:"act"`
}
