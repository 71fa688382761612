package store

import (
	"context"

	"andamio/internal/core/promise"
)

// PromisesStore keeps what is promised of deployments, with what is due for it.
type PromisesStore interface {
	// SetPromise keeps a promise in the place of another of its kind, and has be due what is due for it, and nothing else of that kind: all or
	// nothing. If was is not nil it does so only if what is kept is that still, else ErrTaken; and what is due as it was goes on as it did: it was seen to up to when it was. A was of no kind says that nothing is kept.
	SetPromise(ctx context.Context, p promise.Promise, was *promise.Promise) error
	// DropPromise has nothing be promised of a kind any more, and nothing be due for it. ErrNotFound says that nothing was. If was is not nil it does so only if what
	// is kept is that still, else ErrTaken.
	DropPromise(ctx context.Context, deployment int64, kind promise.Kind, was *promise.Promise) error
	// Promises are all, by deployment and kind.
	Promises(ctx context.Context) ([]promise.Promise, error)
	// PromiseFirings are the last times at which something was due for a promise, the newest first.
	PromiseFirings(ctx context.Context, deployment int64, kind promise.Kind, limit int) ([]Firing, error)
}
