package sandbox

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"hash/fnv"
	mathrand "math/rand/v2"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/nocloud"
	"andamio/internal/sandbox/disk"
	"andamio/internal/site/occi/wire"
)

// Cloud is the stand-in of one site: an HTTP server that speaks OCCI and builds what it is asked for in its own time.
type Cloud struct {
	site  *estate.Site
	pace  float64
	seed  uint64
	addrs *addresses
	ctx   context.Context
	mux   *http.ServeMux

	// keeps counts how often what the stand-in holds was kept.
	keeps atomic.Int64

	mu sync.Mutex
	// unkept is why it was not the last time.
	unkept error
	// things are all resources by id, in the order of their making in ids.
	things map[string]*thing
	ids    []string
	keys   map[string]string
	// tags are mixins that clients made.
	tags  map[string]wire.Category
	rooms []*room
	next  int
	sinks map[string]sink
	// sequence numbers the notices.
	sequence int64
	faults   *faults
	accounts accounts
	// pairs are the sites that this one is paired with, ways the throttles of the ways from them, private its own key.
	pairs   map[string]*pair
	ways    map[string]*throttle
	private ed25519.PrivateKey
	// system is how many bytes the system of a machine takes on its disk, churn how many a machine that is on writes in a
	// second.
	system, churn int64
	// digests are those of disks when their machines were switched on, if they are recorded; nil if not.
	digests map[string]string
	// loads are what machines are to use for a while, by their names.
	loads map[string]*Load
	// asked is when anything was made, changed or removed through the front door.
	asked time.Time
	// folder is where what is held is kept, "" for nowhere; ended says that the stand-in is no more.
	folder string
	ended  bool
	// gone are the disks of what was removed, until that is kept.
	gone []*disk.Disk
	// cancel ends what goes on, crash has the stand-in crash and come back.
	cancel context.CancelFunc
	crash  func()
}

// thing is a resource or link with what makes it real.
type thing struct {
	wire.Resource
	term  string
	host  machine
	reach *reach
	room  *room
	take  estate.Capacity
	// disk is a volume's or an instance's own; copied says that its bytes come from outside.
	disk   *disk.Disk
	copied bool
	// seed is what the system of a real machine reads when it starts.
	seed *nocloud.Seed
	// filling is held while an object is written to.
	filling sync.Mutex
	// stale disks were written to from outside since their machine was off: what it has in memory of them is old.
	stale bool
	// standing things were there from the beginning; broken ones end in error.
	standing bool
	broken   bool
	// made says that it was built, source and target are what a link links, lead is where a released interface leads.
	made   bool
	source string
	target string
	lead   string
}

// room is a zone or host with what is left of it.
type room struct {
	zone, host string
	free       estate.Capacity
	total      estate.Capacity
}

func newCloud(ctx context.Context, site *estate.Site, cfg Config, addrs *addresses, token string, f *faults) *Cloud {
	ctx, cancel := context.WithCancel(ctx)
	own := *site
	own.Prices.Currency = cmp.Or(own.Prices.Currency, cfg.Estate.Currency)
	own.Pace = site.Pace * cfg.Pace
	if addrs.single() {
		own.Network = estate.Ports
	}
	c := &Cloud{site: &own, pace: own.Pace, seed: cfg.Seed, addrs: addrs, ctx: ctx, cancel: cancel, accounts: newAccounts(token),
		things: map[string]*thing{}, keys: map[string]string{}, tags: map[string]wire.Category{}, sinks: map[string]sink{}, faults: f, pairs: map[string]*pair{},
		ways: map[string]*throttle{}, system: cfg.System, churn: cfg.Churn}
	if cfg.Folder != "" {
		c.folder = filepath.Join(cfg.Folder, site.Name)
	}
	if cfg.Record {
		c.digests = map[string]string{}
	}
	_, c.private, _ = ed25519.GenerateKey(rand.Reader)
	for _, r := range site.Rooms() {
		c.rooms = append(c.rooms, &room{r.Zone, r.Host, r.Free, r.Total})
	}
	for _, st := range site.Standing {
		c.stand(st)
	}
	c.routes()
	return c
}

// stand makes a network that is there from the beginning.
func (c *Cloud) stand(st estate.Existing) {
	id := st.Attributes["site.id"]
	if id == "" {
		return // the estate does not say as what the site knows it
	}
	l := lives["network"]
	t := &thing{term: "network", standing: true, Resource: wire.Resource{Kind: terms["network"].kind, ID: id, Title: st.Name,
		Attributes: map[string]any{l.state: l.active, l.word: l.active}}}
	c.things[id] = t
	c.ids = append(c.ids, id)
}

