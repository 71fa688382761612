// Package workers is the service of workers in closed networks: each connects out to a process that serves the workspace, and through it is reached what only it can reach. A site
// says through which pool of workers it is reached; of those that are there, the nearest that reaches it is chosen, and another when that is gone.
//
// A worker has nothing of the workspace: what goes through it is encrypted between those who speak at its ends, by TLS or SSH.
package workers

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/reach"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
	"andamio/internal/tunnel"
	"andamio/internal/upgrade"
	"andamio/internal/web"
)

// Store keeps which workers there are.
type Store interface {
	TakeLease(ctx context.Context, name string, holder store.Worker, note string, now, silentSince time.Time, lives func(store.Lease) bool) (epoch int64, err error)
	SayOfLease(ctx context.Context, name string, epoch int64, note string, now time.Time) error
	LeaveLease(ctx context.Context, name string, epoch int64) error
	Leases(ctx context.Context, prefix string) ([]store.Lease, error)
}

// Service is the service of workers for one actor.
type Service struct {
	desk      *acting.Desk
	workspace *workspace.Workspace
	store     Store
	log       *slog.Logger
	memory    *Memory
}

// Memory is the workers that have connected to this process.
type Memory struct {
	mu       sync.Mutex
	sessions map[string]*tunnel.Session
	// at is where this process is reached by others that go through its workers, and pin what its certificate is known by.
	at, pin string
}

// New returns the service for whoever is at the desk.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger, memory *Memory) *Service {
	return &Service{desk: desk, workspace: ws, store: s, log: log, memory: memory}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// Worker is one that is there.
type Worker struct {
	Pool   string            `json:"pool"`
	Name   string            `json:"name"`
	Labels map[string]string `json:"labels,omitempty"`
	// From is the address that it came from, Of whose token it came with, Since when.
	From  string    `json:"from"`
	Of    string    `json:"of"`
	Since time.Time `json:"since"`
	// Sites are those that are reached through its pool, with how far they are from it; Measured is when that was seen last.
	Sites    map[string]Reached `json:"sites,omitempty"`
	Measured time.Time          `json:"measured,omitzero"`
	// At is the process that it has connected to.
	At string `json:"at"`

	url, pin string
}

// Reached is how a site is reached.
type Reached struct {
	// Seconds is how long connecting takes; Failed is why it cannot be reached, "" if it can.
	Seconds float64 `json:"seconds"`
	Failed  string  `json:"failed,omitempty"`
}

// Reaches says which sites it reaches, and how far they are.
func (w *Worker) Reaches() string {
	var out []string
	for _, site := range slices.Sorted(maps.Keys(w.Sites)) {
		r := w.Sites[site]
		if r.Failed != "" {
			out = append(out, site+" not reached: "+r.Failed)
			continue
		}
		out = append(out, fmt.Sprintf("%s %.1f ms", site, 1000*r.Seconds))
	}
	if len(out) == 0 {
		return "no site is reached through its pool"
	}
	return strings.Join(out, ", ")
}

// note is what the lease of a worker says.
type note struct {
	Worker
	URL string `json:"url"`
	Pin string `json:"pin,omitempty"`
}

// Leases of workers begin so; the pool and the name follow.
const leasePrefix = "worker "

// A worker shows that it is there every beat, and is taken to be gone when it is silent for longer than Silent. How far sites are is measured every so often.
const (
	beat         = 2 * time.Second
	Silent       = 10 * time.Second
	measureEvery = 15 * time.Second
	// measureWithin is how long all sites have to answer.
	measureWithin = 10 * time.Second
)

// nameOf is what workers may be called.
var nameOf = regexp.MustCompile(`^[a-z0-9]([a-z0-9._-]{0,61}[a-z0-9])?$`)

// Joining is what a worker says of itself.
type Joining struct {
	Pool, Name string
	Labels     map[string]string
	From       string
}

