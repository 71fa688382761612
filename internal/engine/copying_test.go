package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/sandbox/disk"
	"andamio/internal/site"
)

// shelf is a site that has disks and nothing else.
type shelf struct {
	scripted
	name  string
	mu    sync.Mutex
	disks map[string]*disk.Disk
	peer  *shelf
	// orders are what was ordered, granted and consolidated what was asked for.
	orders       []site.CopyRequest
	granted      []string
	consolidated []string
	// lies has it say that it verified less than it was ordered; speed bounds what gets through, in bytes a second; before
	// is called before each order.
	lies   bool
	speed  float64
	before func()
}

func (s *shelf) Name() string { return s.name }

func (s *shelf) Changes(_ context.Context, id, epoch string, since uint32) (site.Changes, error) {
	d := s.disks[id]
	if epoch != d.Epoch {
		since = 0
	}
	written, zero, upTo := d.Changes(since)
	return site.Changes{Size: d.Size(), Epoch: d.Epoch, UpTo: upTo, Whole: since == 0, Written: extentsOf(written), Zero: extentsOf(zero), Layers: d.Layers()}, nil
}

func extentsOf(list []disk.Extent) (out []site.Extent) {
	for _, x := range list {
		out = append(out, site.Extent{Offset: x.Offset, Length: x.Length})
	}
	return out
}

func (s *shelf) Hashes(_ context.Context, id string, x site.Extent, block int64) ([]byte, error) {
	return s.disks[id].Hashes(x.Offset, x.Length, int(block))
}

func (s *shelf) Copy(ctx context.Context, id string, o site.CopyRequest) (site.Copied, error) {
	s.mu.Lock()
	s.orders = append(s.orders, o)
	s.mu.Unlock()
	if s.before != nil {
		s.before()
	}
	d, from, n := s.disks[id], s.peer.disks[o.Disk], int64(0)
	if o.Round > 0 {
		if err := d.Apart(o.Round); err != nil {
			return site.Copied{}, err
		}
	}
	for _, x := range o.Zero {
		if err := d.Zero(x.Offset, x.Length); err != nil {
			return site.Copied{}, err
		}
	}
	for _, x := range o.Written {
		buf := make([]byte, x.Length)
		if _, err := from.ReadAt(buf, x.Offset); err != nil {
			return site.Copied{}, err
		}
		if _, err := d.WriteAt(buf, x.Offset); err != nil {
			return site.Copied{}, err
		}
		n += x.Length
	}
	if s.speed > 0 {
		time.Sleep(time.Duration(float64(n) / s.speed * float64(time.Second)))
	}
	out := site.Copied{Bytes: n, Wire: n, Verified: n}
	if s.lies && n > 0 {
		out.Verified--
	}
	return out, ctx.Err()
}

func (s *shelf) Consolidate(_ context.Context, id string) (int64, error) {
	s.consolidated = append(s.consolidated, id)
	return s.disks[id].Consolidate()
}

func (s *shelf) Grant(_ context.Context, other, id string) error {
	s.granted = append(s.granted, other+" "+id)
	return nil
}

var errUnused = errors.New("not asked for in these tests")

func (s *shelf) ReadDisk(context.Context, string, site.Extent) ([]byte, error) { return nil, errUnused }
func (s *shelf) WriteDisk(context.Context, string, int64, []byte) error        { return errUnused }
func (s *shelf) Release(context.Context, string, map[string]string) error      { return errUnused }
func (s *shelf) Self(context.Context) (site.Peer, error)                       { return site.Peer{}, errUnused }
func (s *shelf) Pair(context.Context, site.Peer) error                         { return errUnused }
func (s *shelf) Part(context.Context, string) error                            { return errUnused }
func (s *shelf) Try(context.Context, string) (site.Trial, error)               { return site.Trial{}, errUnused }
func (s *shelf) Unpack(context.Context, string, string, int) (int64, error)    { return 0, errUnused }
func (s *shelf) Upload(context.Context, string, int64, int64, []byte) (int64, error) {
	return 0, errUnused
}

// copying is a run of one step that copies the disk of one workload from vega to presa.
type copying struct {
	e        *Engine
	m        *memory
	from, to *shelf
}

const diskSize = 64 << 20