// close ends the stand-in without a word.
func (c *Cloud) close() error {
	c.cancel()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ended = true
	for _, t := range c.things {
		if t.host != nil {
			t.host.Watch(nil)
			t.host.Close()
		}
		if t.disk != nil {
			t.disk.Close()
		}
	}
	return nil
}

// terms are the collections, with the kind each holds and whether it is of links.
var terms = map[string]struct {
	kind string
	link bool
}{
	"compute": {wire.Compute, false}, "storage": {wire.Storage, false}, "network": {wire.Network, false},
	"networkinterface": {wire.NetworkInterface, true}, "storagelink": {wire.StorageLink, true}, "object": {wire.Object, false},
	"snapshot": {wire.Snapshot, false},
}

func (c *Cloud) routes() {
	c.mux = http.NewServeMux()
	c.mux.HandleFunc("GET /-/{$}", c.query)
	c.mux.HandleFunc("GET /.well-known/org/ogf/occi/-/{$}", c.query)
	c.mux.HandleFunc("POST /-/{$}", c.define)
	c.mux.HandleFunc("DELETE /-/{$}", c.undefine)
	for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodDelete} {
		c.mux.HandleFunc(method+" /mixin/{mixin}/{$}", c.mixinCollection)
	}
	c.mux.HandleFunc("GET "+wire.PathSite, c.facts)
	c.mux.HandleFunc("GET "+wire.PathAccess, c.access)
	c.mux.HandleFunc("POST "+wire.PathAccess, c.rotate)
	c.mux.HandleFunc("POST "+wire.PathDrift, c.driftNow)
	c.mux.HandleFunc("GET "+wire.PathMeasures, c.measures)
	c.mux.HandleFunc("POST "+wire.PathMeasures, c.loadNow)
	c.mux.HandleFunc("POST "+wire.PathNotices+"{$}", c.subscribe)
	c.mux.HandleFunc("DELETE "+wire.PathNotices+"{id}", c.unsubscribe)
	c.mux.HandleFunc("GET "+wire.PathDisk+"{id}", c.readDisk)
	c.mux.HandleFunc("PUT "+wire.PathDisk+"{id}", c.writeDisk)
	c.mux.HandleFunc("POST "+wire.PathDisk+"{id}", c.diskAct)
	c.mux.HandleFunc("PUT "+wire.PathObject+"{id}", c.upload)
	c.mux.HandleFunc("GET "+wire.PathSelf, c.self)
	c.mux.HandleFunc("GET "+wire.PathTrial, c.trial)
	c.mux.HandleFunc("GET "+wire.PathPairs+"{site}", c.probePair)
	c.mux.HandleFunc("PUT "+wire.PathPairs+"{site}", c.setPair)
	c.mux.HandleFunc("DELETE "+wire.PathPairs+"{site}", c.dropPair)
	c.mux.HandleFunc("PUT "+wire.PathPairs+"{site}/{id}", c.grant)
	c.mux.HandleFunc("GET /{term}/{$}", c.list)
	c.mux.HandleFunc("POST /{term}/{$}", c.create)
	c.mux.HandleFunc("GET /{term}/{id}", c.read)
	c.mux.HandleFunc("POST /{term}/{id}", c.change)
	c.mux.HandleFunc("PUT /{term}/{id}", c.put)
	c.mux.HandleFunc("DELETE /{term}/{id}", c.remove)
}

// ServeHTTP checks the token, takes the time that a call over a network takes, and answers.
func (c *Cloud) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if wire.Signed(r) { // another site asks, and is as far away as its bandwidth says
		if why := c.admitPeer(r); why != nil {
			refuse(w, why.code, "%s", why.text)
			return
		}
		c.mux.ServeHTTP(w, r)
		return
	}
	if why := c.admit(r); why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	select {
	case <-time.After(time.Duration(float64(15*time.Millisecond) * min(c.pace, 1) * c.jitter(r.URL.Path))):
	case <-r.Context().Done():
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, maxPiece+1<<20)
	r.Header.Del(headerBroken)
	if !c.misbehave(w, r) {
		rendered(http.HandlerFunc(c.serve)).ServeHTTP(w, r)
	}
}

