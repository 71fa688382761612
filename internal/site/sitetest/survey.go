package sitetest

import (
	"net/http/httptest"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/notice"
	"andamio/internal/site"
)

// pages holds that a listing in pages tells of every thing once, though others are made and removed between two pages.
func (u *suite) pages(t *testing.T) {
	v, can := u.d.(site.Surveyor)
	if !can {
		u.without("it cannot be surveyed")
		return
	}
	ctx := u.ctx(t)
	stays := map[string]bool{}
	var all []site.Resource
	for range 5 {
		all = append(all, u.made(t, u.named(u.Volume, kinds.Volume)))
	}
	for _, r := range all[1:] {
		stays[r.ID] = true
	}
	access, err := v.Access(ctx)
	require.NoError(t, err)
	seen := map[string]int{}
	for _, region := range access.Regions {
		q := site.Query{Kind: kinds.Volume, Region: region, Size: 2}
		for pages := 0; ; pages++ {
			require.Less(t, pages, 50, "the pages do not end")
			page, err := v.Page(ctx, q)
			require.NoError(t, err)
			assert.LessOrEqual(t, len(page.Resources), 2)
			for _, r := range page.Resources {
				seen[r.ID]++
				require.NotNil(t, r.Details, "a survey is told everything")
				assert.NotEmpty(t, r.Details.Type)
			}
			if pages == 0 && region == access.Regions[0] { // in between
				u.gone(t, u.d, kinds.Volume, all[0].ID)
				u.made(t, u.named(u.Volume, kinds.Volume))
			}
			if q.After = page.Next; q.After == "" {
				break
			}
		}
	}
	for id := range stays {
		assert.Equal(t, 1, seen[id], "%s is told of once", id)
	}
}

// rights holds that a site says what a credential may, and refuses one that it does not know.
func (u *suite) rights(t *testing.T) {
	ctx := u.ctx(t)
	if v, can := u.d.(site.Surveyor); can {
		access, err := v.Access(ctx)
		require.NoError(t, err)
		assert.NotEmpty(t, access.Account)
		assert.NotEmpty(t, access.May)
		assert.NotEmpty(t, access.Regions)
	}
	if u.Denied == nil {
		return
	}
	d := u.Denied(t)
	_, err := d.Describe(ctx)
	assert.Equal(t, site.Refused, classOf(err))
	_, err = d.Create(ctx, u.named(u.Volume, kinds.Volume))
	assert.Equal(t, site.Refused, classOf(err))
}

// notices holds that a site that sends notices tells of what is made and removed, signed, until it is told to stop.
func (u *suite) notices(t *testing.T) {
	p, can := u.d.(site.Pusher)
	offers, err := u.d.Describe(u.ctx(t))
	require.NoError(t, err)
	if !can || !slices.Contains(offers.Features, u.Notices) {
		u.without("it sends no notices")
		return
	}
	var mu sync.Mutex
	heard := map[string]int{}
	count := func(id string) int { mu.Lock(); defer mu.Unlock(); return heard[id] }
	server := httptest.NewServer(&notice.Receiver{Secret: "suite", Hear: func(e event.Event) {
		var c notice.Changed
		if e.DataAs(&c) == nil {
			mu.Lock()
			heard[c.ID]++
			mu.Unlock()
		}
	}})
	defer server.Close()
	stop, err := p.Push(u.ctx(t), site.Sink{URL: server.URL, Secret: "suite"})
	require.NoError(t, err)
	first := u.made(t, u.named(u.Volume, kinds.Volume))
	require.Eventually(t, func() bool { return count(first.ID) > 0 }, u.Building, 5*time.Millisecond, "it does not tell")
	before := count(first.ID)
	u.gone(t, u.d, kinds.Volume, first.ID)
	require.Eventually(t, func() bool { return count(first.ID) > before }, u.Building, 5*time.Millisecond, "nor that it is gone")
	require.NoError(t, stop(u.ctx(t)))
	second := u.made(t, u.named(u.Volume, kinds.Volume))
	assert.Zero(t, count(second.ID), "and it stops")
}

// disks holds that what is written on a disk is read there, is listed as written, and has the digest of what it is.
func (u *suite) disks(t *testing.T) {
	d, can := u.d.(site.Disks)
	if !can {
		u.without("its disks cannot be looked into")
		return
	}
	ctx := u.ctx(t)
	volume := u.made(t, u.named(u.Volume, kinds.Volume))
	before, err := d.Changes(ctx, volume.ID, "", 0)
	require.NoError(t, err)
	data := []byte("what stands on a disk")
	require.NoError(t, d.WriteDisk(ctx, volume.ID, 1<<20, data))
	got, err := d.ReadDisk(ctx, volume.ID, site.Extent{Offset: 1 << 20, Length: int64(len(data))})
	require.NoError(t, err)
	assert.Equal(t, data, got)
	after, err := d.Changes(ctx, volume.ID, before.Epoch, before.UpTo)
	require.NoError(t, err)
	assert.True(t, covers(after.Written, 1<<20, int64(len(data))), "%v", after.Written)
	quiet, err := d.Changes(ctx, volume.ID, after.Epoch, after.UpTo)
	require.NoError(t, err)
	assert.Empty(t, quiet.Written, "and nothing since")
	sums, err := d.Hashes(ctx, volume.ID, site.Extent{Offset: 0, Length: 2 << 20}, 1<<20)
	require.NoError(t, err)
	require.Len(t, sums, 64)
	assert.Equal(t, make([]byte, 32), sums[:32], "what holds nothing")
	assert.NotEqual(t, make([]byte, 32), sums[32:])
	_, err = d.ReadDisk(ctx, "no-such-disk", site.Extent{Length: 1})
	assert.Equal(t, site.NotFound, classOf(err))
}

