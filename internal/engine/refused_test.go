package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/ovf"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// room is where two sites keep what they have, which do all that a site can do, and refuse one call in a run: the one that a test names.
type room struct {
	mu     sync.Mutex
	at     int // which call is refused; 0 is none
	calls  int
	things map[string]*kept
	made   int
}

// kept is a thing that is kept.
type kept struct {
	kind  kinds.Kind
	state site.State
	disk  []byte

	balancing site.Balancing
	members   map[string]string
	limit     site.IOLimit
}

const refusal = "that is not to be"

// call counts a call, and refuses it if it is that one.
func (r *room) call(doing string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.calls++; r.calls == r.at {
		return &site.Error{Site: "vega", Doing: doing, Class: site.Refused, Detail: refusal}
	}
	return nil
}

// count is how often it was called.
func (r *room) count() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.calls
}

// roomy is one of its sites.
type roomy struct {
	name string
	*room
}

func (s *roomy) find(doing, id string) (*kept, error) {
	if err := s.call(doing); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if x := s.things[id]; x != nil {
		return x, nil
	}
	return nil, &site.Error{Site: s.name, Doing: doing, Class: site.NotFound}
}

func (s *roomy) resource(id string, x *kept) site.Resource {
	out := site.Resource{Kind: x.kind, ID: id, State: x.state, Word: string(x.state), Attributes: map[string]string{"address": "127.0.0.1"}}
	if x.limit != (site.IOLimit{}) {
		out.Attributes[site.AttrIOPerSecond], out.Attributes[site.AttrIOMiBPerSecond] = fmt.Sprint(x.limit.PerSecond), fmt.Sprint(x.limit.MiBPerSecond)
	}
	if x.kind == kinds.Object {
		out.Attributes[site.AttrReceived] = fmt.Sprint(len(x.disk))
	}
	return out
}

func (s *roomy) Name() string                                   { return s.name }
func (s *roomy) Describe(context.Context) (*estate.Site, error) { return nil, nil }