func (j *Joining) check() error {
	if err := reach.CheckPool(j.Pool); err != nil {
		return fault.Default(fault.Invalid, err)
	}
	if !nameOf.MatchString(j.Name) {
		return fault.Invalidf("%q is no name of a worker: it is made of small letters, digits, dots, hyphens and underscores", j.Name)
	}
	size := 0
	for k, v := range j.Labels {
		size += len(k) + len(v)
	}
	if len(j.Labels) > 32 || size > 4096 {
		return fault.Invalidf("a worker has 32 labels at most, of 4096 bytes in all")
	}
	return nil
}

// ReachedAt says where this process is reached by others of the workspace that go through its workers, and what its certificate is known by.
func (svc *Service) ReachedAt(url, pin string) {
	svc.memory.mu.Lock()
	defer svc.memory.mu.Unlock()
	svc.memory.at, svc.memory.pin = url, pin
}

// JoinWorker has a worker join, which takes the right to connect sites, and returns when it is gone. Take is called when it may, and is its connection.
func (svc *Service) JoinWorker(ctx context.Context, j Joining, holder store.Worker, take func() (net.Conn, error)) error {
	if err := j.check(); err != nil {
		return err
	}
	lease := leasePrefix + j.Pool + "/" + j.Name
	n := note{Worker: Worker{Pool: j.Pool, Name: j.Name, Labels: j.Labels, From: j.From, Of: svc.desk.Actor.Name, Since: time.Now().UTC()}}
	svc.memory.mu.Lock()
	n.URL, n.Pin = svc.memory.at, svc.memory.pin
	svc.memory.mu.Unlock()
	var epoch int64
	err := svc.desk.Do(ctx, guard.JoinWorker, guard.Named("the pool "+j.Pool), func() (err error) {
		now := time.Now()
		// The same worker that comes again has lost its connection: it takes the place of itself, and another of its name does not as long as that one shows that it is there.
		epoch, err = svc.store.TakeLease(ctx, lease, holder, asText(n), now, now.Add(-Silent), func(l store.Lease) bool { return svc.connected(lease) || l.Holder != holder })
		if errors.Is(err, store.ErrTaken) {
			err = fault.Conflictf("a worker %s of the pool %s is there already: call this one otherwise, or wait %s until that one is taken to be gone", j.Name, j.Pool, Silent)
		}
		return err
	}, acting.Saying("%s from %s", j.Name, j.From))
	if err != nil {
		return err
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), beat)
		defer cancel()
		_ = svc.store.LeaveLease(ctx, lease, epoch)
	}()
	conn, err := take()
	if err != nil {
		return err
	}
	session, err := tunnel.Accept(conn)
	if err != nil {
		return errors.Join(err, conn.Close())
	}
	defer session.Close()
	svc.keep(lease, session)
	defer svc.forget(lease, session)
	svc.log.Info("a worker has joined", "pool", j.Pool, "worker", j.Name, "from", j.From)
	err = svc.attend(ctx, lease, epoch, n, session)
	svc.log.Info("a worker has left", "pool", j.Pool, "worker", j.Name, "err", err)
	return nil
}

func (svc *Service) connected(lease string) bool {
	svc.memory.mu.Lock()
	defer svc.memory.mu.Unlock()
	return svc.memory.sessions[lease] != nil
}

func (svc *Service) keep(lease string, s *tunnel.Session) {
	svc.memory.mu.Lock()
	defer svc.memory.mu.Unlock()
	if svc.memory.sessions == nil {
		svc.memory.sessions = map[string]*tunnel.Session{}
	}
	svc.memory.sessions[lease] = s
}

func (svc *Service) forget(lease string, s *tunnel.Session) {
	svc.memory.mu.Lock()
	defer svc.memory.mu.Unlock()
	if svc.memory.sessions[lease] == s {
		delete(svc.memory.sessions, lease)
	}
}

