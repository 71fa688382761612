package host

import (
	"context"
	"net"
	"slices"
	"sync"
)

// Balancer is a load balancer that a stand-in cloud runs itself: nobody logs in to it, and it has no disk.
type Balancer struct {
	stop context.CancelFunc

	mu        sync.Mutex
	networks  []Network
	inner     *balancer
	listeners []net.Listener
	ctx       context.Context
}

// NewBalancer is one that was told nothing yet.
func NewBalancer() *Balancer {
	ctx, stop := context.WithCancel(context.Background())
	return &Balancer{ctx: ctx, stop: stop}
}

// Told is what a balancer does: where it listens, how it chooses, and whom it asks, by name.
type Told struct {
	Port                      int
	Protocol, Algorithm, Look string
	Members                   map[string]string
}

// Tell has it do something from now on. Conversations go on as they were begun.
func (b *Balancer) Tell(t Told) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	rules := balancing{port: t.Port, http: t.Protocol == "http", algorithm: t.Algorithm, look: t.Look, servers: t.Members}
	for name := range t.Members {
		rules.names = append(rules.names, name)
	}
	slices.Sort(rules.names)
	was := b.inner
	if was != nil && was.rules.port == rules.port && was.rules.http == rules.http {
		was.take(rules)
		return nil
	}
	b.shut()
	b.inner = newBalancer(b.ctx, dial)
	b.inner.take(rules)
	for _, n := range b.networks {
		if err := b.listen(n); err != nil {
			return err
		}
	}
	return nil
}

// Plug connects it to a network.
func (b *Balancer) Plug(n Network) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.networks = append(b.networks, n)
	return b.listen(n)
}

// listen begins to listen on a network, once it was told at which port. The lock is held.
func (b *Balancer) listen(n Network) error {
	if b.inner == nil || b.inner.rules.port == 0 || b.ctx.Err() != nil {
		return nil
	}
	l, err := n.Listen(b.inner.rules.port)
	if err != nil {
		return err
	}
	b.listeners = append(b.listeners, l)
	go b.inner.serve(l)
	return nil
}

// shut ends listening and conversations. The lock is held.
func (b *Balancer) shut() {
	for _, l := range b.listeners {
		l.Close()
	}
	b.listeners = nil
	if b.inner != nil {
		_ = b.inner.server.Close()
	}
}

// Close switches it off.
func (b *Balancer) Close() {
	b.stop()
	b.mu.Lock()
	defer b.mu.Unlock()
	b.shut()
}