// copyingFor makes one; events are what a run that broke off left in the journal.
func copyingFor(t *testing.T, ops []op.Op, terms plan.Copying, events ...run.Event) *copying {
	t.Helper()
	terms.From, terms.Disks = "vega", []plan.DiskCopy{{From: "host@vega", To: "host"}}
	var steps []plan.Step
	for i, op := range ops {
		s := plan.Step{ID: "host/" + string(op), Resource: "host", Op: op, Site: "presa", Copying: &terms, Check: plan.Condition{Kind: plan.CheckSite}}
		if i > 0 {
			s.After = []string{steps[i-1].ID}
		}
		steps = append(steps, s)
	}
	p := &plan.Plan{Version: plan.Version, Name: "move", Sites: []plan.Site{{Name: "vega"}, {Name: "presa"}},
		Resources: []plan.Resource{{ID: "host", Kind: kinds.Instance, Site: "presa"}, {ID: "host@vega", Kind: kinds.Instance, Site: "vega"}},
		Steps:     steps,
		Known:     map[string]map[string]string{"host": {"site.id": "there"}, "host@vega": {"site.id": "here"}}}
	require.NoError(t, p.Arrange())
	c := &copying{m: &memory{}, from: &shelf{name: "vega"}, to: &shelf{name: "presa"}}
	c.from.disks, c.to.disks = map[string]*disk.Disk{"here": disk.New(diskSize, "e1")}, map[string]*disk.Disk{"there": disk.New(diskSize, "e2")}
	c.from.peer, c.to.peer = c.to, c.from
	t.Cleanup(func() { c.from.disks["here"].Close(); c.to.disks["there"].Close() })
	c.e = &Engine{Run: "r1", Mark: "d1", Plan: p, Sites: map[string]site.Site{"vega": c.from, "presa": c.to}, Journal: c.m, Key: signer(t)}
	if len(events) > 0 {
		s := run.New(p)
		for i, e := range events {
			e.Seq = int64(i + 1)
			e.At = time.Now()
			s.Apply(e)
		}
		c.e.State = s
	}
	return c
}

// put writes a page that holds one byte over and over.
func (c *copying) put(t *testing.T, at int64, b byte) {
	t.Helper()
	_, err := c.from.disks["here"].WriteAt(slices.Repeat([]byte{b}, disk.Page), at)
	require.NoError(t, err)
}

func (c *copying) alike(t *testing.T) {
	t.Helper()
	a, err := c.from.disks["here"].Hashes(0, diskSize, 1<<20)
	require.NoError(t, err)
	b, err := c.to.disks["there"].Hashes(0, diskSize, 1<<20)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(a, b), "the disks differ")
}

func (c *copying) ordered() (bytes int64) {
	for _, o := range c.to.orders {
		bytes += site.Bytes(o.Written)
	}
	return bytes
}

// firstDone is what a journal has of a first copy that is over, up to a generation of an epoch.
func firstDone(epoch, upTo string) []run.Event {
	return []run.Event{{Kind: run.RunStarted},
		{Kind: run.RoundBegun, Resource: "host", Attributes: map[string]string{"disk": "host", "round": "1", "epoch": epoch, "upto": upTo}},
		{Kind: run.RoundDone, Resource: "host", Attributes: map[string]string{"disk": "host"}}}
}

func TestAFirstCopyHasWhatTheDiskHolds(t *testing.T) {
	c := copyingFor(t, []op.Op{op.Replicate}, plan.Copying{Grant: true, Limit: 1 << 30})
	for i := range int64(50) {
		c.put(t, i*1<<20, byte(i+1))
	}
	require.NoError(t, c.e.Execute(ctx))
	c.alike(t)
	assert.EqualValues(t, 50*disk.Page, c.ordered(), "holes are left out")
	assert.Equal(t, []string{"presa here"}, c.from.granted)
	for _, o := range c.to.orders {
		assert.Zero(t, o.Round, "it is written in place")
		assert.EqualValues(t, 1<<30, o.Limit)
	}
	s := state(c.e.Plan, c.m)
	d := s.Disks["host"]
	assert.EqualValues(t, 50*disk.Page, d.Whole)
	assert.Len(t, d.Past, 1)
	assert.False(t, d.Running)
}

