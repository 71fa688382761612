package relay

import (
	"context"
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// at is a site that can do what its parts can.
type at struct {
	site.Site
	name string
	err  error
}

func (a at) Name() string { return a.name }

func (a at) Read(context.Context, kinds.Kind, string) (site.Resource, error) {
	return site.Resource{}, a.err
}

// shelf has disks; depot others know, too, and it copies.
type (
	shelf struct {
		at
		site.Disks
	}
	depot struct {
		at
		site.Disks
		site.Copier
		site.Pairer
	}
	store struct { // it copies, and is known to nobody
		at
		site.Disks
		site.Copier
	}
)

func TestWhichWayDisksGo(t *testing.T) {
	none, disks, knows, copies := at{name: "none"}, &shelf{at: at{name: "shelf"}}, &depot{at: at{name: "depot"}}, &store{at: at{name: "store"}}
	for _, c := range []struct {
		from, to site.Site
		direct   bool
		says     string
	}{
		{knows, &depot{at: at{name: "other"}}, true, ""},
		{knows, disks, false, ""},
		{disks, knows, false, ""},
		{disks, &shelf{at: at{name: "other"}}, false, ""},
		{knows, copies, false, ""},
		{copies, knows, false, ""},
		{none, disks, false, "the disks of none cannot be read"},
		{disks, none, false, "the disks of none cannot be written"},
	} {
		from, to, err := Way(c.from, c.to)
		assert.Equal(t, c.direct, Direct(c.from, c.to), "%s to %s", c.from.Name(), c.to.Name())
		if c.says != "" {
			require.ErrorContains(t, err, c.says)
			assert.Nil(t, from)
			assert.Nil(t, to)
			continue
		}
		require.NoError(t, err)
		assert.Same(t, c.from, from)
		r, relayed := to.(*Relay)
		assert.Equal(t, !c.direct, relayed)
		if relayed {
			assert.Same(t, c.from, r.From)
			assert.Same(t, c.to, r.Disks)
		} else {
			assert.Same(t, c.to, to)
		}
	}
}

func TestBothSitesAreAsked(t *testing.T) {
	gone, silent := &site.Error{Class: site.NotFound}, &site.Error{Site: "forja", Class: site.Transient, Detail: "no answer"}
	well, quiet := at{name: "a", err: gone}, at{name: "b", err: silent}
	assert.True(t, Try(t.Context(), well, at{name: "c"}).Reachable, "that it has no such thing is an answer")
	assert.Positive(t, Try(t.Context(), well, well).RoundTrip)
	for _, pair := range [][2]site.Site{{well, quiet}, {quiet, well}} {
		got := Try(t.Context(), pair[0], pair[1])
		assert.False(t, got.Reachable)
		assert.Contains(t, got.Why, "no answer")
	}
}

// TestEachCallIsRefusedOnce has every call that a copy makes fail in its turn: that is said, and asked again the copy comes to its end.
func TestEachCallIsRefusedOnce(t *testing.T) {
	refused := errors.New("not now")
	o := site.CopyRequest{Disk: "a", Written: []site.Extent{{Length: part + block}}, Zero: []site.Extent{{Offset: part + block, Length: 2 * block}}}
	for n, calls := 1, 1; n <= calls; n++ {
		from, to, r := pair(part + 3*block)
		for i := range from.disks["a"] {
			from.disks["a"][i], to.disks["b"][i] = byte(i%251+1), 9
		}
		made := 0
		fails := func() error {
			if made++; made == n {
				return refused
			}
			return nil
		}
		from.call, to.call = fails, fails
		_, err := r.Copy(t.Context(), "b", o)
		require.ErrorIs(t, err, refused, "call %d", n)
		got, err := r.Copy(t.Context(), "b", o)
		require.NoError(t, err)
		assert.EqualValues(t, part+block, got.Verified)
		want := append(slices.Clone(from.disks["a"][:part+block]), make([]byte, 2*block)...)
		assert.True(t, slices.Equal(want, to.disks["b"]), "call %d", n)
		if n == 1 { // how many there are
			from, to, r := pair(part + 3*block)
			for i := range from.disks["a"] {
				from.disks["a"][i], to.disks["b"][i] = byte(i%251+1), 9
			}
			calls = 0
			count := func() error { calls++; return nil }
			from.call, to.call = count, count
			_, err := r.Copy(t.Context(), "b", o)
			require.NoError(t, err)
			require.Greater(t, calls, 8)
		}
	}
}
