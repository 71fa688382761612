package workspace

import (
	"context"
	"regexp"
	"sync"

	"andamio/internal/core/fault"
	"andamio/internal/durable"
	"andamio/internal/reach"
)

// ways are the pools through which sites are reached, as they were read last, as long as what is kept of sites is the same.
type ways struct {
	mu    sync.Mutex
	stamp durable.Stamp
	read  map[string]string
}

// route reaches a site through a pool; nil is from here.
func (w *Workspace) route(pool, site string) reach.Dialer {
	if pool == "" || w.Routes == nil {
		return nil
	}
	return w.Routes(pool, site)
}

// poolName is what pools of workers may be called.
var poolName = regexp.MustCompile(`^[a-z0-9]([a-z0-9._-]{0,61}[a-z0-9])?$`)

// CheckPool says what is the matter with the name of a pool of workers.
func CheckPool(name string) error {
	if !poolName.MatchString(name) {
		return fault.Invalidf("%q is no name of a pool of workers: it is made of small letters, digits, dots, hyphens and underscores", name)
	}
	return nil
}

// Routed is a connection that is not kept yet, which is reached as it says.
func (w *Workspace) Routed(c Connection) Connection {
	c.dial = w.route(c.Through, c.Site)
	return c
}

// Through is the pool of workers through which a site is reached; "" is from here.
func (w *Workspace) Through(site string) string {
	stamp, err := w.files.Stamp(FileSites)
	if err != nil {
		return ""
	}
	w.ways.mu.Lock()
	defer w.ways.mu.Unlock()
	if w.ways.read == nil || w.ways.stamp != stamp {
		var all []Connection
		if w.ReadJSON(FileSites, &all) != nil {
			return ""
		}
		w.ways.read, w.ways.stamp = map[string]string{}, stamp
		for i := range all {
			w.ways.read[all[i].Site] = all[i].Through
		}
	}
	return w.ways.read[site]
}

// Reaching has what is at sites be reached as their connections say, wherever a context says at which site it is.
func (w *Workspace) Reaching(ctx context.Context) context.Context {
	return reach.Ways(ctx, func(site string) reach.Dialer { return w.route(w.Through(site), site) })
}

// At has what is asked in a context be reached as what is at a site is: machines, endpoints.
func (w *Workspace) At(ctx context.Context, site string) context.Context {
	return reach.From(ctx, w.route(w.Through(site), site))
}
