// Package sandbox is the stand-ins that ship with Andamio: clouds that speak OCCI over HTTP on loopback, whose
// instances are reached at loopback addresses, run the scripts they are given and answer on real ports.
//
// In goes an estate; out come running servers, one a site, with their addresses and tokens. They need no
// rights, and end with the process. What they hold is in memory, or kept in a folder: then they come back as they were,
// whatever ended them.
package sandbox

import (
	"cmp"
	"context"
	crypto "crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/durable"
	"andamio/internal/sandbox/nameserver"
	"andamio/internal/site/occi/wire"
)

// Config says what the stand-ins are like.
type Config struct {
	Estate *estate.Estate
	// Pace scales every time: at 0.1 an instance that takes 20 s takes 2.
	Pace float64
	// Seed makes latencies repeatable.
	Seed uint64
	// OneAddress keeps to 127.0.0.1, as where no other loopback address exists: every network is then port-mapped.
	OneAddress bool
	// System is how many bytes the system of a machine takes on its disk, and Churn how many a machine that is on writes to
	// its disk in a second of nominal time, once somebody looks at that disk.
	System, Churn int64
	// Record keeps what is on the disks of a machine that was built asleep when it is switched on: see [Sandbox.Digests].
	Record bool
	// Zone is the zone of the name server; "" has none.
	Zone string
	// Faults are the rules by which they misbehave; see also [Sandbox.Misbehave].
	Faults []Rule
	// Folder is where they keep what they hold, and come back from; "" holds everything in memory. What is kept there goes
	// before Estate, OneAddress and Zone.
	Folder string

	// block is had already, by those who come back.
	block *block
}

// Endpoint is how a site is reached.
type Endpoint struct {
	Site  string      `json:"site"`
	Kind  estate.Kind `json:"kind"`
	URL   string      `json:"url"`
	Token string      `json:"token"`
}

// Sandbox is a set of running stand-ins.
type Sandbox struct {
	Endpoints []Endpoint
	// Names is the name server; nil if there is none.
	Names *nameserver.Server
	// OneAddress says that only 127.0.0.1 is used.
	OneAddress bool

	block  *block
	cancel context.CancelFunc
	calls  atomic.Int64
	faults *faults
	folder string
	unlock func()

	mu     sync.Mutex
	places []*place
	// busy are what machines do, of every cloud that comes back too; ended says that the stand-ins are closed.
	busy  []func(*Cloud)
	ended bool
}

// place is where a stand-in is: it may crash there and come back.
type place struct {
	cloud *Cloud
	at    Endpoint
	// hush has it answer no more, from the moment that it returns; nil as long as it never answered.
	hush func() error
	// make makes the cloud, as it was kept if known.
	make func(known bool) (*Cloud, error)
}

// clouds are the stand-ins as they are now.
func (s *Sandbox) clouds() []*Cloud {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]*Cloud, 0, len(s.places))
	for _, p := range s.places {
		if p.cloud != nil {
			out = append(out, p.cloud)
		}
	}
	return out
}

// Start starts a stand-in for every site of the estate.
func Start(cfg Config) (*Sandbox, error) {
	if cfg.Pace <= 0 {
		cfg.Pace = 1
	}
	ctx, cancel := context.WithCancel(context.Background())
	s := &Sandbox{cancel: cancel, block: cmp.Or(cfg.block, &block{}), folder: cfg.Folder, unlock: func() {},
		faults: &faults{rules: cfg.Faults, rand: rand.New(rand.NewPCG(cfg.Seed, 7))}}
	if err := s.start(ctx, cfg); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if cfg.Churn > 0 {
		s.Busy("", int64(float64(cfg.Churn)/cfg.Pace), workingSet)
	}
	return s, nil
}