// TestAFirstCopyGoesOnWhereItWas resumes one of which half was done when its worker died; what was written before that
// meanwhile is the next round's.
func TestAFirstCopyGoesOnWhereItWas(t *testing.T) {
	c := copyingFor(t, []op.Op{op.Replicate}, plan.Copying{})
	for i := range int64(10) {
		c.put(t, i*1<<20, byte(i+1))
	}
	_, _, upTo := c.from.disks["here"].Changes(0)
	half := int64(5 << 20)
	s := run.New(c.e.Plan)
	for i, e := range []run.Event{{Kind: run.RunStarted}, {Kind: run.StepStarted, Step: "host/replicate"},
		{Kind: run.RoundBegun, Step: "host/replicate", Resource: "host", Attributes: map[string]string{"disk": "host", "round": "1", "epoch": "e1", "upto": fmt.Sprint(upTo), "total": fmt.Sprint(10 * disk.Page)}},
		{Kind: run.Copied, Step: "host/replicate", Resource: "host", Attributes: map[string]string{"disk": "host", "bytes": fmt.Sprint(5 * disk.Page), "done": fmt.Sprint(5 * disk.Page), "at": fmt.Sprint(half)}},
		{Kind: run.RunResumed}} {
		e.Seq, e.At = int64(i+1), time.Now()
		s.Apply(e)
	}
	c.e.State = s
	require.NoError(t, c.e.Execute(ctx))
	assert.EqualValues(t, 5*disk.Page, c.ordered(), "only the second half is ordered")
	for _, o := range c.to.orders {
		assert.GreaterOrEqual(t, o.Written[0].Offset, half)
	}
}

// TestAllDisksAreSizedBeforeOneIsCopied sizes those that are not yet, whichever of them are.
func TestAllDisksAreSizedBeforeOneIsCopied(t *testing.T) {
	for _, known := range []string{"", "host", "disk"} {
		c := copyingFor(t, []op.Op{op.Replicate}, plan.Copying{})
		c.e.Plan.Resources = append(c.e.Plan.Resources, plan.Resource{ID: "disk", Kind: kinds.Volume, Site: "presa", Level: 1, Spec: plan.VolumeSpec{DiskGiB: 1}}, plan.Resource{ID: "disk@vega", Kind: kinds.Volume, Site: "vega", Level: 1, Spec: plan.VolumeSpec{DiskGiB: 1}})
		c.e.Plan.Known["disk"], c.e.Plan.Known["disk@vega"] = map[string]string{"site.id": "there too"}, map[string]string{"site.id": "here too"}
		plan.Reindexed(c.e.Plan)
		terms := c.e.Plan.Steps[0].Copying
		terms.Disks = append(terms.Disks, plan.DiskCopy{From: "disk@vega", To: "disk"})
		c.from.disks["here too"], c.to.disks["there too"] = disk.New(diskSize, "e1"), disk.New(diskSize, "e2")
		t.Cleanup(func() { c.from.disks["here too"].Close(); c.to.disks["there too"].Close() })
		c.put(t, 0, 1)
		s := run.New(c.e.Plan)
		events := []run.Event{{Kind: run.RunStarted}, {Kind: run.StepStarted, Step: "host/replicate"}}
		if known != "" {
			events = append(events, run.Event{Kind: run.Sized, Step: "host/replicate", Resource: known, Attributes: map[string]string{"disk": known, "total": "4096"}})
		}
		for i, e := range append(events, run.Event{Kind: run.RunResumed}) {
			e.Seq, e.At = int64(i+1), time.Now()
			s.Apply(e)
		}
		c.e.State = s
		require.NoError(t, c.e.Execute(ctx), known)
		var sized []string
		copied := false
		for _, e := range c.m.events {
			copied = copied || e.Kind == run.RoundBegun
			if e.Kind == run.Sized {
				assert.False(t, copied, "that is known before")
				sized = append(sized, e.Resource)
			}
		}
		assert.Equal(t, slices.DeleteFunc([]string{"host", "disk"}, func(d string) bool { return d == known }), sized)
	}
}

