package store

import (
	"context"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
)

// AlertsStore keeps alerts, and what people said of them.
type AlertsStore interface {
	// KeepAlerts keeps alerts as they are now, all or none. What was said of them stays as it is.
	KeepAlerts(ctx context.Context, all []alarm.Alert) error
	// OpenAlerts are those that go on, the oldest first, with what was said of them.
	OpenAlerts(ctx context.Context) ([]alarm.Alert, error)
	// AlertsSince are those that went on at a time or later, the newest first, at most so many.
	AlertsSince(ctx context.Context, since time.Time, most int) ([]alarm.Alert, error)
	// Alert is one of them.
	Alert(ctx context.Context, id int64) (alarm.Alert, error)
	// LastAlert is the last number that was given; 0 if none was.
	LastAlert(ctx context.Context) (int64, error)
	// SayOfAlert keeps what somebody says of an alert, in the place of what was said by the same word; nil takes it back.
	SayOfAlert(ctx context.Context, id int64, word AlertWord, said *alarm.Said) error
}

// AlertWord is what is said of an alert.
type AlertWord string

// The words: somebody sees to it, or nobody is to be told of it for a while.
const (
	Acknowledged AlertWord = "acknowledged"
	Silenced     AlertWord = "silenced"
)

// MeasuresStore keeps what was measured. It is apart from the [Store], since there is much of it, and none of it is worth waiting for when a journal is written.
type MeasuresStore interface {
	// KeepThings keeps what is known of things, by their keys, and returns them with their numbers, in the same order.
	KeepThings(ctx context.Context, all []measure.Thing) ([]measure.Thing, error)
	// Things are all that were ever measured, by their numbers.
	Things(ctx context.Context) ([]measure.Thing, error)
	// KeepTails keeps what is in no row yet.
	KeepTails(ctx context.Context, tails []measure.Tail) error
	// Tails are those of a group, or of all groups where that is below 0, in the order of their time.
	Tails(ctx context.Context, group int64) ([]measure.Tail, error)
	// KeepRows keeps rows, in the place of those of the same thing and time, and has the tails be no more that are of rows that begin at that slot or before.
	KeepRows(ctx context.Context, rows []measure.Row, upTo int64) error
	// Rows are those of a thing of one level that begin at a slot or later, and before another, in the order of their time.
	Rows(ctx context.Context, thing int64, level measure.Level, from, to int64) ([]measure.Row, error)
	// Unrolled are things, at most so many, that have rows of a level from a slot on and before another, and none of the next level that begins at a slot.
	Unrolled(ctx context.Context, level measure.Level, from, to, next int64, most int) ([]int64, error)
	// Drop has the rows of a level be no more that begin before a slot.
	Drop(ctx context.Context, level measure.Level, before int64) error
	// Size is how many bytes it takes.
	Size(ctx context.Context) (int64, error)
	// Oldest is the slot at which the oldest row of a level begins; false if there is none.
	Oldest(ctx context.Context, level measure.Level) (int64, bool, error)
	// Close frees what it holds.
	Close() error
}