func (s *roomy) Create(_ context.Context, r site.Request) (site.Resource, error) {
	if err := s.call("create"); err != nil {
		return site.Resource{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.made++
	x := &kept{kind: r.Kind, state: site.Active, disk: make([]byte, 256<<10)}
	if r.Kind == kinds.Object {
		x.disk = nil
	}
	id := fmt.Sprintf("%s-%d", r.Kind, s.made)
	s.things[id] = x
	return s.resource(id, x), nil
}

func (s *roomy) Read(_ context.Context, _ kinds.Kind, id string) (site.Resource, error) {
	x, err := s.find("read", id)
	if err != nil {
		return site.Resource{}, err
	}
	return s.resource(id, x), nil
}

func (s *roomy) List(_ context.Context, kind kinds.Kind) ([]site.Resource, error) {
	if err := s.call("list"); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []site.Resource
	for _, id := range slices.Sorted(maps.Keys(s.things)) {
		if x := s.things[id]; x.kind == kind {
			r := s.resource(id, x)
			r.Mark = "d1"
			out = append(out, r)
		}
	}
	return out, nil
}

func (s *roomy) Invoke(_ context.Context, _ kinds.Kind, id, action string) (site.Resource, error) {
	x, err := s.find(action, id)
	if err != nil {
		return site.Resource{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if to, turns := map[string]site.State{"start": site.Active, "stop": site.Stopped, site.ActSuspend: site.Suspended}[action]; turns {
		x.state = to
	}
	return s.resource(id, x), nil
}

func (s *roomy) Change(_ context.Context, _ kinds.Kind, id string, _ site.Request) (site.Resource, error) {
	x, err := s.find("change", id)
	if err != nil {
		return site.Resource{}, err
	}
	return s.resource(id, x), nil
}

func (s *roomy) Delete(_ context.Context, _ kinds.Kind, id string) error {
	if _, err := s.find("delete", id); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.things, id)
	return nil
}

func (s *roomy) Restore(_ context.Context, snapshot, disk string) error {
	from, err := s.find("restore", snapshot)
	if err != nil {
		return err
	}
	to, err := s.find("restore to", disk)
	if err == nil {
		copy(to.disk, from.disk)
	}
	return err
}

func (s *roomy) Recall(_ context.Context, snapshot, instance string) error {
	if _, err := s.find("recall", snapshot); err != nil {
		return err
	}
	to, err := s.find("have go on", instance)
	if err == nil {
		to.state = site.Active
	}
	return err
}

func (s *roomy) Release(_ context.Context, iface string, _ map[string]string) error {
	_, err := s.find("release", iface)
	return err
}

func (s *roomy) Changes(_ context.Context, disk, epoch string, since uint32) (site.Changes, error) {
	x, err := s.find("list what changed", disk)
	if err != nil {
		return site.Changes{}, err
	}
	if epoch == "e" && since == 1 {
		return site.Changes{Size: int64(len(x.disk)), Epoch: "e", UpTo: 1, Layers: 1}, nil // nothing was
	}
	out := site.Changes{Size: int64(len(x.disk)), Epoch: "e", UpTo: 1, Whole: true, Layers: 1}
	for off := int64(0); off < out.Size; off += hashBlock {
		if slices.ContainsFunc(x.disk[off:off+hashBlock], func(b byte) bool { return b != 0 }) {
			out.Written = append(out.Written, site.Extent{Offset: off, Length: hashBlock})
		}
	}
	return out, nil
}

func (s *roomy) Hashes(_ context.Context, disk string, e site.Extent, block int64) ([]byte, error) {
	x, err := s.find("digest", disk)
	if err != nil {
		return nil, err
	}
	var out []byte
	for off := e.Offset; off < e.Offset+e.Length; off += block {
		d := sha256.Sum256(x.disk[off:min(off+block, e.Offset+e.Length)])
		out = append(out, d[:]...)
	}
	return out, nil
}

func (s *roomy) ReadDisk(_ context.Context, disk string, e site.Extent) ([]byte, error) {
	x, err := s.find("read a disk", disk)
	if err != nil {
		return nil, err
	}
	return slices.Clone(x.disk[e.Offset : e.Offset+e.Length]), nil
}

func (s *roomy) WriteDisk(_ context.Context, disk string, offset int64, data []byte) error {
	x, err := s.find("write a disk", disk)
	if err == nil {
		copy(x.disk[offset:], data)
	}
	return err
}

func (s *roomy) Copy(_ context.Context, disk string, o site.CopyRequest) (site.Copied, error) {
	to, err := s.find("copy to", disk)
	if err != nil {
		return site.Copied{}, err
	}
	from := s.things[o.Disk]
	out := site.Copied{Took: time.Millisecond}
	for _, e := range o.Written {
		copy(to.disk[e.Offset:e.Offset+e.Length], from.disk[e.Offset:])
		out.Bytes, out.Wire, out.Verified = out.Bytes+e.Length, out.Wire+e.Length, out.Verified+e.Length
	}
	for _, e := range o.Zero {
		clear(to.disk[e.Offset : e.Offset+e.Length])
		out.Holes += e.Length
	}
	return out, nil
}

func (s *roomy) Consolidate(_ context.Context, disk string) (int64, error) {
	_, err := s.find("consolidate", disk)
	return 1, err
}

func (s *roomy) Limit(_ context.Context, volume string, l site.IOLimit) error {
	x, err := s.find("limit", volume)
	if err == nil {
		x.limit = l
	}
	return err
}

// most is how much of an object is taken at once.
const most = 64 << 10

func (s *roomy) Upload(_ context.Context, object string, offset, _ int64, data []byte) (int64, error) {
	x, err := s.find("upload", object)
	if err != nil {
		return 0, err
	}
	x.disk = append(x.disk[:offset], data[:min(most, len(data))]...)
	return int64(len(x.disk)), nil
}

func (s *roomy) Unpack(_ context.Context, disk, object string, _ int) (int64, error) {
	if _, err := s.find("unpack", object); err != nil {
		return 0, err
	}
	_, err := s.find("write", disk)
	return 1, err
}

// smallPackage is a package of two disks, of which each has a little.
func smallPackage(t *testing.T) (file, digest string, size int64) {
	t.Helper()
	source := ovf.Source{Held: []ovf.Extent{{Offset: 64 << 10, Length: 64 << 10}}, Read: func(p []byte, _ int64) error { copy(p, "what a package brings"); return nil }}
	spool, err := os.CreateTemp(t.TempDir(), "spool")
	require.NoError(t, err)
	defer spool.Close()
	var out bytes.Buffer
	p := ovf.Package{Name: "well", Hostname: "well", Cores: 1, MemoryGiB: 1, OS: "linux", Disks: []ovf.Disk{{Name: "system", Bytes: 256 << 10}, {Name: "depths", Bytes: 256 << 10}}}
	require.NoError(t, ovf.Write(&out, p, []ovf.Source{source, source}, spool, time.Unix(1e9, 0)))
	file = filepath.Join(t.TempDir(), "well.ova")
	require.NoError(t, os.WriteFile(file, out.Bytes(), 0o600))
	sum := sha256.Sum256(out.Bytes())
	return file, hex.EncodeToString(sum[:]), int64(out.Len())
}

func (s *roomy) balance(doing, id, name, at string) error {
	x, err := s.find(doing, id)
	if err != nil {
		return err
	}
	if x.members == nil {
		x.members = map[string]string{}
	}
	if x.members[name] = at; at == "" {
		delete(x.members, name)
	}
	return nil
}

func (s *roomy) Balance(_ context.Context, id string, b site.Balancing) error {
	x, err := s.find("balance", id)
	if err == nil {
		x.balancing = b
	}
	return err
}

func (s *roomy) Enroll(_ context.Context, id string, m site.Member) error {
	return s.balance("enroll", id, m.Name, fmt.Sprintf("%s:%d", m.Address, m.Port))
}

func (s *roomy) Dismiss(_ context.Context, id, name string) error {
	return s.balance("dismiss", id, name, "")
}

func (s *roomy) Balances(_ context.Context, id string) (site.Balancing, map[string]string, error) {
	x, err := s.find("read what balances", id)
	if err != nil {
		return site.Balancing{}, nil, err
	}
	return x.balancing, x.members, nil
}

func (s *roomy) Self(context.Context) (site.Peer, error) {
	return site.Peer{Site: s.name}, s.call("self")
}
func (s *roomy) Pair(context.Context, site.Peer) error { return s.call("pair") }
func (s *roomy) Part(context.Context, string) error    { return s.call("part") }
func (s *roomy) Grant(_ context.Context, _, disk string) error {
	_, err := s.find("grant", disk)
	return err
}
func (s *roomy) Try(context.Context, string) (site.Trial, error) {
	return site.Trial{Reachable: true, BytesPerSecond: 1e9}, s.call("try")
}

// furnished is a room with a machine, its disk and interface at one site, others like them at the other, and a snapshot.
func furnished(at int) *room {
	r := &room{at: at, things: map[string]*kept{}}
	for id, kind := range map[string]kinds.Kind{"net": kinds.Network, "host": kinds.Instance, "vol": kinds.Volume, "port": kinds.Interface, "link": kinds.Attachment, "snap": kinds.Snapshot, "mem": kinds.Snapshot, "host2": kinds.Instance, "vol2": kinds.Volume, "port2": kinds.Interface, "box": kinds.Object} {
		x := &kept{kind: kind, state: site.Active, disk: make([]byte, 256<<10)}
		if strings.HasPrefix(id, "vol") || id == "snap" {
			copy(x.disk[hashBlock:], "what is on "+id)
		}
		r.things[id] = x
	}
	return r
}

// asked is a plan of one step at such sites, which know what stands there.
func asked(s plan.Step) *plan.Plan {
	at := func(id, name string, kind kinds.Kind, spec plan.Spec) plan.Resource {
		return plan.Resource{ID: id, Kind: kind, Site: name, Level: 1, Spec: spec}
	}
	p := &plan.Plan{Version: plan.Version, Name: "one", Levels: 1, Sites: []plan.Site{{Name: "vega"}, {Name: "presa"}}, Known: map[string]map[string]string{}}
	p.Resources = []plan.Resource{at("net", "vega", kinds.Network, plan.NetworkSpec{Label: "net"}), at("host", "vega", kinds.Instance, plan.InstanceSpec{Cores: 1, MemoryGiB: 1, DiskGiB: 1}),
		at("vol", "vega", kinds.Volume, plan.VolumeSpec{DiskGiB: 1}), at("port", "vega", kinds.Interface, plan.InterfaceSpec{Instance: "host", Network: "net"}),
		at("snap", "vega", kinds.Snapshot, plan.SnapshotSpec{Of: "vol", Set: "one"}), at("mem", "vega", kinds.Snapshot, plan.SnapshotSpec{Of: "host", Set: "one", Memory: true}), at("host2", "presa", kinds.Instance, plan.InstanceSpec{Cores: 1}), at("vol2", "presa", kinds.Volume, plan.VolumeSpec{DiskGiB: 1}),
		at("port2", "presa", kinds.Interface, plan.InterfaceSpec{Instance: "host2"}), at("new", "vega", kinds.Volume, plan.VolumeSpec{DiskGiB: 1}), at("shot", "vega", kinds.Snapshot, plan.SnapshotSpec{Of: "vol", Set: "two"}), at("box", "vega", kinds.Object, plan.NoSpec{}), at("crate", "vega", kinds.Object, plan.NoSpec{}),
		{ID: "door", Kind: kinds.Software, Site: "vega", Level: 1, On: "host", Spec: plan.NoSpec{}}}
	for _, id := range []string{"net", "host", "vol", "port", "snap", "mem", "host2", "vol2", "port2", "box"} {
		p.Known[id] = map[string]string{"site.id": id, "address": "127.0.0.1"}
	}
	p.Known["host"]["site.id.vol"] = "link"
	s.Level, s.Seconds, s.Check = 1, 0.01, plan.Condition{Kind: plan.CheckSite}
	s.ID = s.Op.For(s.Resource, s.Volume)
	s.Site = p.Resources[slices.IndexFunc(p.Resources, func(r plan.Resource) bool { return r.ID == s.Resource })].Site
	p.Steps = []plan.Step{s}
	return plan.Reindexed(p)
}

// operation is a step that asks sites for something.
type operation struct {
	step   plan.Step
	before func(*room)
	least  int      // how many calls it makes at least
	needs  []string // of what it has to know the site's id
}

// operations are those of each kind, at sites such as these.
func operations(t *testing.T) map[string]operation {
	t.Helper()
	file, digest, size := smallPackage(t)
	filling := func(object string, disks ...string) *plan.Filling {
		return &plan.Filling{File: file, SHA256: digest, Bytes: size, Object: object, Disks: disks}
	}
	disks := func(back bool) *plan.Copying {
		return &plan.Copying{From: "presa", Grant: true, Back: back, Disks: []plan.DiskCopy{{From: "vol2", To: "vol", Title: "vol", GiB: 1}}}
	}
	off := func(r *room) { r.things["host"].state = site.Stopped }
	return map[string]operation{
		"build":           {plan.Step{Resource: "new", Op: op.Create}, nil, 1, nil},
		"attach":          {plan.Step{Resource: "host", Op: op.Attach, Volume: "vol"}, nil, 1, []string{"host", "vol"}},
		"plug":            {plan.Step{Resource: "port", Op: op.Plug}, nil, 1, []string{"host", "net"}},
		"switch off":      {plan.Step{Resource: "host", Op: op.Halt}, nil, 1, []string{"host"}},
		"switch on":       {plan.Step{Resource: "host", Op: op.Boot}, off, 2, []string{"host"}},
		"change in place": {plan.Step{Resource: "host", Op: op.Alter}, off, 1, []string{"host"}},
		"restore":         {plan.Step{Resource: "vol", Op: op.Restore, Restoring: &plan.Restoring{Snapshot: "snap", Set: "one"}}, off, 2, []string{"snap", "vol"}},
		"recall":          {plan.Step{Resource: "host", Op: op.Recall, Restoring: &plan.Restoring{Snapshot: "mem", Set: "one"}}, off, 2, []string{"host", "mem"}},
		"renew":           {plan.Step{Resource: "vol", Op: op.Renew, Copying: disks(false)}, nil, 3, []string{"vol", "vol2"}},
		"unplug":          {plan.Step{Resource: "port", Op: op.Unplug}, nil, 2, nil},
		"detach":          {plan.Step{Resource: "host", Op: op.Detach, Volume: "vol"}, nil, 2, nil},
		"remove":          {plan.Step{Resource: "vol", Op: op.Remove}, nil, 2, nil},
		"sweep":           {plan.Step{Resource: "net", Op: op.Sweep}, nil, len(site.Kinds), nil},
		"accept":          {plan.Step{Resource: "host", Op: op.Accept}, nil, 1, []string{"host"}},
		"balance":         {plan.Step{Resource: "door", Op: op.Balance, Balancing: &plan.Balancing{Port: 80, Protocol: "http", Algorithm: "source", Look: "/"}}, nil, 2, []string{"host"}},
		"enroll":          {plan.Step{Resource: "door", Op: op.Enroll, Member: &plan.Member{Name: "a", Address: plan.Expr{Literal: "127.0.0.1"}, Port: plan.Expr{Literal: "81"}}}, nil, 2, []string{"host"}},
		"dismiss":         {plan.Step{Resource: "door", Op: op.Dismiss, Member: &plan.Member{Name: "a"}}, nil, 2, nil},
		"mend":            {plan.Step{Resource: "host", Op: op.Mend, Mends: map[string]string{"tag.tier": "front"}}, nil, 1, []string{"host"}},
		"first copy":      {plan.Step{Resource: "host", Op: op.Replicate, Copying: disks(false)}, off, 3, []string{"vol", "vol2"}},
		"last round":      {plan.Step{Resource: "host", Op: op.Finish, Copying: disks(false)}, off, 4, []string{"vol", "vol2"}},
		"have it back":    {plan.Step{Resource: "host", Op: op.Finish, Copying: disks(true)}, off, 3, []string{"vol", "vol2"}},
		"suspend":         {plan.Step{Resource: "host", Op: op.Suspend}, nil, 1, []string{"host"}},
		"release":         {plan.Step{Resource: "port", Op: op.Release}, nil, 1, []string{"port"}},
		"reclaim":         {plan.Step{Resource: "port", Op: op.Reclaim}, nil, 1, []string{"port"}},
		"consolidate":     {plan.Step{Resource: "host", Op: op.Consolidate, Copying: disks(false)}, nil, 1, []string{"vol"}},
		"bound":           {plan.Step{Resource: "vol", Op: op.Mend, Mends: map[string]string{plan.MendIOPerSecond: "500", plan.MendIOMiB: "2.5"}}, nil, 2, []string{"vol"}},
		"snapshot":        {plan.Step{Resource: "shot", Op: op.Create}, nil, 1, []string{"vol"}},
		"fill":            {plan.Step{Resource: "host", Op: op.Fill, Filling: filling("", "host", "vol")}, off, 2, []string{"host", "vol"}},
		"unpack":          {plan.Step{Resource: "host", Op: op.Fill, Filling: filling("box", "host", "vol")}, off, 2, []string{"box", "host", "vol"}},
		"lift":            {plan.Step{Resource: "crate", Op: op.Create, Filling: filling("")}, nil, 2, nil},
	}
}

// TestARefusalIsAFailure has a site refuse one call after another of what each operation asks it: the step fails and says why, and none is said to be done that was not.
func TestARefusalIsAFailure(t *testing.T) {
	for name, c := range operations(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for at := 1; ; at++ {
				require.Less(t, at, 60, "it asks without end")
				r := furnished(at)
				if c.before != nil {
					c.before(r)
				}
				p := asked(c.step)
				m := &memory{}
				e := &Engine{Run: "r1", Mark: "d1", Plan: p, Sites: map[string]site.Site{"vega": &roomy{"vega", r}, "presa": &roomy{"presa", r}}, Journal: m, Key: signer(t), Patience: Patience{Wait: time.Second}}
				ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
				err := e.Execute(ctx)
				cancel()
				s := state(p, m)
				if r.calls < at { // all were made, and none was refused
					require.NoError(t, err, "%v", s.Steps[0].Error)
					require.Equal(t, run.Standing, s.Status)
					assert.GreaterOrEqual(t, at-1, c.least, "it asks for more")
					return
				}
				require.Equal(t, run.Failed, s.Steps[0].Status, "call %d was refused, and it is %s", at, s.Steps[0].Status)
				require.Contains(t, s.Steps[0].Error, refusal)
				require.NotEqual(t, run.Standing, s.Status)
			}
		})
	}
}

// engineFor is the engine for one operation.
func (c *operation) engineFor(t *testing.T, r *room, p *plan.Plan, j Journal) *Engine {
	t.Helper()
	if c.before != nil {
		c.before(r)
	}
	return &Engine{Run: "r1", Mark: "d1", Plan: p, Sites: map[string]site.Site{"vega": &roomy{"vega", r}, "presa": &roomy{"presa", r}}, Journal: j, Key: signer(t), Patience: Patience{Wait: time.Second}}
}

// TestWhatASiteCallsThingsHasToBeKnown has each operation know everything but the site's id of one thing: one that needs it fails, says of what, and asks the site for nothing with an empty id.
func TestWhatASiteCallsThingsHasToBeKnown(t *testing.T) {
	for name, c := range operations(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var needs []string
			for _, id := range slices.Sorted(maps.Keys(asked(c.step).Known)) {
				p, r, m := asked(c.step), furnished(0), &memory{}
				delete(p.Known[id], "site.id")
				ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
				err := c.engineFor(t, r, p, m).Execute(ctx)
				cancel()
				s := state(p, m)
				if err == nil {
					require.Equal(t, run.Standing, s.Status)
					continue
				}
				needs = append(needs, id)
				assert.Contains(t, s.Steps[0].Error, id)
				assert.Contains(t, s.Steps[0].Error, "known")
			}
			assert.Equal(t, c.needs, needs)
		})
	}
}

