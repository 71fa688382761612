package runs

import (
	"context"
	"crypto/rand"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"

	"andamio/internal/engine"
	"andamio/internal/notice"
	"andamio/internal/site"
)

// hear asks the sites of a run for notices, and passes them on. Sites that send none are asked how things are instead;
// so is everything if nothing can be listened on.
func (svc *Service) hear(ctx context.Context, e *engine.Engine) (*engine.Wakes, func()) {
	wakes := engine.NewWakes()
	where, err := svc.workspace.Hearing()
	if err != nil {
		svc.log.Warn("where notices are heard cannot be read", "err", err)
	}
	l, err := net.Listen("tcp", where.At("0"))
	if err != nil {
		svc.log.Warn("no notices can be heard", "err", err)
		return wakes, func() {}
	}
	secret := rand.Text()
	mux := http.NewServeMux()
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	var mu sync.Mutex
	var stops []func(context.Context) error
	for _, s := range e.Plan.Sites {
		mux.Handle("/"+s.Name, &notice.Receiver{Secret: secret, Hear: func(ev event.Event) {
			var c notice.Changed
			if ev.Type() == notice.TypeChanged && ev.DataAs(&c) == nil {
				wakes.Wake(s.Name, c.ID)
			}
		}})
	}
	go func() { _ = server.Serve(l) }()
	var group sync.WaitGroup
	for _, s := range e.Plan.Sites {
		pusher, ok := site.Can[site.Pusher](ctx, e.Sites[s.Name])
		if !ok || svc.workspace.Through(s.Name).Pool != "" { // what is in a closed network cannot tell us: it is asked
			continue
		}
		group.Go(func() {
			stop, err := pusher.Push(ctx, site.Sink{URL: "http://" + where.Advertised(l.Addr().String()) + "/" + s.Name, Secret: secret})
			if err != nil {
				return
			}
			mu.Lock()
			stops = append(stops, stop)
			mu.Unlock()
			wakes.Pushes(s.Name)
		})
	}
	group.Wait()
	return wakes, func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		for _, stop := range stops {
			if err := stop(ctx); err != nil && !strings.Contains(err.Error(), "not found") {
				svc.log.Info("a site still sends notices", "err", err)
			}
		}
		_ = server.Close()
	}
}