// snapshots holds that what a disk held is kept as it was, whatever is written after and even when the disk goes, and that a disk is restored to
// that and nothing else, but not while its machine is on.
func (u *suite) snapshots(t *testing.T) {
	keeps, can := u.d.(site.Snapshotter)
	d, reads := u.d.(site.Disks)
	if !can || !reads {
		u.without("it keeps no snapshots, or its disks cannot be looked into")
		return
	}
	ctx := u.ctx(t)
	part := func(disk string, at int64) string {
		got, err := d.ReadDisk(ctx, disk, site.Extent{Offset: at, Length: 6})
		require.NoError(t, err)
		return string(got)
	}
	volume := u.made(t, u.named(u.Volume, kinds.Volume))
	require.NoError(t, d.WriteDisk(ctx, volume.ID, 0, []byte("before")))
	ask := u.named(site.Request{Source: volume.ID}, kinds.Snapshot)
	kept := u.made(t, ask)
	assert.Equal(t, site.Active, kept.State)
	assert.NotEmpty(t, kept.Attributes[site.AttrTaken])
	assert.Equal(t, ask.Mark, u.marked(t, kinds.Snapshot, ask.Mark)[0].Mark, "it is found by its mark")
	again, err := u.d.Create(ctx, ask)
	require.NoError(t, err)
	assert.Equal(t, kept.ID, again.ID, "asked for twice with a key it is one")
	require.NoError(t, d.WriteDisk(ctx, volume.ID, 0, []byte("after!")))
	require.NoError(t, d.WriteDisk(ctx, volume.ID, 1<<20, []byte("beyond")))
	assert.Equal(t, "before", part(kept.ID, 0), "it stays as it was")
	if copying, may := keeps.(site.Copying); !may || !copying.Copies(ctx) { // else it is a volume like others
		assert.Error(t, d.WriteDisk(ctx, kept.ID, 0, []byte("forged")), "and nobody writes to it")
	}
	require.NoError(t, keeps.Restore(ctx, kept.ID, volume.ID))
	assert.Equal(t, "before", part(volume.ID, 0))
	assert.Equal(t, string(make([]byte, 6)), part(volume.ID, 1<<20), "what came after is gone")
	require.NoError(t, keeps.Restore(ctx, kept.ID, volume.ID), "doing it again does no harm")

	machine := u.made(t, u.named(u.Instance, kinds.Instance))
	own := u.made(t, u.named(site.Request{Source: machine.ID}, kinds.Snapshot))
	assert.Equal(t, site.Conflict, classOf(keeps.Restore(ctx, own.ID, machine.ID)), "its machine is on")
	_, err = u.d.Invoke(ctx, kinds.Instance, machine.ID, "stop")
	require.NoError(t, err)
	u.becomes(t, machine.ID, site.Stopped)
	require.NoError(t, keeps.Restore(ctx, own.ID, machine.ID))
	assert.Equal(t, site.NotFound, classOf(keeps.Restore(ctx, "no-such-snapshot", volume.ID)))
	assert.Error(t, keeps.Restore(ctx, kept.ID, "no-such-disk"))
	_, err = u.d.Create(ctx, u.named(site.Request{Source: "no-such-disk"}, kinds.Snapshot))
	assert.Equal(t, site.Refused, classOf(err))
	u.gone(t, u.d, kinds.Volume, volume.ID)
	assert.Equal(t, "before", part(kept.ID, 0), "it stays when its disk goes")
}

func covers(list []site.Extent, offset, length int64) bool {
	for _, x := range list {
		if x.Offset <= offset && x.Offset+x.Length >= offset+length {
			return true
		}
	}
	return false
}

// empty holds that the suite left nothing at the site.
func (u *suite) empty(t *testing.T) {
	for _, kind := range site.Kinds {
		all, err := u.d.List(u.ctx(t), kind)
		if err != nil && classOf(err) == site.Refused {
			continue // it has no such things
		}
		require.NoError(t, err)
		for _, r := range all {
			assert.NotContains(t, r.Mark, u.run, "%s %s is left over", kind, r.Name)
		}
	}
}

// faults has the way to the site fail while things are asked for: each call ends in time with an error of the right class,
// and asking again with the same key makes one thing, whether or not the first was heard.
func (u *suite) faults(t *testing.T) {
	for _, f := range []struct {
		name  string
		fault fault
	}{{"nobody listens", refused}, {"silent before the question", mute}, {"silent after the question", deaf},
		{"cut in the middle of the question", cutQuestion}, {"cut before the answer", cutAnswer}, {"cut in the middle of the answer", cutMiddle}} {
		t.Run(f.name, func(t *testing.T) {
			p := newProxy(t, u.Address)
			d := u.Open(t, p.address())
			r := u.named(u.Volume, kinds.Volume)
			p.set(f.fault)
			begun := time.Now()
			_, err := d.Create(u.ctx(t), r)
			assert.Equal(t, site.Transient, classOf(err), "%v", err)
			_, err = d.Read(u.ctx(t), kinds.Volume, "x")
			assert.Equal(t, site.Transient, classOf(err), "%v", err)
			assert.Less(t, time.Since(begun), 2*u.Patience+5*time.Second, "no longer than it may")
			p.set(none)
			got, err := d.Create(u.ctx(t), r)
			require.NoError(t, err)
			t.Cleanup(func() { u.gone(t, u.d, kinds.Volume, got.ID) })
			u.settled(t, kinds.Volume, got.ID)
			assert.Len(t, u.marked(t, kinds.Volume, r.Mark), 1)
		})
	}
}
