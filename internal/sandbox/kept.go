package sandbox

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/durable"
	"andamio/internal/nocloud"
	"andamio/internal/sandbox/disk"
	"andamio/internal/sandbox/host"
	"andamio/internal/sandbox/nameserver"
	"andamio/internal/site/occi/wire"
)

// Stand-ins with a folder keep there what they hold: the sandbox its addresses, ports and zone, each site its things,
// accounts, pairs and keys, and its disks as files. What was acknowledged was kept before, so that stand-ins that are
// killed at any moment come back as they were: machines with what ran on them, and what was being built is built on.

// keptFormat says what the files of a folder mean.
const keptFormat = "andamio.stand-ins/1"

// keptSandbox is what is kept of all stand-ins together.
type keptSandbox struct {
	Format string `json:"format"`
	Octet  int    `json:"octet"`
	// Estate is what the stand-ins were made from; they go on with it.
	Estate    json.RawMessage `json:"estate"`
	Endpoints []Endpoint      `json:"endpoints"`
	// Zone is the name server.
	Zone *nameserver.Kept `json:"zone,omitempty"`
}

// keptCloud is what is kept of one.
type keptCloud struct {
	Format   string                   `json:"format"`
	Next     int                      `json:"next"`
	Sequence int64                    `json:"sequence"`
	IDs      []string                 `json:"ids"`
	Things   map[string]*keptThing    `json:"things"`
	Keys     map[string]string        `json:"keys,omitempty"`
	Tags     map[string]wire.Category `json:"tags,omitempty"`
	Sinks    map[string]keptSink      `json:"sinks,omitempty"`
	Accounts map[string]keptAccount   `json:"accounts"`
	Pairs    map[string]*wire.Pair    `json:"pairs,omitempty"`
	Private  []byte                   `json:"private"`
	Digests  map[string]string        `json:"digests,omitempty"`
}

type keptSink struct {
	URL         string `json:"url"`
	Secret      string `json:"secret"`
	Authorities string `json:"authorities,omitempty"`
}

type keptAccount struct {
	Name  string   `json:"name"`
	May   []string `json:"may"`
	First bool     `json:"first,omitempty"`
}

// keptThing is what is kept of a thing. What is on its disk is in files.
type keptThing struct {
	Resource wire.Resource   `json:"resource"`
	Term     string          `json:"term"`
	Zone     string          `json:"zone,omitempty"`
	Host     string          `json:"host,omitempty"`
	Roomy    bool            `json:"roomy,omitempty"`
	Take     estate.Capacity `json:"take,omitzero"`
	Disk     int64           `json:"disk,omitempty"`
	Copied   bool            `json:"copied,omitempty"`
	Stale    bool            `json:"stale,omitempty"`
	Standing bool            `json:"standing,omitempty"`
	Broken   bool            `json:"broken,omitempty"`
	// Made says that it was built once: one that is building again only starts.
	Made    bool   `json:"made,omitempty"`
	Source  string `json:"source,omitempty"`
	Target  string `json:"target,omitempty"`
	Lead    string `json:"lead,omitempty"`
	Address string `json:"address,omitempty"`
	Own     bool   `json:"own,omitempty"`
	// Ports says where the thing's ports are mapped.
	Ports    map[int]int    `json:"ports,omitempty"`
	Programs []host.Program `json:"programs,omitempty"`
	Seed     *nocloud.Seed  `json:"seed,omitempty"`
}

// keep writes what the stand-in holds. The lock is held.
func (c *Cloud) keep() error {
	if c.folder == "" || c.ended {
		return nil
	}
	k := keptCloud{Format: keptFormat, Next: c.next, Sequence: c.sequence, IDs: c.ids, Things: map[string]*keptThing{}, Keys: c.keys, Tags: c.tags,
		Sinks: map[string]keptSink{}, Accounts: map[string]keptAccount{}, Pairs: map[string]*wire.Pair{}, Private: c.private, Digests: c.digests}
	for id, t := range c.things {
		k.Things[id] = t.kept()
	}
	for id, s := range c.sinks {
		k.Sinks[id] = keptSink{s.url, s.secret, s.authorities}
	}
	for token, a := range c.accounts {
		k.Accounts[token] = keptAccount{a.name, a.may, a.first}
	}
	for name, p := range c.pairs {
		k.Pairs[name] = &p.Pair
	}
	c.keeps.Add(1)
	text, err := json.Marshal(k)
	if err == nil {
		err = durable.Write(c.file(), text)
	}
	if c.unkept = err; err != nil {
		return err
	}
	for _, d := range c.gone {
		_ = d.Remove() // what stays is removed when the stand-in comes back
	}
	c.gone = nil
	return nil
}