// full is a journal that takes no more from some time on.
type full struct {
	memory
	r       *room
	takes   int
	asked   int // how often sites had been asked when it was full
	refused bool
}

var errFull = errors.New("there is no room")

func (f *full) Append(events ...run.Event) error {
	if f.takes--; f.takes < 0 {
		if !f.refused {
			f.refused, f.asked = true, f.r.count()
		}
		return errFull
	}
	return f.memory.Append(events...)
}

// TestNothingIsAskedForThatCannotBeJournalled has the journal take no more after each of what it is told by each operation: nobody asks a site for anything from then on, and the run ends with why.
func TestNothingIsAskedForThatCannotBeJournalled(t *testing.T) {
	for name, c := range operations(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for takes := 0; ; takes++ {
				require.Less(t, takes, 60, "it tells without end")
				p, r := asked(c.step), furnished(0)
				j := &full{r: r, takes: takes}
				ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
				err := c.engineFor(t, r, p, j).Execute(ctx)
				cancel()
				if !j.refused {
					require.NoError(t, err)
					return
				}
				require.ErrorIs(t, err, errFull, "after %d", takes)
				require.Equal(t, j.asked, r.count(), "after %d", takes)
			}
		})
	}
}

// bare is a site that does what every site does, and nothing more.
type bare struct{ site.Site }

