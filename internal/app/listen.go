package app

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"maps"
	"net"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/notice"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
	"andamio/internal/store"
	"andamio/internal/web"
)

// Listener hears signed notices of sites and looks at what they are about, so that single observations are up to date
// between surveys. A notice is only a hint: what is so is read from the site.
type Listener struct {
	a       *App
	server  *http.Server
	address string
	// told is the address that sites are told.
	told    string
	scheme  string
	pending chan heardOf
	stops   []func(context.Context) error
	done    sync.WaitGroup
	// ended is closed when nothing is applied any more, by end.
	ended <-chan struct{}
	end   context.CancelFunc
	// receivers take what is signed, by the sites that it is about.
	receivers map[string]*notice.Receiver
	// busLeft has no more be heard on the bus.
	busLeft context.CancelFunc
	// Taken counts notices that were applied, Looked the things that were looked at for them; several notices of one thing
	// need one look. Sites are those that were asked to send notices, Silent those that send none.
	Taken, Looks atomic.Int64
	// OnBus says that notices are heard on a bus, too.
	OnBus         atomic.Bool
	Sites, Silent []string
}

// heardOf is a notice that waits to be applied.
type heardOf struct {
	site, kind, id, notice string
	applied                chan error
}

// secretOf is what a site signs its notices with, made at first use.
func (a *App) secretOf(site string) (string, error) {
	secret, err := a.workspace.Vault.Get(workspace.ShelfNotices, site)
	if err != nil || secret != "" {
		return secret, err
	}
	secret = rand.Text()
	return secret, a.workspace.Vault.Set(workspace.ShelfNotices, map[string]string{site: secret})
}

// Listening says where notices are heard: "" is any free port of where [Workspace.Hearing] says. Certificate and Key name files that say who we are (PEM); without them notices
// come in clear, where they can be read but not made up: they are signed.
type Listening struct{ Address, Certificate, Key string }

// IsTaken reports that something else listens where notices were to be heard.
func IsTaken(err error) bool { return errors.Is(err, syscall.EADDRINUSE) }

// open begins to listen, and returns the scheme with what vouches for us.
func (x Listening) open() (l net.Listener, scheme, authorities string, err error) {
	if l, err = net.Listen("tcp", x.Address); err != nil {
		return nil, "", "", fault.Unavailablef("notices cannot be heard at %s; name another address with --address: %w", x.Address, err)
	}
	if x.Certificate == "" && x.Key == "" {
		return l, "http", "", nil
	}
	pair, err := tls.LoadX509KeyPair(x.Certificate, x.Key)
	if err != nil {
		return nil, "", "", errors.Join(fault.Invalidf("the certificate %s and the key %s do not go together: both are files of PEM (RFC 7468)", x.Certificate, x.Key), l.Close())
	}
	for _, c := range pair.Certificate {
		authorities += string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c}))
	}
	return tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}), "https", authorities, nil
}

// Listen begins to hear notices, each site's at its own path, and asks the sites that can to send them there. It ends with
// Close.
func (a *App) Listen(ctx context.Context, where Listening) (out *Listener, err error) {
	err = a.desk.Do(ctx, guard.Hear, guard.Named(where.Address), func() (err error) {
		out, err = a.listen(ctx, where)
		return err
	})
	return out, err
}