// discard gives a disk back: its files once it is kept that nothing has it any more.
func (c *Cloud) discard(d *disk.Disk) {
	if c.folder == "" {
		_ = d.Remove()
		return
	}
	_ = d.Close()
	c.gone = append(c.gone, d)
}

// sweep removes the files of disks that nothing has.
func (c *Cloud) sweep() error {
	dir := filepath.Join(c.folder, "disks")
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	var errs []error
	for _, e := range entries {
		if id, _, _ := strings.Cut(e.Name(), "."); c.things[id] == nil {
			errs = append(errs, os.Remove(filepath.Join(dir, e.Name())))
		}
	}
	return errors.Join(errs...)
}

func (c *Cloud) file() string { return filepath.Join(c.folder, "site.json") }

func (t *thing) kept() *keptThing {
	k := &keptThing{Resource: t.Resource, Term: t.term, Take: t.take, Copied: t.copied, Stale: t.stale, Standing: t.standing,
		Broken: t.broken, Made: t.made, Source: t.source, Target: t.target, Lead: t.lead, Seed: t.seed}
	if t.room != nil {
		k.Zone, k.Host, k.Roomy = t.room.zone, t.room.host, true
	}
	if t.disk != nil {
		k.Disk = t.disk.Size()
	}
	if t.reach != nil {
		k.Address, k.Own, k.Ports = t.reach.address, t.reach.own, t.reach.mapped()
	}
	if t.host != nil {
		k.Programs = t.host.Programs()
	}
	return k
}

// serve answers what was asked for only once what came of it is kept: by itself, or with what others asked for at the same time.
func (c *Cloud) serve(w http.ResponseWriter, r *http.Request) {
	if c.folder == "" || r.Method == http.MethodGet {
		c.mux.ServeHTTP(w, r)
		return
	}
	late := &lateAnswer{header: w.Header()}
	c.mux.ServeHTTP(late, r)
	before := c.keeps.Load()
	c.mu.Lock()
	err, ended := c.unkept, c.ended
	if c.keeps.Load() == before || err != nil { // else all was kept after this was done
		err = c.keep()
	}
	c.mu.Unlock()
	switch {
	case ended: // it was never acknowledged
		panic(http.ErrAbortHandler)
	case err != nil:
		refuse(w, http.StatusInternalServerError, "what was done cannot be kept: %v", err)
	default:
		w.WriteHeader(max(late.code, http.StatusOK))
		_, _ = w.Write(late.body.Bytes())
	}
}

// lateAnswer holds an answer back.
type lateAnswer struct {
	header http.Header
	code   int
	body   bytes.Buffer
}

func (l *lateAnswer) Header() http.Header { return l.header }
func (l *lateAnswer) WriteHeader(code int) {
	if l.code == 0 {
		l.code = code
	}
}
func (l *lateAnswer) Write(p []byte) (int, error) {
	l.WriteHeader(http.StatusOK)
	return l.body.Write(p)
}