// TestWhatASiteCannotDoIsSaid has sites do what every site does, and nothing more: an operation that needs more fails at once, and says what cannot be done.
func TestWhatASiteCannotDoIsSaid(t *testing.T) {
	all := operations(t)
	all["bound"] = operation{step: plan.Step{Resource: "vol", Op: op.Mend, Mends: map[string]string{plan.MendIOPerSecond: "500"}}}
	all["fill"] = operation{step: plan.Step{Resource: "host", Op: op.Fill, Filling: &plan.Filling{File: "well.ova", SHA256: "0", Disks: []string{"host"}}}}
	all["unpack"] = operation{step: plan.Step{Resource: "host", Op: op.Fill, Filling: &plan.Filling{File: "well.ova", SHA256: "0", Object: "net", Disks: []string{"host"}}}}
	for name, why := range map[string]string{"fill": "lets no disks be written", "unpack": "keeps no packages", "bound": "does not bound how much volumes are read and written", "restore": "keeps no snapshots", "recall": "keeps no memory", "release": "cannot keep an address for later", "balance": "runs no load balancers of its own", "enroll": "runs no load balancers of its own",
		"dismiss": "runs no load balancers of its own", "first copy": "the disks of presa cannot be read", "last round": "the disks of presa cannot be read", "renew": "the disks of presa cannot be read"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := all[name]
			p, r, m := asked(c.step), furnished(0), &memory{}
			e := c.engineFor(t, r, p, m)
			for at, s := range e.Sites {
				e.Sites[at] = bare{s}
			}
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			defer cancel()
			require.ErrorIs(t, e.Execute(ctx), ErrUnfinished)
			s := state(p, m)
			assert.Contains(t, s.Steps[0].Error, why)
			assert.Zero(t, s.Steps[0].Retries, "it does not learn to")
		})
	}
}

// TestWhatIsLetBeIsNotFilled fills the disks of a machine of which one holds what is in no package: it is as it was, and what was written is noted.
func TestWhatIsLetBeIsNotFilled(t *testing.T) {
	for _, name := range []string{"fill", "unpack"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := operations(t)[name]
			c.step.Filling.Keep = []string{"vol"}
			p, r, m := asked(c.step), furnished(0), &memory{}
			was := slices.Clone(r.things["vol"].disk)
			require.NoError(t, c.engineFor(t, r, p, m).Execute(t.Context()))
			assert.Equal(t, was, r.things["vol"].disk)
			s := state(p, m)
			got, _ := s.Attribute("host", plan.AttrFilled)
			assert.Equal(t, c.step.Filling.SHA256, got)
			_, noted := s.Attribute("vol", plan.AttrFilled)
			assert.False(t, noted)
			if name == "fill" {
				assert.Contains(t, string(r.things["host"].disk), "what a package brings")
			}
		})
	}
}