func (a *App) listen(ctx context.Context, where Listening) (*Listener, error) {
	connections, err := a.workspace.Connections()
	if err != nil {
		return nil, err
	}
	hearing, err := a.workspace.Hearing()
	if err != nil {
		return nil, err
	}
	if where.Address == "" {
		where.Address = hearing.At("0")
	}
	l, scheme, authorities, err := where.open()
	if err != nil {
		return nil, err
	}
	out := &Listener{a: a, address: l.Addr().String(), told: hearing.Advertised(l.Addr().String()), scheme: scheme, pending: make(chan heardOf, 4096), busLeft: func() {}}
	ctx, out.end = context.WithCancel(ctx)
	out.ended = ctx.Done()
	mux := http.NewServeMux()
	drivers := map[string]watched{}
	receivers := map[string]*notice.Receiver{}
	for _, c := range connections {
		secret, err := a.secretOf(c.Site)
		if err != nil {
			out.end()
			l.Close()
			return nil, err
		}
		drivers[c.Site] = watched{c, c.Open()}
		receivers[c.Site] = &notice.Receiver{Secret: secret, Also: (&sender{a: a, site: c.Site}).Secret, Hear: func(e event.Event) { out.hear(c.Site, e) }}
		mux.Handle("/"+c.Site, receivers[c.Site])
	}
	if _, taken := drivers[metricsName]; !taken {
		mux.HandleFunc("GET /"+metricsName, a.metrics)
	}
	out.server = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second}
	out.done.Go(func() { out.apply(ctx, drivers) })
	go func() { _ = out.server.Serve(l) }()
	out.receivers = receivers
	out.hearBus(ctx, hearing)
	for _, c := range connections {
		secret, _ := a.secretOf(c.Site)
		pusher, can := site.Can[site.Pusher](ctx, drivers[c.Site].driver)
		if !can || c.Through != "" { // what is in a closed network cannot tell us: it is surveyed
			out.Silent = append(out.Silent, c.Site)
			continue
		}
		stop, err := pusher.Push(ctx, site.Sink{URL: out.URL() + c.Site, Secret: secret, Authorities: authorities})
		if err != nil {
			out.Silent = append(out.Silent, c.Site)
			continue
		}
		out.Sites, out.stops = append(out.Sites, c.Site), append(out.stops, stop)
	}
	return out, nil
}

// metricsName is where what was measured is told, unless a site has that name.
const metricsName = "metrics"

// metrics tells what was measured as OpenMetrics text, to whoever has the secret that is kept for that, as a bearer token (RFC 6750), and in clear to this machine alone. Where none is kept nobody is told.
func (a *App) metrics(w http.ResponseWriter, r *http.Request) {
	if host, _, err := net.SplitHostPort(r.RemoteAddr); r.TLS == nil && (err != nil || !web.Loopback(host)) {
		http.Error(w, "in clear what was measured is told on this machine alone", http.StatusForbidden)
		return
	}
	secret, err := a.workspace.Vault.Get(workspace.ShelfSecrets, metricsName)
	if given := r.Header.Get("Authorization"); err != nil || secret == "" || subtle.ConstantTimeCompare([]byte(given), []byte("Bearer "+secret)) != 1 {
		w.Header().Set("WWW-Authenticate", "Bearer")
		http.Error(w, "what was measured is told to whoever has the secret called metrics, as a bearer token", http.StatusUnauthorized)
		return
	}
	w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
	if err := a.WriteOpenMetrics(r.Context(), w, time.Now()); err != nil {
		a.Log.Warn("what was measured could not be told", "err", err)
	}
}

// Address is where it listens.
func (l *Listener) Address() string { return l.address }

// URL is where sites are told that it listens, but for the name of the site.
func (l *Listener) URL() string { return l.scheme + "://" + l.told + "/" }

// InClear reports that what it hears can be read on the way.
func (l *Listener) InClear() bool {
	host, _, _ := net.SplitHostPort(l.address)
	return l.scheme == "http" && !web.Loopback(host)
}

// hear waits until a notice is applied, so that a site that is told it was taken need not send it again.
func (l *Listener) hear(at string, e event.Event) {
	var c notice.Changed
	if e.Type() != notice.TypeChanged || e.DataAs(&c) != nil || kindsByTerm[c.Kind] == kinds.None {
		return
	}
	applied := make(chan error, 1)
	select {
	case l.pending <- heardOf{at, c.Kind, c.ID, e.Source() + " " + e.ID(), applied}:
	case <-l.ended:
		return
	}
	select {
	case err := <-applied:
		if err != nil {
			l.a.Log.Warn("a notice could not be applied", "site", at, "err", err)
		}
	case <-l.ended:
	}
}

// Bounds of applying: how many notices at once, and how many things are looked at side by side.
const (
	noticesAtOnce = 512
	looksAtOnce   = 8
)