// attend shows that a worker is there and how far the sites of its pool are from it, until it is gone.
func (svc *Service) attend(ctx context.Context, lease string, epoch int64, n note, s *tunnel.Session) error {
	var measured time.Time
	found := make(chan map[string]Reached, 1) // beside: sites that are silent keep nobody from showing that the worker is there
	tick := time.NewTicker(beat)
	defer tick.Stop()
	for {
		if now := time.Now(); now.Sub(measured) >= measureEvery {
			measured = now
			go func() { found <- svc.measure(ctx, &n.Worker, s) }()
		}
		if err := svc.store.SayOfLease(ctx, lease, epoch, asText(n), time.Now()); err != nil && errors.Is(err, store.ErrTaken) {
			return err // another has its place
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-s.Gone():
			return nil
		case sites := <-found:
			if sites != nil {
				n.Sites, n.Measured = sites, measured.UTC()
			}
		case <-tick.C:
		}
	}
}

// measure sees how far the sites are that are reached through a worker; nil if that is not known.
func (svc *Service) measure(ctx context.Context, w *Worker, s *tunnel.Session) map[string]Reached {
	all, err := svc.workspace.Connections()
	if err != nil {
		return nil
	}
	addresses := map[string]string{}
	for i := range all {
		if !all[i].Workers().Means(w.Pool, w.Labels) {
			continue
		}
		if at := hostOf(all[i].Address()); at != "" {
			addresses[all[i].Site] = at
		}
	}
	ctx, cancel := context.WithTimeout(ctx, measureWithin)
	defer cancel()
	found, err := s.Measure(ctx, addresses)
	if err != nil {
		return nil
	}
	out := map[string]Reached{}
	for site, d := range found {
		out[site] = Reached{d.Took.Seconds(), d.Failed}
	}
	return out
}

// hostOf is HOST:PORT of an address as drivers have it; "" where there is none that is connected to.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err == nil && u.Host != "" {
		if port := cmp.Or(u.Port(), map[string]string{"https": "443", "http": "80"}[u.Scheme]); port != "" {
			return net.JoinHostPort(u.Hostname(), port)
		}
		return ""
	}
	_, port, err := net.SplitHostPort(address)
	if _, errPort := strconv.ParseUint(port, 10, 16); err == nil && errPort == nil { // no socket of this machine
		return address
	}
	return ""
}

func asText(n note) string {
	text, _ := json.Marshal(n) // of texts and numbers
	return string(text)
}

// Workers are those that are there, by pool and name.
func (svc *Service) Workers(ctx context.Context) ([]Worker, error) {
	if err := svc.desk.Read("the workers"); err != nil {
		return nil, err
	}
	return svc.workers(ctx, "")
}

func (svc *Service) workers(ctx context.Context, pool string) ([]Worker, error) {
	prefix := leasePrefix
	if pool != "" {
		prefix += pool + "/"
	}
	all, err := svc.store.Leases(ctx, prefix)
	if err != nil {
		return nil, err
	}
	var out []Worker
	for _, l := range all {
		var n note
		if time.Since(l.Beat) > Silent || json.Unmarshal([]byte(l.Note), &n) != nil {
			continue
		}
		n.At, n.url, n.pin = string(l.Holder), n.URL, n.Pin
		out = append(out, n.Worker)
	}
	return out, nil
}

// The secret by which processes of the workspace know each other that go through each other's workers, on a shelf of its own.
const (
	shelfWorkers = "workers"
	secretName   = "relay"
)

// secret is what processes of the workspace show each other, made at first use.
func (svc *Service) secret() (string, error) {
	s, err := svc.workspace.Vault.Get(shelfWorkers, secretName)
	if err != nil || s != "" {
		return s, err
	}
	s = rand.Text()
	return s, svc.workspace.Vault.Set(shelfWorkers, map[string]string{secretName: s})
}

// MayRelay reports that a secret is that of a process of this workspace.
func (svc *Service) MayRelay(given string) bool {
	s, err := svc.workspace.Vault.Get(shelfWorkers, secretName)
	return err == nil && s != "" && subtle.ConstantTimeCompare([]byte(s), []byte(given)) == 1
}

