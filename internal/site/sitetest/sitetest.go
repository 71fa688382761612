// Package sitetest is what any driver must do: a suite that is run against a live site, with a proxy in between that has the
// way to it fail. A driver passes it before its sites are planned on.
package sitetest

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/site"
)

// Subject is a live site, empty but for what stood there before, which the suite leaves as it was.
type Subject struct {
	// Address is where the site is, as HOST:PORT; Open makes a driver that goes to an address instead, and gives up on a call
	// that is unanswered for Patience.
	Address  string
	Open     func(t *testing.T, address string) site.Site
	Patience time.Duration
	// Building bounds how long the site takes to build one thing.
	Building time.Duration
	// Instance is a request for a small instance, to which the suite gives a name, mark and key; Bigger is another size that
	// it can be given. Network and Volume are requests for those.
	Instance, Bigger, Network, Volume site.Request
	// Notices is the feature of a site that sends notices.
	Notices string
	// Port is one that an interface can be given.
	Port int
	// Mapping is the driver's, by which what it tells becomes records.
	Mapping []byte
	// Denied opens the site with a credential that it does not know; nil if it has none.
	Denied func(t *testing.T) site.Site
}

// suite is a subject under test.
type suite struct {
	Subject
	d   site.Site
	run string
	n   int
	// left says what was left out.
	left []string
}

// without notes that a part is left out, since the site cannot do what it is about.
func (u *suite) without(why string) { u.left = append(u.left, why) }

// Run runs the suite, and returns what was left out of it, since the site cannot do that: its driver's test holds that against
// what it should be able to.
func Run(t *testing.T, s Subject) (left []string) {
	u := &suite{Subject: s, d: s.Open(t, s.Address), run: fmt.Sprintf("sitetest-%d", time.Now().UnixNano())}
	for _, part := range []struct {
		name string
		test func(*testing.T)
	}{
		{"what it offers", u.offers}, {"a thing from request to removal", u.life}, {"a repeat with the same key", u.repeat},
		{"what is not there", u.absent}, {"links", u.links}, {"power", u.power}, {"changes in place", u.changes}, {"pages", u.pages},
		{"what the credential may", u.rights}, {"notices", u.notices}, {"disks", u.disks}, {"snapshots", u.snapshots}, {"memory", u.memory}, {"bounds", u.bounds}, {"measures", u.measures}, {"load balancers", u.balancers}, {"the way there fails", u.faults},
	} {
		t.Run(part.name, part.test)
	}
	t.Run("nothing is left over", u.empty)
	return u.left
}

func (u *suite) ctx(t *testing.T) context.Context {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	t.Cleanup(cancel)
	return ctx
}

// named gives a request a name, mark and key that no other has.
func (u *suite) named(r site.Request, kind kinds.Kind) site.Request {
	u.n++
	r.Kind, r.Name = kind, fmt.Sprintf("suite-%d", u.n)
	r.Mark, r.Key = fmt.Sprintf("andamio %s %s/create", u.run, r.Name), fmt.Sprintf("%s/%s", u.run, r.Name)
	if kind == kinds.Instance {
		r.Hostname = r.Name
	}
	return r
}

// made asks for a thing, waits until it is there, and has it removed in the end.
func (u *suite) made(t *testing.T, r site.Request) site.Resource {
	t.Helper()
	ctx := u.ctx(t)
	got, err := u.d.Create(ctx, r)
	require.NoError(t, err, "create %s", r.Kind)
	require.NotEmpty(t, got.ID)
	t.Cleanup(func() { u.gone(t, u.d, r.Kind, got.ID) })
	return u.settled(t, r.Kind, got.ID)
}

// settled waits until a thing is on the way no more.
func (u *suite) settled(t *testing.T, kind kinds.Kind, id string) site.Resource {
	t.Helper()
	ctx := u.ctx(t)
	var got site.Resource
	require.Eventually(t, func() bool {
		var err error
		got, err = u.d.Read(ctx, kind, id)
		return err == nil && got.State != site.Accepted && got.State != site.Building
	}, u.Building, 5*time.Millisecond, "%s %s is on the way for longer than it may", kind, id)
	return got
}

