// Package reach is how what is asked over the network is reached: from here, or from elsewhere, where a context says so. Whoever asks a machine, an endpoint or a site
// connects with [Dial], and need not know which it is.
package reach

import (
	"context"
	"fmt"
	"net"
)

// Dialer connects to an address, as [net.Dialer.DialContext] does.
type Dialer func(ctx context.Context, network, address string) (net.Conn, error)

// NoWay is why there is no way to a site: those through whom it is reached are not there, or do not reach it.
type NoWay struct {
	Site string
	Through
	// Err is why the last that was tried does not reach it; nil if none is there.
	Err error
}

func (n *NoWay) Error() string {
	if n.Err == nil {
		return fmt.Sprintf("%s is reached through workers of the pool %s, and none is there (andamio work --join)", n.Site, n.Whom())
	}
	return fmt.Sprintf("%s is reached through workers of the pool %s: %v", n.Site, n.Whom(), n.Err)
}

func (n *NoWay) Unwrap() error { return n.Err }

type key struct{}

// From has what is asked in a context be reached by a dialer; nil is from here.
func From(ctx context.Context, d Dialer) context.Context {
	if d == nil && ctx.Value(key{}) == nil {
		return ctx
	}
	return context.WithValue(ctx, key{}, d)
}

type waysKey struct{}

// Ways has what is at sites be reached by their dialers, wherever a context says at which site it is ([At]).
func Ways(ctx context.Context, of func(site string) Dialer) context.Context {
	return context.WithValue(ctx, waysKey{}, of)
}

// At has what is asked in a context be reached as what is at a site is.
func At(ctx context.Context, site string) context.Context {
	of, _ := ctx.Value(waysKey{}).(func(site string) Dialer)
	if of == nil {
		return ctx
	}
	return From(ctx, of(site))
}

// Dial connects to an address from where the context says.
func Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if d, _ := ctx.Value(key{}).(Dialer); d != nil {
		return d(ctx, network, address)
	}
	return new(net.Dialer).DialContext(ctx, network, address)
}