func respond(w http.ResponseWriter, code int, body any) {
	w.Header().Set("Content-Type", wire.ContentType)
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, code int, format string, args ...any) {
	respond(w, code, wire.Problem{Message: fmt.Sprintf(format, args...)})
}

// jitter is a factor around 1 that depends only on the seed, the site and a name.
func (c *Cloud) jitter(name string) float64 {
	h := fnv.New64a()
	fmt.Fprint(h, c.site.Name, name)
	return 0.85 + 0.4*mathrand.New(mathrand.NewPCG(c.seed, h.Sum64())).Float64()
}

// facts answers what the site offers and what is free of it now.
func (c *Cloud) facts(w http.ResponseWriter, _ *http.Request) {
	c.mu.Lock()
	now := *c.site
	now.Zones, now.Networks = nil, c.taken()
	for _, r := range c.rooms {
		if r.host == "" {
			now.Zones = append(now.Zones, estate.Zone{Name: r.zone, Free: r.free, Total: r.total})
			continue
		}
		i := slices.IndexFunc(now.Zones, func(z estate.Zone) bool { return z.Name == r.zone })
		if i < 0 {
			now.Zones = append(now.Zones, estate.Zone{Name: r.zone})
			i = len(now.Zones) - 1
		}
		now.Zones[i].Hosts = append(now.Zones[i].Hosts, estate.Host{Name: r.host, Free: r.free, Total: r.total})
	}
	c.mu.Unlock()
	data, err := json.Marshal(now)
	if err != nil {
		refuse(w, http.StatusInternalServerError, "the facts cannot be written: %v", err)
		return
	}
	respond(w, http.StatusOK, wire.Resource{Kind: wire.OwnSite, ID: "self", Attributes: map[string]any{wire.OwnSiteFacts: string(data)}})
}

// FeatureNoSnapshots is the feature of a site that has no kind of its own for snapshots.
const FeatureNoSnapshots = "no-snapshots"

// has reports that there is a collection of a term here.
func (c *Cloud) has(term string) bool {
	return terms[term].kind != "" && (term != "snapshot" || !slices.Contains(c.site.Features, FeatureNoSnapshots))
}

func (c *Cloud) list(w http.ResponseWriter, r *http.Request) {
	term := r.PathValue("term")
	t := terms[term]
	if !c.has(term) {
		refuse(w, http.StatusNotFound, "there is no kind %q here", term)
		return
	}
	page, number := max(atoi(r, "page", 1), 1), min(max(atoi(r, "number", 100), 1), 1000)
	region, after := r.URL.Query().Get(wire.ParamRegion), r.URL.Query().Get(wire.ParamAfter)
	var all []wire.Resource
	c.mu.Lock()
	filter, why := c.filterOf(r)
	if why != nil {
		c.mu.Unlock()
		refuse(w, why.code, "%s", why.text)
		return
	}
	ids := c.ids[slices.Index(c.ids, after)+1:] // an id keeps its place when what it was is gone
	for _, id := range ids {
		if x := c.things[id]; x != nil && x.term == term && (region == "" || region == c.regionOf(x)) && x.is(filter) {
			all = append(all, told(r, x))
		}
	}
	c.mu.Unlock()
	from := min((page-1)*number, len(all))
	all = all[from:min(from+number, len(all))]
	if t.link {
		respond(w, http.StatusOK, wire.Collection{Links: all})
		return
	}
	respond(w, http.StatusOK, wire.Collection{Resources: all})
}

func atoi(r *http.Request, name string, fallback int) int {
	if n, err := strconv.Atoi(r.URL.Query().Get(name)); err == nil {
		return n
	}
	return fallback
}

// copy is the rendering as it is now, safe to write while the thing changes.
func (t *thing) copy() wire.Resource {
	r := t.Resource
	r.Attributes = make(map[string]any, len(t.Attributes))
	for k, v := range t.Attributes {
		if k != wire.PublicKey {
			r.Attributes[k] = v
		}
	}
	return r
}

// find looks a resource up and answers 404 itself if it is not there. The lock is held.
func (c *Cloud) find(w http.ResponseWriter, r *http.Request) *thing {
	t := c.things[r.PathValue("id")]
	if t == nil || t.term != r.PathValue("term") {
		refuse(w, http.StatusNotFound, "there is no %s %q", r.PathValue("term"), r.PathValue("id"))
		return nil
	}
	return t
}

func (c *Cloud) read(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if t := c.find(w, r); t != nil {
		respond(w, http.StatusOK, told(r, t))
	}
}