// gone removes a thing and waits until it is not there any more.
func (u *suite) gone(t *testing.T, d site.Site, kind kinds.Kind, id string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	require.Eventually(t, func() bool {
		err := d.Delete(ctx, kind, id)
		if err != nil && site.ClassOf(err) != site.NotFound {
			return false
		}
		_, err = d.Read(ctx, kind, id)
		return site.ClassOf(err) == site.NotFound && err != nil
	}, u.Building, 10*time.Millisecond, "%s %s stays", kind, id)
}

// marked lists what bears a mark.
func (u *suite) marked(t *testing.T, kind kinds.Kind, mark string) []site.Resource {
	t.Helper()
	all, err := u.d.List(u.ctx(t), kind)
	require.NoError(t, err)
	var out []site.Resource
	for _, r := range all {
		if m, _, _ := strings.Cut(r.Mark, " #"); m == mark {
			out = append(out, r)
		}
	}
	return out
}

// offers holds that a site says what a plan needs of it.
func (u *suite) offers(t *testing.T) {
	s, err := u.d.Describe(u.ctx(t))
	require.NoError(t, err)
	assert.Equal(t, u.d.Name(), s.Name, "its name is the one that it is known by")
	assert.NotEmpty(t, s.Kind)
	assert.NotEmpty(t, s.Zones)
	assert.NotEmpty(t, s.Images)
	assert.True(t, s.FreeForm || len(s.Sizes) > 0, "it has sizes, or takes any")
}

// requests are one of each kind that stands by itself.
func (u *suite) requests() []site.Request {
	return []site.Request{u.named(u.Network, kinds.Network), u.named(u.Volume, kinds.Volume), u.named(u.Instance, kinds.Instance)}
}

// life holds that what is asked for is there, is found by its mark and by reading, and is gone when it is removed.
func (u *suite) life(t *testing.T) {
	for _, r := range u.requests() {
		t.Run(string(r.Kind), func(t *testing.T) {
			got := u.made(t, r)
			assert.Equal(t, site.Active, got.State)
			assert.Equal(t, r.Kind, got.Kind)
			assert.Equal(t, r.Name, got.Name)
			assert.NotEmpty(t, got.Word, "the site's own word for its state")
			mark, _, _ := strings.Cut(got.Mark, " #")
			assert.Equal(t, r.Mark, mark)
			found := u.marked(t, r.Kind, r.Mark)
			require.Len(t, found, 1)
			assert.Equal(t, got.ID, found[0].ID)
			require.NoError(t, u.d.Delete(u.ctx(t), r.Kind, got.ID))
			u.gone(t, u.d, r.Kind, got.ID)
			assert.Empty(t, u.marked(t, r.Kind, r.Mark))
		})
	}
}

// repeat holds that asking twice with one key makes one thing, whatever its state is meanwhile.
func (u *suite) repeat(t *testing.T) {
	for _, r := range u.requests() {
		t.Run(string(r.Kind), func(t *testing.T) {
			got := u.made(t, r)
			again, err := u.d.Create(u.ctx(t), r)
			require.NoError(t, err)
			assert.Equal(t, got.ID, again.ID)
			assert.Len(t, u.marked(t, r.Kind, r.Mark), 1)
		})
	}
}

// absent holds that what is not there is not found, and that what cannot be is refused.
func (u *suite) absent(t *testing.T) {
	ctx := u.ctx(t)
	const nowhere = "0b5e0f5c-0000-4000-8000-000000000000"
	for _, kind := range []kinds.Kind{kinds.Network, kinds.Volume, kinds.Instance} {
		_, err := u.d.Read(ctx, kind, nowhere)
		assert.Equal(t, site.NotFound, classOf(err), "read %s", kind)
		assert.Equal(t, site.NotFound, classOf(u.d.Delete(ctx, kind, nowhere)), "delete %s", kind)
		var e *site.Error
		require.ErrorAs(t, err, &e)
		assert.Equal(t, u.d.Name(), e.Site)
		assert.NotEmpty(t, e.Doing)
	}
	_, err := u.d.Invoke(ctx, kinds.Instance, nowhere, "start")
	assert.Equal(t, site.NotFound, classOf(err))
	wrong := u.named(u.Instance, kinds.Instance)
	wrong.Image = "no-image-is-called-so"
	_, err = u.d.Create(ctx, wrong)
	assert.Equal(t, site.Refused, classOf(err))
	assert.Empty(t, u.marked(t, kinds.Instance, wrong.Mark), "and nothing is left of it")
}

