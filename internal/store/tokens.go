package store

import (
	"context"
	"time"

	"andamio/internal/core/token"
)

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