func (s *Sandbox) start(ctx context.Context, cfg Config) error {
	k, err := s.open(&cfg)
	if err != nil {
		return err
	}
	if cfg.block == nil {
		if s.block, err = claim(cfg.OneAddress, k.Octet); err != nil {
			return err
		}
	}
	s.OneAddress = s.block.octet == 0
	for i, site := range cfg.Estate.Sites {
		at := Endpoint{Site: site.Name, Kind: site.Kind, Token: token()}
		if i < len(k.Endpoints) {
			at = k.Endpoints[i]
		}
		p := &place{at: at, make: func(known bool) (*Cloud, error) {
			c := newCloud(ctx, site, cfg, s.block.site(i), at.Token, s.faults)
			c.crash = func() { _ = s.Crash(site.Name) }
			if err := c.begin(known); err != nil {
				return nil, errors.Join(fmt.Errorf("the stand-in %s: %w", site.Name, err), c.close())
			}
			return c, nil
		}}
		s.places = append(s.places, p)
		if p.cloud, err = p.make(len(k.Endpoints) > 0); err != nil {
			return err
		}
		if err := s.serve(p, s.block.address(0, i+1)); err != nil {
			return err
		}
		s.Endpoints = append(s.Endpoints, p.at)
	}
	if cfg.Zone != "" {
		s.Names, err = nameserver.Start(cfg.Zone, s.block.address(0, nameServerAt), s.zoneFile(), k.Zone)
	}
	if err == nil && len(k.Endpoints) == 0 {
		err = s.keep(cfg.Estate)
	}
	return err
}

// open locks the folder, and says what is kept there, which goes before what is asked for.
func (s *Sandbox) open(cfg *Config) (*keptSandbox, error) {
	if s.folder == "" {
		return new(keptSandbox), nil
	}
	if err := durable.Folder(s.folder); err != nil {
		return nil, err
	}
	unlock, err := durable.TryLock(filepath.Join(s.folder, "lock"))
	if err != nil {
		return nil, fmt.Errorf("the stand-ins kept in %s run already, or something else has them: %w", s.folder, err)
	}
	s.unlock = unlock
	k, err := recallSandbox(s.folder)
	if err != nil || k == nil {
		return new(keptSandbox), err
	}
	if cfg.Estate, err = estate.Read(k.Estate); err != nil {
		return nil, fmt.Errorf("the estate kept in %s: %w", s.folder, err)
	}
	cfg.OneAddress = k.Octet == 0
	cfg.Zone = ""
	if k.Zone != nil {
		cfg.Zone = k.Zone.Zone
	}
	return k, nil
}

func (s *Sandbox) zoneFile() string {
	if s.folder == "" {
		return ""
	}
	return filepath.Join(s.folder, "zone.json")
}