// apply takes what is pending, together as far as it is there, until the context ends.
func (l *Listener) apply(ctx context.Context, drivers map[string]watched) {
	for {
		var batch []heardOf
		select {
		case <-ctx.Done():
			return
		case h := <-l.pending:
			batch = append(batch, h)
		}
	more:
		for len(batch) < noticesAtOnce {
			select {
			case h := <-l.pending:
				batch = append(batch, h)
			default:
				break more
			}
		}
		err := l.applyAll(ctx, drivers, batch)
		for _, h := range batch {
			h.applied <- err
		}
	}
}

// watched is a site that is looked at again and again.
type watched struct {
	workspace.Connection
	driver site.Site
}

// kindsByTerm are our kinds by the words of notices.
var kindsByTerm = map[string]kinds.Kind{"compute": kinds.Instance, "storage": kinds.Volume, "network": kinds.Network,
	"networkinterface": kinds.Interface, "storagelink": kinds.Attachment}

// applyAll looks once at each thing that notices are about, and keeps what it is now.
func (l *Listener) applyAll(ctx context.Context, drivers map[string]watched, batch []heardOf) error {
	at := map[string]int{}
	var sights []store.Sight
	var which []kinds.Kind
	for _, h := range batch {
		key := h.site + "/" + h.id
		i, known := at[key]
		if !known {
			i = len(sights)
			at[key] = i
			sights, which = append(sights, store.Sight{Site: h.site, ID: h.id}), append(which, kindsByTerm[h.kind])
		}
		sights[i].Notices = append(sights[i].Notices, h.notice)
	}
	tokens := make(chan struct{}, looksAtOnce)
	errs := make([]error, len(sights))
	var group sync.WaitGroup
	for i := range sights {
		group.Go(func() {
			tokens <- struct{}{}
			defer func() { <-tokens }()
			sights[i].Observation, errs[i] = lookForAny(ctx, drivers[sights[i].Site], which[i], sights[i].ID)
		})
	}
	group.Wait()
	var sure []store.Sight
	for i := range sights {
		if errs[i] == nil {
			sure = append(sure, sights[i])
		}
	}
	taken, err := l.a.store.Observed(ctx, sure, time.Now())
	l.Taken.Add(int64(taken))
	l.Looks.Add(int64(len(sights)))
	return errors.Join(append(errs, err)...)
}

// lookForAny reads one thing, whatever it is: senders may take one kind for another, and what is there under any is not gone.
func lookForAny(ctx context.Context, c watched, told kinds.Kind, id string) (*mapping.Observation, error) {
	o, err := lookAgain(ctx, c, told, id)
	if o != nil || err != nil {
		return o, err
	}
	for _, term := range slices.Sorted(maps.Keys(kindsByTerm)) {
		if kind := kindsByTerm[term]; kind != told {
			if o, err = lookAgain(ctx, c, kind, id); o != nil || err != nil {
				return o, err
			}
		}
	}
	return nil, nil
}

// lookAgain reads one thing as one kind; nil says that there is none.
func lookAgain(ctx context.Context, c watched, kind kinds.Kind, id string) (*mapping.Observation, error) {
	for try := 1; ; try++ {
		r, err := c.driver.Read(ctx, kind, id)
		if err == nil {
			o := reconcile.Observe(c.Site, c.Account, &r)
			return &o, nil
		}
		if site.ClassOf(err) == site.NotFound {
			return nil, nil
		}
		if try == reconcile.SurveyTries {
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(time.Duration(try) * 100 * time.Millisecond):
		}
	}
}

// Close asks the sites to send no more, and ends.
func (l *Listener) Close(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	l.busLeft()
	for _, stop := range l.stops {
		if err := stop(ctx); err != nil {
			l.a.Log.Info("a site still sends notices", "err", err)
		}
	}
	err := l.server.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) { // who keeps a connection open and says nothing keeps nobody here
		err = l.server.Close()
	}
	l.end()
	l.done.Wait()
	return err
}
