package libvirt

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"andamio/internal/notice"
	"andamio/internal/site"
	"andamio/internal/web"
)

var _ site.Pusher = (*Driver)(nil)

// The bounds of hearing events: how long a notice may take, and how long it is waited until a host that fell silent is listened to again.
const (
	telling     = 10 * time.Second
	listenAgain = time.Second
)

// Push has changes of machines be told to a sink as sites tell theirs. Daemons tell of them to whoever is connected, and post nothing
// themselves: the driver listens, and posts, for as long as it is there and until it is told to stop.
func (d *Driver) Push(ctx context.Context, to site.Sink) (func(context.Context) error, error) {
	trust := web.Trust{Authorities: to.Authorities}
	config, err := trust.Config()
	if err != nil {
		return nil, err
	}
	if _, err := d.Access(ctx); err != nil { // whom nobody can listen to tells nothing
		return nil, err
	}
	p := &pusher{d: d, to: to, client: web.Client(telling, web.Transport(config))}
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	var all sync.WaitGroup
	for _, h := range d.hosts {
		ready := make(chan struct{})
		all.Go(func() { p.listen(ctx, h, ready) })
		<-ready
	}
	return func(context.Context) error {
		cancel()
		all.Wait()
		p.client.CloseIdleConnections()
		return nil
	}, nil
}

// pusher posts what daemons tell.
type pusher struct {
	d      *Driver
	to     site.Sink
	client *http.Client

	mu       sync.Mutex
	sequence int64
}

// listen listens to a host until the context ends, over connections of its own. It is ready when it listens, or could not for the first time.
func (p *pusher) listen(ctx context.Context, h *host, ready chan struct{}) {
	var once sync.Once
	said := func() { once.Do(func() { close(ready) }) }
	defer said()
	for ctx.Err() == nil {
		p.hear(ctx, h, said)
		said()
		_ = wait(ctx, listenAgain)
	}
}

// hear passes on what a daemon tells until the connection or the context ends.
func (p *pusher) hear(ctx context.Context, h *host, ready func()) {
	own := &host{site: h.site, name: h.name, door: h.door, patience: h.patience}
	connecting, cancel := context.WithTimeout(ctx, h.patience)
	l, err := own.connected(connecting)
	cancel()
	if err != nil {
		return
	}
	defer l.conn.Close()
	hearing, stop := context.WithCancel(ctx)
	defer stop()
	events, err := l.LifecycleEvents(hearing)
	if err != nil {
		return
	}
	ready()
	for {
		select {
		case <-ctx.Done():
			return
		case <-l.conn.ended:
			return
		case e, more := <-events:
			if !more {
				return
			}
			if !onTrial(e.Dom.Name) {
				p.tell(ctx, uuid.UUID(e.Dom.UUID).String(), libvirt.DomainEventType(e.Event))
			}
		}
	}
}

// words are what happened to a machine.
var words = map[libvirt.DomainEventType]string{
	libvirt.DomainEventDefined: "defined", libvirt.DomainEventUndefined: "undefined", libvirt.DomainEventStarted: "started", libvirt.DomainEventSuspended: "suspended",
	libvirt.DomainEventResumed: "resumed", libvirt.DomainEventStopped: "stopped", libvirt.DomainEventShutdown: "in shutdown", libvirt.DomainEventCrashed: "crashed",
	libvirt.DomainEventPmsuspended: "suspended by its system",
}

// tell posts that something happened to a machine. A notice is a hint to look: one that is not taken is not sent again.
func (p *pusher) tell(ctx context.Context, id string, what libvirt.DomainEventType) {
	p.mu.Lock()
	p.sequence++
	n := p.sequence
	p.mu.Unlock()
	now := time.Now()
	e, err := notice.New(notice.TypeChanged, "https://schemas.andamio.example/sites/"+p.d.name, "compute/"+id, now,
		notice.Changed{Kind: "compute", ID: id, State: words[what], Sequence: n})
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, telling)
	defer cancel()
	_ = notice.Send(ctx, p.client, p.to.URL, p.to.Secret, e, now)
}