// begin brings back what is kept of the stand-in, or begins to keep it.
func (c *Cloud) begin(known bool) error {
	if c.folder == "" {
		return nil
	}
	if err := durable.Folder(filepath.Join(c.folder, "disks")); err != nil {
		return err
	}
	if known {
		return c.recall()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return errors.Join(c.keep(), c.sweep())
}

// nameServerAt is the name server's own address in the sandbox's block.
const nameServerAt = 53

// How long an address is waited for that somebody else has, as the one before that has not let it go yet, and how often it is tried.
const (
	takenFor  = 5 * time.Second
	triesEach = 20 * time.Millisecond
)

// listen listens at an address, once nobody else does any more.
func listen(where string) (net.Listener, error) {
	for until := time.Now().Add(takenFor); ; time.Sleep(triesEach) {
		l, err := net.Listen("tcp", where)
		if err == nil || !errors.Is(err, syscall.EADDRINUSE) || time.Now().After(until) {
			return l, err
		}
	}
}

// serve has a stand-in answer where it was before, or at a free port of an address.
func (s *Sandbox) serve(p *place, address string) error {
	where := net.JoinHostPort(address, "0")
	if p.at.URL != "" {
		where = strings.TrimPrefix(p.at.URL, "http://")
	}
	l, err := listen(where)
	if err != nil {
		return fmt.Errorf("the stand-in %s cannot listen: %w", p.at.Site, err)
	}
	c := p.cloud
	count := func(w http.ResponseWriter, r *http.Request) {
		s.calls.Add(1)
		c.ServeHTTP(w, r)
	}
	server := &http.Server{Handler: http.HandlerFunc(count), ReadHeaderTimeout: 10 * time.Second}
	p.at.URL = "http://" + l.Addr().String()
	p.hush = func() error {
		err := server.Close()
		_ = l.Close() // a server that has not come to serving yet does not know of it
		return err
	}
	go func() { _ = server.Serve(l) }()
	return nil
}

// down is how long a site that crashed is away, at the nominal pace.
const down = 2 * time.Second

// Crash has a site end without a word, with all that runs there, and come back after a while from what it kept, which it
// must: see [Config.Folder].
func (s *Sandbox) Crash(name string) error {
	s.mu.Lock()
	i := slices.IndexFunc(s.places, func(p *place) bool { return p.at.Site == name })
	if i < 0 || s.folder == "" || s.ended || s.places[i].cloud == nil {
		s.mu.Unlock()
		return fmt.Errorf("%s cannot come back", name)
	}
	p := s.places[i]
	c := p.cloud
	p.cloud = nil
	s.mu.Unlock()
	_ = p.hush()
	_ = c.close()
	time.Sleep(time.Duration(float64(down) * min(c.pace, 1)))
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended {
		return nil
	}
	back, err := p.make(true)
	if err != nil {
		return err
	}
	p.cloud = back
	for _, do := range s.busy {
		go do(back)
	}
	return s.serve(p, "")
}

// Calls is how many requests all stand-ins have been sent.
func (s *Sandbox) Calls() int64 { return s.calls.Load() }

// Held is one thing that a stand-in holds.
type Held struct {
	Site, Term, ID, Title, Mark, Word string
}

// Holds lists all that the stand-ins hold beside what stood there from the beginning, as it really is.
func (s *Sandbox) Holds() []Held {
	var out []Held
	for _, c := range s.clouds() {
		c.mu.Lock()
		for _, id := range c.ids {
			t := c.things[id]
			if t == nil || t.standing {
				continue
			}
			out = append(out, Held{c.site.Name, t.term, id, t.Title, word(t.Attributes[wire.OwnMarkText]), word(t.Attributes[lives[t.term].word])})
		}
		c.mu.Unlock()
	}
	return out
}

// Close stops everything.
func (s *Sandbox) Close() error {
	err := s.end()
	s.block.release()
	return err
}

// Restart ends the stand-ins without a word, as a site's own crash does, and has them come back from what they kept in their folder, at the
// addresses that they had, which nobody else is given in between. Those that it returns are to be closed.
func (s *Sandbox) Restart(cfg Config) (*Sandbox, error) {
	if err := s.end(); err != nil {
		return nil, err
	}
	cfg.block, s.block = s.block, &block{}
	return Start(cfg)
}

// end ends the stand-ins, but for their addresses.
func (s *Sandbox) end() error {
	s.cancel()
	if s.Names != nil {
		s.Names.Close()
	}
	s.mu.Lock()
	s.ended = true
	s.mu.Unlock()
	var errs []error
	for _, p := range s.places {
		if p.hush != nil {
			errs = append(errs, p.hush())
		}
	}
	for _, c := range s.clouds() {
		errs = append(errs, c.close())
	}
	s.unlock()
	return errors.Join(errs...)
}

func token() string {
	b := make([]byte, 16)
	_, _ = crypto.Read(b)
	return hex.EncodeToString(b)
}

// Disconnect breaks every open shell connection of the instances of that title, and returns how many there were; what
// runs on them runs on.
func (s *Sandbox) Disconnect(title string) int {
	n := 0
	for _, c := range s.clouds() {
		c.mu.Lock()
		for _, t := range c.things {
			if t.Title == title && t.host != nil {
				n += t.host.Disconnect()
			}
		}
		c.mu.Unlock()
	}
	return n
}