// TestHowFastItChangesIsCountedSinceTheCopyBegan: a worker died a hundred seconds ago, and the disk went on changing.
func TestHowFastItChangesIsCountedSinceTheCopyBegan(t *testing.T) {
	c := copyingFor(t, []op.Op{op.Replicate, op.Follow}, plan.Copying{})
	for i := range int64(10) {
		c.put(t, i*1<<20, byte(i+1))
	}
	_, _, upTo := c.from.disks["here"].Changes(0)
	began := time.Now().Add(-100 * time.Second)
	s := run.New(c.e.Plan)
	for i, e := range []run.Event{{Kind: run.RunStarted}, {Kind: run.StepStarted, Step: "host/replicate"},
		{Kind: run.RoundBegun, Step: "host/replicate", Resource: "host", Attributes: map[string]string{"disk": "host", "round": "1", "epoch": "e1", "upto": fmt.Sprint(upTo), "total": fmt.Sprint(10 * disk.Page)}},
		{Kind: run.Copied, Step: "host/replicate", Resource: "host", Attributes: map[string]string{"disk": "host", "bytes": fmt.Sprint(5 * disk.Page), "done": fmt.Sprint(5 * disk.Page), "at": fmt.Sprint(5 << 20), "took": "1"}}} {
		e.Seq, e.At = int64(i+1), began
		s.Apply(e)
	}
	c.put(t, 0, 77)
	c.e.State = s
	require.NoError(t, c.e.Execute(ctx))
	judged := state(c.e.Plan, c.m).Judged["host"]
	require.NotEmpty(t, judged)
	assert.Positive(t, judged[0].Bytes)
	assert.LessOrEqual(t, judged[0].Changing, float64(judged[0].Bytes)/100+1, "not since it was gone on with")
}

// TestWhatASiteForgotIsFoundByDigests follows a disk whose site has lost its notes: both sides are compared, and only
// what differs is copied.
func TestWhatASiteForgotIsFoundByDigests(t *testing.T) {
	c := copyingFor(t, []op.Op{op.Finish}, plan.Copying{Consolidate: true}, firstDone("before", "7")...)
	for i := range int64(20) {
		c.put(t, i*1<<20, byte(i+1))
		if i != 3 { // the target has all but one, and one that is emptied by now
			_, err := c.to.disks["there"].WriteAt(slices.Repeat([]byte{byte(i + 1)}, disk.Page), i*1<<20)
			require.NoError(t, err)
		}
	}
	_, err := c.to.disks["there"].WriteAt([]byte("left over"), 40<<20)
	require.NoError(t, err)
	require.NoError(t, c.e.Execute(ctx))
	c.alike(t)
	assert.LessOrEqual(t, c.ordered(), int64(hashBlock), "a block is copied, and nothing else")
	assert.Equal(t, []string{"there"}, c.to.consolidated)
	assert.Equal(t, 1, c.to.disks["there"].Layers())
	s := state(c.e.Plan, c.m)
	for name, want := range map[string]string{"copied.epoch": "e2", "disk.layers": "1"} {
		got, _ := s.Attribute("host", name)
		assert.Equal(t, want, got, name)
	}
}

// TestRoundsFollowWhatChanges cuts over as soon as it can be: what is written meanwhile gets there, in layers.
func TestRoundsFollowWhatChanges(t *testing.T) {
	done := firstDone("e1", "1")
	c := copyingFor(t, []op.Op{op.Follow, op.Finish}, plan.Copying{}, done...)
	c.from.disks["here"].Changes(0) // what the first copy had ends here
	c.put(t, 0, 1)
	var once sync.Once
	c.to.before = func() { once.Do(func() { c.put(t, 8<<20, 9) }) }
	require.NoError(t, c.e.Execute(ctx))
	c.alike(t)
	rounds := map[int]bool{}
	for _, o := range c.to.orders {
		rounds[o.Round] = true
	}
	assert.NotContains(t, slices.Collect(maps.Keys(rounds)), 0, "each is kept apart")
	assert.Greater(t, c.to.disks["there"].Layers(), 1)
	s := state(c.e.Plan, c.m)
	require.NotEmpty(t, s.Judged["host"])
}

// TestWhatDoesNotConvergeIsSaid has a workload change all that gets through, again and again.
func TestWhatDoesNotConvergeIsSaid(t *testing.T) {
	done := firstDone("e1", "1")
	c := copyingFor(t, []op.Op{op.Follow}, plan.Copying{Pause: 0.02}, done...)
	c.from.disks["here"].Changes(0)
	c.to.speed = 20e6
	n := byte(0)
	all := func() {
		n++
		_, _ = c.from.disks["here"].WriteAt(slices.Repeat([]byte{n}, 4<<20), 0)
	}
	all()
	c.to.before = all
	require.ErrorIs(t, c.e.Execute(ctx), ErrUnfinished)
	assert.Contains(t, state(c.e.Plan, c.m).Step("host/follow").Error, "it does not converge")
}