func classOf(err error) site.Class {
	if err == nil {
		return "no error"
	}
	return site.ClassOf(err)
}

// links holds that instances are linked to networks and volumes, are reached then, and keep what they are linked to from being
// removed.
func (u *suite) links(t *testing.T) {
	ctx := u.ctx(t)
	network, volume := u.made(t, u.named(u.Network, kinds.Network)), u.made(t, u.named(u.Volume, kinds.Volume))
	vm := u.made(t, u.named(u.Instance, kinds.Instance))
	nic := u.named(site.Request{Source: vm.ID, Target: network.ID, Ports: []int{u.Port}}, kinds.Interface)
	plugged := u.made(t, nic)
	assert.Equal(t, site.Active, plugged.State)
	assert.NotEmpty(t, plugged.Attributes[site.AttrAddress], "where it is reached")
	assert.NotEmpty(t, plugged.Attributes[site.AttrPort+fmt.Sprint(u.Port)], "and at which port")
	disk := u.named(site.Request{Source: vm.ID, Target: volume.ID, Location: "/data"}, kinds.Attachment)
	attached := u.made(t, disk)
	assert.Equal(t, site.Active, attached.State)
	assert.Equal(t, site.Conflict, classOf(u.d.Delete(ctx, kinds.Volume, volume.ID)), "a volume in use stays")
	assert.Equal(t, site.Conflict, classOf(u.d.Delete(ctx, kinds.Network, network.ID)), "a network in use stays")
	for _, x := range []struct {
		kind kinds.Kind
		mark string
	}{{kinds.Interface, nic.Mark}, {kinds.Attachment, disk.Mark}} {
		assert.Len(t, u.marked(t, x.kind, x.mark), 1, "%s is found by its mark", x.kind)
	}
	u.gone(t, u.d, kinds.Attachment, attached.ID)
	u.gone(t, u.d, kinds.Volume, volume.ID)
	u.released(t, vm, plugged)
}

// power holds that instances stop and start.
func (u *suite) power(t *testing.T) {
	ctx := u.ctx(t)
	vm := u.made(t, u.named(u.Instance, kinds.Instance))
	_, err := u.d.Invoke(ctx, kinds.Instance, vm.ID, "stop")
	require.NoError(t, err)
	u.becomes(t, vm.ID, site.Stopped)
	_, err = u.d.Invoke(ctx, kinds.Instance, vm.ID, "stop")
	assert.Equal(t, site.Conflict, classOf(err), "it is stopped already")
	_, err = u.d.Invoke(ctx, kinds.Instance, vm.ID, "start")
	require.NoError(t, err)
	u.becomes(t, vm.ID, site.Active)
}

// released holds that an interface whose machine is off is given up and had back with the address that it had, and not while that is on.
func (u *suite) released(t *testing.T, vm, nic site.Resource) {
	d, can := u.d.(site.Releaser)
	if !can {
		u.without("keeping addresses")
		return
	}
	ctx := u.ctx(t)
	assert.Equal(t, site.Conflict, classOf(d.Release(ctx, nic.ID, nil)), "it is in use")
	_, err := u.d.Invoke(ctx, kinds.Instance, vm.ID, "stop")
	require.NoError(t, err)
	u.becomes(t, vm.ID, site.Stopped)
	require.NoError(t, d.Release(ctx, nic.ID, nil))
	require.NoError(t, d.Release(ctx, nic.ID, nil), "and again")
	_, err = u.d.Invoke(ctx, kinds.Interface, nic.ID, site.ActReclaim)
	require.NoError(t, err)
	got, err := u.d.Read(ctx, kinds.Interface, nic.ID)
	require.NoError(t, err)
	assert.Equal(t, nic.Attributes[site.AttrAddress], got.Attributes[site.AttrAddress])
	assert.Equal(t, site.NotFound, classOf(d.Release(ctx, nic.ID+"0", nil)))
	_, err = u.d.Invoke(ctx, kinds.Instance, vm.ID, "start")
	require.NoError(t, err)
	u.becomes(t, vm.ID, site.Active)
}

