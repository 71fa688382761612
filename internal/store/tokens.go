package store

import (
	"context"
	"time"

	"andamio/internal/core/token"
)

// Once is a request that is to be done once, however often it comes: the same key with the same digest of what was asked.
type Once struct {
	Who, Key, Digest string
	At               time.Time
	// Status, Type and Body are how it was answered; Status is 0 while it was not.
	Status int
	Type   string
	Body   []byte
}

// OnceStore keeps requests that are to be done once.
type OnceStore interface {
	// KeepOnce keeps a request that was not asked before, and returns true; or returns the one of its key that was.
	KeepOnce(ctx context.Context, o Once) (kept Once, isNew bool, err error)
	// AnswerOnce keeps how it was answered.
	AnswerOnce(ctx context.Context, o Once) error
	// ForgetOnce forgets those that were asked before a time.
	ForgetOnce(ctx context.Context, before time.Time) error
}

// TokensStore keeps tokens, of whose secrets only digests.
type TokensStore interface {
	// AddToken keeps one that was made. ErrTaken says that there is one of its id.
	AddToken(ctx context.Context, t token.Token, s token.Secrets) error
	// Tokens are all, the newest first.
	Tokens(ctx context.Context) ([]token.Token, error)
	// Token is one with the digests of its secrets. ErrNotFound says that there is none.
	Token(ctx context.Context, id string) (token.Token, token.Secrets, error)
	// RotateToken gives one that is not revoked another secret; the one that it has holds until a moment.
	RotateToken(ctx context.Context, id, digest string, until time.Time) error
	// RevokeToken has one be none any more; what was said when it was revoked before stays.
	RevokeToken(ctx context.Context, id, by string, at time.Time) error
	// UseToken notes when it was used, and from where.
	UseToken(ctx context.Context, id string, at time.Time, from string) error
}