func TestWhatIsNotVerifiedIsNotTaken(t *testing.T) {
	c := copyingFor(t, []op.Op{op.Replicate}, plan.Copying{})
	c.put(t, 0, 1)
	c.to.lies = true
	ctx, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	require.Error(t, c.e.Execute(ctx))
	s := state(c.e.Plan, c.m)
	assert.NotEqual(t, run.Standing, s.Step("host/replicate").Status)
	assert.Zero(t, s.Disks["host"].Done)
}

func TestExtentsAreCutAndSkipped(t *testing.T) {
	list := []site.Extent{{Offset: 0, Length: 10}, {Offset: 20, Length: 10}}
	part, rest := cut(list, 15)
	assert.Equal(t, []site.Extent{{Offset: 0, Length: 10}, {Offset: 20, Length: 5}}, part)
	assert.Equal(t, []site.Extent{{Offset: 25, Length: 5}}, rest)
	part, rest = cut(list, 10)
	assert.Equal(t, list[:1], part)
	assert.Equal(t, list[1:], rest)
	part, rest = cut(list, 100)
	assert.Equal(t, list, part)
	assert.Empty(t, rest)
	assert.Equal(t, []site.Extent{{Offset: 5, Length: 5}, {Offset: 20, Length: 10}}, after(list, 5))
	assert.Empty(t, after(list, 30))
	assert.Equal(t, []site.Extent{{Offset: 0, Length: hashBlock}, {Offset: hashBlock, Length: hashBlock}}, blocks([]site.Extent{{Offset: hashBlock + 5, Length: 1}, {Offset: 10, Length: 3}}, 1<<30), "each block once")
	assert.Equal(t, []site.Extent{{Offset: 0, Length: 100}}, blocks([]site.Extent{{Offset: 10, Length: 3}}, 100), "none beyond the disk")
}

// TestAnOrderIsNoLargerThanItsLimit keeps orders over a slow way short.
func TestAnOrderIsNoLargerThanItsLimit(t *testing.T) {
	c := &copier{order: 16 << 20}
	assert.EqualValues(t, 16<<20, c.sized(0))
	assert.Less(t, c.sized(1<<20), int64(1<<20))
	assert.EqualValues(t, smallOrder, c.sized(1))
	c.learnSpeed(site.Copied{Bytes: 8 << 20, Wire: 8 << 20}, time.Second)
	assert.InDelta(t, 8<<20, c.bandwidth, 1)
	assert.True(t, c.compress, "over a way as slow as this it is tried")
	c.learnSpeed(site.Copied{Bytes: 8 << 20, Wire: 8 << 20}, time.Second)
	assert.False(t, c.compress, "and given up where nothing gets less")
}

// TestASourceThatFallsDuringTheLastRoundIsCopiedToTheEnd: a site that comes back puts what its machines had in memory on their disks anew, also of
// those that stand still. What was listed before is not all then, and what a move begins with would be half of one and half of the other.
func TestASourceThatFallsDuringTheLastRoundIsCopiedToTheEnd(t *testing.T) {
	for _, falls := range []int{1, 3} {
		c := copyingFor(t, []op.Op{op.Finish}, plan.Copying{}, firstDone("e1", "1")...)
		c.from.disks["here"].Changes(0)
		c.put(t, 0, 1)
		n := 0
		c.to.before = func() {
			if n++; n <= falls {
				c.from.disks["here"].Epoch = fmt.Sprintf("after fall %d", n)
				c.put(t, int64(n)<<20, byte(n))
			}
		}
		require.NoError(t, c.e.Execute(ctx))
		c.alike(t)
		assert.Equal(t, falls+1, n, "each time another round, and no more than that")
	}
	c := copyingFor(t, []op.Op{op.Finish}, plan.Copying{}, firstDone("e1", "1")...)
	c.from.disks["here"].Changes(0)
	c.put(t, 0, 1)
	n := byte(0)
	c.to.before = func() {
		n++
		c.put(t, 2<<20, n)
	}
	require.Error(t, c.e.Execute(ctx), "what never ends is not copied for ever")
	assert.Contains(t, state(c.e.Plan, c.m).Step("host/finish").Error, "goes on being written")
}