func (u *suite) becomes(t *testing.T, id string, want site.State) {
	t.Helper()
	ctx := u.ctx(t)
	require.Eventually(t, func() bool {
		got, err := u.d.Read(ctx, kinds.Instance, id)
		return err == nil && got.State == want
	}, u.Building, 5*time.Millisecond, "it never is %s", want)
}

// changes holds that things are renamed, tagged, grown and resized where they are.
func (u *suite) changes(t *testing.T) {
	ctx := u.ctx(t)
	volume := u.made(t, u.named(u.Volume, kinds.Volume))
	_, err := u.d.Change(ctx, kinds.Volume, volume.ID, site.Request{Kind: kinds.Volume, Rename: "renamed"})
	require.NoError(t, err)
	assert.Equal(t, "renamed", u.settled(t, kinds.Volume, volume.ID).Name)
	_, err = u.d.Change(ctx, kinds.Volume, volume.ID, site.Request{Kind: kinds.Volume, Tags: map[string]string{"owner": "suite", "night": "off"}})
	require.NoError(t, err)
	u.settled(t, kinds.Volume, volume.ID)
	assert.Equal(t, []string{"suite", "off"}, u.recorded(t, kinds.Volume, volume.ID, "tag.owner", "tag.night"))
	_, err = u.d.Change(ctx, kinds.Volume, volume.ID, site.Request{Kind: kinds.Volume, Tags: map[string]string{"night": ""}})
	require.NoError(t, err)
	u.settled(t, kinds.Volume, volume.ID)
	assert.Equal(t, []string{"suite", ""}, u.recorded(t, kinds.Volume, volume.ID, "tag.owner", "tag.night"), "a tag that is empty is taken away")
	_, err = u.d.Change(ctx, kinds.Volume, volume.ID, site.Request{Kind: kinds.Volume, DiskGiB: u.Volume.DiskGiB + 1})
	require.NoError(t, err)
	assert.Equal(t, site.Active, u.settled(t, kinds.Volume, volume.ID).State)
	assert.Equal(t, []string{gib(u.Volume.DiskGiB + 1)}, u.recorded(t, kinds.Volume, volume.ID, "disk_gib"), "it has grown")
	vm := u.made(t, u.named(u.Instance, kinds.Instance))
	_, err = u.d.Invoke(ctx, kinds.Instance, vm.ID, "stop")
	require.NoError(t, err)
	u.becomes(t, vm.ID, site.Stopped)
	bigger := u.Bigger
	bigger.Kind = kinds.Instance
	_, err = u.d.Change(ctx, kinds.Instance, vm.ID, bigger)
	require.NoError(t, err)
	assert.Equal(t, site.Stopped, u.settled(t, kinds.Instance, vm.ID).State, "a bigger one is still off")
	assert.Equal(t, []string{gib(float64(u.Bigger.Cores)), gib(u.Bigger.MemoryGiB)}, u.recorded(t, kinds.Instance, vm.ID, "cores", "memory_gib"))
}

func gib(n float64) string { return strconv.FormatFloat(n, 'f', -1, 64) }

// recorded are attributes of what is recorded of a thing, by the driver's mapping of what the site tells.
func (u *suite) recorded(t *testing.T, kind kinds.Kind, id string, attributes ...string) []string {
	t.Helper()
	m, err := mapping.Read(u.Mapping)
	require.NoError(t, err)
	got, err := u.d.Read(u.ctx(t), kind, id)
	require.NoError(t, err)
	require.NotNil(t, got.Details, "what is read tells everything")
	r, taken, err := m.Record(&mapping.Observation{Site: u.d.Name(), Region: got.Details.Region, Type: got.Details.Type, ID: got.ID, Name: got.Name, Mark: got.Mark,
		State: string(got.State), Mixins: got.Details.Mixins, Source: got.Details.Source, Target: got.Details.Target, Raw: got.Details.Raw})
	require.NoError(t, err)
	require.True(t, taken, "the mapping knows %s", got.Details.Type)
	var out []string
	for _, a := range attributes {
		out = append(out, r.Attributes[a])
	}
	return out
}