// recall brings back what was kept of the stand-in.
func (c *Cloud) recall() error {
	var k keptCloud
	there, err := readKept(c.file(), &k, func() string { return k.Format })
	if err != nil {
		return err
	}
	if !there {
		return fmt.Errorf("%s is gone", c.file())
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	// Notices that went out and were not noted any more are not numbered again.
	c.next, c.sequence, c.ids, c.private = k.Next, k.Sequence+1000, k.IDs, ed25519.PrivateKey(k.Private)
	if k.Tags != nil {
		c.tags = k.Tags
	}
	if k.Keys != nil {
		c.keys = k.Keys
	}
	if c.digests != nil && k.Digests != nil {
		c.digests = k.Digests
	}
	c.accounts = accounts{}
	for token, a := range k.Accounts {
		c.accounts[token] = account{a.Name, a.May, a.First}
	}
	for id, s := range k.Sinks {
		c.sinks[id] = sink{s.URL, s.Secret, s.Authorities}
	}
	for name, p := range k.Pairs {
		c.pairs[name] = &pair{*p, pairKey(*p)}
	}
	return errors.Join(c.recallThings(k.Things), c.sweep())
}

// recallThings brings the things back: first all of them with their disks, then what is on.
func (c *Cloud) recallThings(all map[string]*keptThing) error {
	c.things = map[string]*thing{}
	for id, k := range all {
		t, err := c.recallThing(k)
		if err != nil {
			return fmt.Errorf("%s: %w", id, err)
		}
		c.things[id] = t
	}
	for _, id := range c.ids {
		t := c.things[id]
		if t == nil {
			continue
		}
		if err := c.goOn(t, all[id].Programs); err != nil {
			return fmt.Errorf("%s (%s) does not come back: %w", id, t.Title, err)
		}
	}
	return nil
}

func (c *Cloud) recallThing(k *keptThing) (*thing, error) {
	t := &thing{Resource: k.Resource, term: k.Term, take: k.Take, copied: k.Copied, stale: k.Stale, standing: k.Standing, broken: k.Broken,
		made: k.Made, source: k.Source, target: k.Target, lead: k.Lead, seed: k.Seed}
	if t.Attributes == nil {
		t.Attributes = map[string]any{}
	}
	if k.Roomy {
		i := slices.IndexFunc(c.rooms, func(r *room) bool { return r.zone == k.Zone && r.host == k.Host })
		if i < 0 {
			return nil, fmt.Errorf("there is no zone %q %s any more", k.Zone, k.Host)
		}
		t.room = c.rooms[i]
		t.room.free = t.room.free.Minus(k.Take)
	}
	if k.Address != "" {
		t.reach = &reach{address: k.Address, own: k.Own, maps: k.Ports}
		if k.Own {
			c.addrs.hold(k.Address)
		}
	}
	if k.Disk > 0 {
		if err := c.diskFor(t, k.Disk); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// goOn has a thing go on as it was: a machine is switched on with what ran on it, what was being built is built on.
func (c *Cloud) goOn(t *thing, programs []host.Program) error {
	l := lives[t.term]
	is := word(t.Attributes[l.word])
	switch {
	case is == "accepted" || is == "building":
		if t.made {
			go c.restart(t)
		} else if l.seconds != nil {
			go c.live(t, l, c.lifetime(t, l))
		}
		return nil
	case t.term != "compute" || is != l.active && is != "suspended":
		return nil
	}
	return c.revive(t, is == "suspended", programs)
}

// revive makes a machine real again.
func (c *Cloud) revive(t *thing, suspended bool, programs []host.Program) error {
	if why := c.boot(t); why != nil {
		return errors.New(why.text)
	}
	if suspended {
		t.host.Shut()
	}
	for _, link := range c.things {
		if link.source == t.ID && link.reach != nil && word(link.Attributes[wire.LinkWord]) != "released" {
			if err := t.host.Plug(link.reach); err != nil {
				return err
			}
		}
	}
	if err := t.host.Start(programs); err != nil {
		return err
	}
	if !suspended {
		return nil
	}
	if err := t.host.Suspend(); err != nil {
		return err
	}
	for _, link := range c.things {
		if link.source == t.ID && word(link.Attributes[wire.LinkWord]) == "released" {
			t.host.Lead(leads(link.lead))
		}
	}
	return nil
}

// diskFor opens or makes the disk of a thing.
func (c *Cloud) diskFor(t *thing, size int64) error {
	epoch := c.site.Name + "-" + t.ID
	if c.folder == "" {
		t.disk = disk.New(size, epoch)
	} else {
		// Generations count anew in every process.
		d, err := disk.At(filepath.Join(c.folder, "disks", t.ID), size, fmt.Sprintf("%s-%d", epoch, time.Now().UnixNano()))
		if err != nil {
			return err
		}
		t.disk = d
	}
	t.disk.OnFirst = func() { c.fill(t) }
	return nil
}

// readKept reads a file; false if it is not there.
func readKept(name string, into any, format func() string) (bool, error) {
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if err := json.Unmarshal(data, into); err != nil {
		return false, fmt.Errorf("%s is damaged: %w", name, err)
	}
	if format() != keptFormat {
		return false, fmt.Errorf("%s is of %q, which this program does not know", name, format())
	}
	return true, nil
}

// recallSandbox reads what is kept of all stand-ins together; nil if nothing is.
func recallSandbox(folder string) (*keptSandbox, error) {
	if folder == "" {
		return nil, nil
	}
	k := new(keptSandbox)
	there, err := readKept(filepath.Join(folder, "sandbox.json"), k, func() string { return k.Format })
	if err != nil || !there {
		return nil, err
	}
	return k, nil
}

// KeptEstate is the estate of the stand-ins that are kept in a folder; nil if none are.
func KeptEstate(folder string) (*estate.Estate, error) {
	k, err := recallSandbox(folder)
	if err != nil || k == nil {
		return nil, err
	}
	return estate.Read(k.Estate)
}

// keep writes what all stand-ins have together.
func (s *Sandbox) keep(e *estate.Estate) error {
	if s.folder == "" {
		return nil
	}
	text, err := e.Write()
	if err != nil {
		return err
	}
	k := keptSandbox{Format: keptFormat, Octet: s.block.octet, Estate: text, Endpoints: s.Endpoints}
	if s.Names != nil {
		k.Zone = s.Names.Kept()
	}
	return durable.WriteJSON(filepath.Join(s.folder, "sandbox.json"), k)
}
