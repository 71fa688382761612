package workspace

import (
	"context"
	"sync"
	"time"

	"andamio/internal/durable"
	"andamio/internal/reach"
)

// ways are the workers through which sites are reached, as they were read last, as long as what is kept of sites is the same.
type ways struct {
	mu    sync.Mutex
	stamp durable.Stamp
	read  map[string]reach.Through
}

// route reaches a site through workers; nil is from here.
func (w *Workspace) route(through reach.Through, site string) reach.Dialer {
	if through.Pool == "" || w.Routes == nil {
		return nil
	}
	return w.Routes(through, site)
}

// Routed is a connection that is not kept yet, which is reached as it says.
func (w *Workspace) Routed(c Connection) Connection {
	c.dial = w.route(c.Workers(), c.Site)
	return c
}

// Workers are those through whom the site is reached.
func (c *Connection) Workers() reach.Through {
	t, _ := reach.ReadThrough(c.Through) // checked before it was kept
	return t
}

// Through says through which workers a site is reached.
func (w *Workspace) Through(site string) reach.Through {
	stamp, err := w.files.Stamp(FileSites)
	if err != nil {
		return reach.Through{}
	}
	w.ways.mu.Lock()
	defer w.ways.mu.Unlock()
	if w.ways.read == nil || w.ways.stamp != stamp {
		var all []Connection
		if w.ReadJSON(FileSites, &all) != nil {
			return reach.Through{}
		}
		w.ways.read, w.ways.stamp = map[string]reach.Through{}, stamp
		for i := range all {
			w.ways.read[all[i].Site] = all[i].Workers()
		}
	}
	return w.ways.read[site]
}

// Absent reports that a site is reached through workers, and none is there at this moment.
func (w *Workspace) Absent(ctx context.Context, site string) bool {
	through := w.Through(site)
	if through.Pool == "" || w.Present == nil {
		return false
	}
	there, err := w.Present(ctx, through)
	return err == nil && !there // where that is not known what is asked of the site says what is wrong
}

// Whom says through which workers a site is reached, and for how long a step waits for one.
func (w *Workspace) Whom(site string) (whom string, patience time.Duration) {
	through := w.Through(site)
	return through.Whom(), through.Patience()
}

// Reaching has what is at sites be reached as their connections say, wherever a context says at which site it is.
func (w *Workspace) Reaching(ctx context.Context) context.Context {
	return reach.Ways(ctx, func(site string) reach.Dialer { return w.route(w.Through(site), site) })
}

// At has what is asked in a context be reached as what is at a site is: machines, endpoints.
func (w *Workspace) At(ctx context.Context, site string) context.Context {
	return reach.From(ctx, w.route(w.Through(site), site))
}