// Relay connects to an address through a worker that has connected to this process.
func (svc *Service) Relay(ctx context.Context, pool, name, address string) (net.Conn, error) {
	svc.memory.mu.Lock()
	s := svc.memory.sessions[leasePrefix+pool+"/"+name]
	svc.memory.mu.Unlock()
	if s == nil {
		return nil, fault.NotFoundf("no worker %s of the pool %s has connected here", name, pool)
	}
	return s.Dial(ctx, address)
}

// Dialer reaches a site through workers.
func (svc *Service) Dialer(through reach.Through, site string) reach.Dialer {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		if !strings.HasPrefix(network, "tcp") {
			return new(net.Dialer).DialContext(ctx, network, address)
		}
		all, err := svc.meant(ctx, through)
		if err != nil {
			return nil, err
		}
		nearest(all, site)
		no := &reach.NoWay{Site: site, Through: through}
		for i := range all {
			c, err := svc.through(ctx, &all[i], address)
			if err == nil || answered(err) || ctx.Err() != nil {
				return c, err
			}
			no.Err = fmt.Errorf("%s: %w", all[i].Name, err)
		}
		return nil, no
	}
}

// meant are the workers that are there through whom something is reached.
func (svc *Service) meant(ctx context.Context, through reach.Through) ([]Worker, error) {
	all, err := svc.workers(ctx, through.Pool)
	return slices.DeleteFunc(all, func(w Worker) bool { return !through.Means(w.Pool, w.Labels) }), err
}

// Present reports that a worker is there through whom something is reached.
func (svc *Service) Present(ctx context.Context, through reach.Through) (bool, error) {
	all, err := svc.meant(ctx, through)
	return len(all) > 0, err
}

// answered reports that the machine that was to be reached was, and nobody hears there: no other worker reaches it better.
func answered(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }

// nearest has workers be in the order in which they are tried: those that reach a site, the nearest first, before those of which that is not known, and those that did not reach it.
func nearest(all []Worker, site string) {
	rank := func(w *Worker) (int, float64) {
		r, known := w.Sites[site]
		switch {
		case !known:
			return 1, 0
		case r.Failed != "":
			return 2, 0
		}
		return 0, r.Seconds
	}
	slices.SortStableFunc(all, func(a, b Worker) int {
		x, far := rank(&a)
		y, farther := rank(&b)
		return cmp.Or(cmp.Compare(x, y), cmp.Compare(far, farther))
	})
}

// through connects through one worker: of this process, or of another that serves the workspace.
func (svc *Service) through(ctx context.Context, w *Worker, address string) (net.Conn, error) {
	if svc.connected(leasePrefix + w.Pool + "/" + w.Name) {
		return svc.Relay(ctx, w.Pool, w.Name, address)
	}
	secret, err := svc.secret()
	if err != nil {
		return nil, err
	}
	c, err := upgrade.Ask(ctx, tunnel.Protocol, w.url+"/workers/relay", url.Values{"pool": {w.Pool}, "worker": {w.Name}, "address": {address}}, secret, web.Pinned(w.pin))
	var no *upgrade.Refused
	if errors.As(err, &no) {
		return nil, tunnel.Told(no.Text)
	}
	return c, err
}

// Networks reads the networks that a worker may connect to, as CIDR (RFC 4632) or single addresses.
func Networks(texts []string) (tunnel.Allow, error) {
	var out tunnel.Allow
	for _, text := range texts {
		p, err := netip.ParsePrefix(text)
		if a, errAddress := netip.ParseAddr(text); err != nil && errAddress == nil {
			p, err = netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()), nil
		}
		if err != nil {
			return nil, fault.Invalidf("%q is no network: write 10.7.0.0/16, or an address", text)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// Labels reads labels as people write them, NAME=VALUE.
func Labels(texts []string) (map[string]string, error) {
	out := map[string]string{}
	for _, text := range texts {
		name, value, is := strings.Cut(text, "=")
		if !is || name == "" {
			return nil, fault.Invalidf("%q is no label: write NAME=VALUE", text)
		}
		out[name] = value
	}
	return out, nil
}

// LabelText is labels as people write them.
func LabelText(labels map[string]string) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		out = append(out, name+"="+labels[name])
	}
	return strings.Join(out, " ")
}
