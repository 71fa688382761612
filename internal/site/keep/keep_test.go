package keep

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// shelf is a site of volumes, of which the call that is counted down to fails.
type shelf struct {
	site.Site
	volumes map[string]*volume
	keys    map[string]string
	fails   int
	busy    string
}

type volume struct {
	site.Resource
	disk []byte
}

const size = 1 << 20

var errBroke = errors.New("the way there broke")

func newShelf() *shelf {
	s := &shelf{volumes: map[string]*volume{}, keys: map[string]string{}, fails: -1}
	s.volumes["disk"] = &volume{site.Resource{Kind: kinds.Volume, ID: "disk", Name: "levels", State: site.Active}, make([]byte, size)}
	return s
}

func (s *shelf) call(id string) (*volume, error) {
	if s.fails--; s.fails == -1 {
		return nil, &site.Error{Site: "shelf", Class: site.Transient, Err: errBroke}
	}
	if v := s.volumes[id]; v != nil {
		return v, nil
	}
	return nil, &site.Error{Site: "shelf", Class: site.NotFound}
}

func (s *shelf) Name() string { return "shelf" }

func (s *shelf) Create(_ context.Context, r site.Request) (site.Resource, error) {
	id := s.keys[r.Key]
	if id == "" {
		id = fmt.Sprintf("v%d", len(s.volumes))
		s.keys[r.Key] = id
		s.volumes[id] = &volume{site.Resource{Kind: kinds.Volume, ID: id, Name: r.Name, Mark: r.Mark, State: site.Building}, make([]byte, int(r.DiskGiB)<<30>>10)}
	}
	v, err := s.call(id) // what fails may have been done
	if err != nil {
		return site.Resource{}, err
	}
	return v.Resource, nil
}

func (s *shelf) Read(_ context.Context, _ kinds.Kind, id string) (site.Resource, error) {
	v, err := s.call(id)
	if err != nil {
		return site.Resource{}, err
	}
	v.State = site.Active
	return v.Resource, nil
}

func (s *shelf) Change(_ context.Context, _ kinds.Kind, id string, r site.Request) (site.Resource, error) {
	v, err := s.call(id)
	if err != nil {
		return site.Resource{}, err
	}
	if r.Rename != "" {
		v.Name = r.Rename
	}
	return v.Resource, nil
}

func (s *shelf) Delete(_ context.Context, _ kinds.Kind, id string) error {
	_, err := s.call(id)
	if err == nil {
		delete(s.volumes, id)
	}
	return err
}

const grain = 64 << 10

func (s *shelf) Changes(_ context.Context, id, _ string, _ uint32) (site.Changes, error) {
	v, err := s.call(id)
	if err != nil {
		return site.Changes{}, err
	}
	out := site.Changes{Size: int64(len(v.disk)), Whole: true}
	for at := 0; at < len(v.disk); at += grain {
		if part := v.disk[at : at+grain]; string(part) != string(make([]byte, grain)) {
			out.Written = append(out.Written, site.Extent{Offset: int64(at), Length: grain})
		}
	}
	return out, nil
}

func (s *shelf) Hashes(_ context.Context, id string, x site.Extent, block int64) ([]byte, error) {
	v, err := s.call(id)
	if err != nil {
		return nil, err
	}
	return site.Digests(v.disk[x.Offset:x.Offset+x.Length], int(block)), nil
}

func (s *shelf) ReadDisk(_ context.Context, id string, x site.Extent) ([]byte, error) {
	v, err := s.call(id)
	if err != nil {
		return nil, err
	}
	return append([]byte{}, v.disk[x.Offset:x.Offset+x.Length]...), nil
}

func (s *shelf) WriteDisk(_ context.Context, id string, offset int64, data []byte) error {
	v, err := s.call(id)
	if err == nil && id == s.busy {
		err = &site.Error{Site: "shelf", Class: site.Conflict}
	}
	if err == nil {
		copy(v.disk[offset:], data)
	}
	return err
}

// TestACopyThatBreaksOffIsNone has one call after another fail: what there is then is not said to be whole, and asked for once more it becomes so, once.
func TestACopyThatBreaksOffIsNone(t *testing.T) {
	ask := site.Request{Kind: kinds.Snapshot, Name: "levels.one", Mark: "m", Key: "k", Source: "disk"}
	for at := 0; ; at++ {
		require.Less(t, at, 60, "it asks without end")
		s := newShelf()
		copy(s.volumes["disk"].disk[3*grain:], "levels of the river")
		s.fails = at
		got, err := Copies{s}.Create(t.Context(), ask)
		unharmed := s.fails >= 0
		s.fails = -1
		if !unharmed {
			require.ErrorIs(t, err, errBroke)
			if at > 0 {
				s.volumes["disk"].disk[5*grain] = 1 // its machine went on meanwhile
				_, err = Copies{s}.Create(t.Context(), ask)
				require.NoError(t, err)
				s.volumes["disk"].disk[5*grain] = 0
			}
			got, err = Copies{s}.Create(t.Context(), ask)
		}
		require.NoError(t, err)
		require.Len(t, s.volumes, 2, "of the one key there is one")
		assert.Equal(t, []any{kinds.Snapshot, "levels.one", "m", site.Active}, []any{got.Kind, got.Name, got.Mark, got.State})
		assert.NotEmpty(t, got.Attributes[site.AttrTaken])
		assert.Equal(t, "levels of the river", string(s.volumes[got.ID].disk[3*grain:3*grain+19]))
		if unharmed {
			assert.Equal(t, fmt.Sprint(grain), got.Attributes[site.AttrHeld])
			return
		}
	}
}

// TestWhatBrokeOffIsNotRestored holds what is refused, and that a disk holds then what was kept and nothing else.
func TestWhatBrokeOffIsNotRestored(t *testing.T) {
	ctx := t.Context()
	s := newShelf()
	c := Copies{s}
	copy(s.volumes["disk"].disk, "before")
	half := Copy{Name: "levels.half", Of: "disk"}
	s.volumes["half"] = &volume{site.Resource{Kind: kinds.Volume, ID: "half", Name: half.String(), State: site.Active}, make([]byte, size)}
	r, err := c.Read(ctx, "half")
	require.NoError(t, err)
	assert.Equal(t, site.Failed, r.State)
	assert.Equal(t, Half, r.Word)
	assert.Equal(t, site.Conflict, site.ClassOf(c.Restore(ctx, "half", "disk")))
	for _, id := range []string{"disk", "none"} {
		_, err := c.Read(ctx, id)
		assert.Equal(t, site.NotFound, site.ClassOf(err), id)
		assert.Equal(t, site.NotFound, site.ClassOf(c.Delete(ctx, id)), id)
		assert.Equal(t, site.NotFound, site.ClassOf(c.Restore(ctx, id, "disk")), id)
	}
	_, err = c.Create(ctx, site.Request{Name: "x", Key: "x", Source: "none"})
	assert.Equal(t, site.Refused, site.ClassOf(err))

	one, err := c.Create(ctx, site.Request{Name: "levels.one", Key: "one", Source: "disk"})
	require.NoError(t, err)
	copy(s.volumes["disk"].disk, "after!")
	copy(s.volumes["disk"].disk[9*grain:], "beyond")
	s.busy = "disk"
	assert.Equal(t, site.Conflict, site.ClassOf(c.Restore(ctx, one.ID, "disk")))
	assert.Equal(t, "after!", string(s.volumes["disk"].disk[:6]))
	s.busy = ""
	require.NoError(t, c.Restore(ctx, one.ID, "disk"))
	assert.Equal(t, append([]byte("before"), make([]byte, size-6)...), s.volumes["disk"].disk)
	named, err := c.Change(ctx, one.ID, site.Request{Rename: "levels.two"})
	require.NoError(t, err)
	assert.Equal(t, []any{"levels.two", one.Attributes[site.AttrTaken]}, []any{named.Name, named.Attributes[site.AttrTaken]})
	require.NoError(t, c.Delete(ctx, one.ID))
	assert.NotContains(t, s.volumes, one.ID)
}

// TestWhatIsLeftIsNoneOfTheOthers compares parts without others with a count of single bytes, and names with what they were made of.
func TestWhatIsLeftIsNoneOfTheOthers(t *testing.T) {
	const length = 60
	drawn := func(t *rapid.T, name string) (out []site.Extent, has [length]bool) {
		for at := int64(0); at < length; {
			at += rapid.Int64Range(0, 9).Draw(t, name+" gap")
			n := min(rapid.Int64Range(1, 9).Draw(t, name), length-at)
			if n > 0 {
				out = append(out, site.Extent{Offset: at, Length: n})
			}
			for i := at; i < at+n; i++ {
				has[i] = true
			}
			at += n
		}
		return out, has
	}
	rapid.Check(t, func(t *rapid.T) {
		parts, in := drawn(t, "part")
		others, not := drawn(t, "other")
		var got [length]bool
		for _, x := range without(parts, others) {
			for i := x.Offset; i < x.Offset+x.Length; i++ {
				assert.False(t, got[i], "none twice")
				got[i] = true
			}
		}
		for i := range length {
			assert.Equal(t, in[i] && !not[i], got[i], i)
		}
		c := Copy{rapid.StringMatching(`[a-z0-9., -]{1,30}`).Draw(t, "name"), rapid.StringMatching(`[a-z0-9:/-]{1,20}`).Draw(t, "of"), time.Time{}}
		if rapid.Bool().Draw(t, "taken") {
			c.Taken = time.Unix(0, rapid.Int64Range(1, 4e18).Draw(t, "at")).UTC()
		}
		again, is := Called(c.String())
		assert.True(t, is)
		assert.Equal(t, c, again)
		_, is = Called(c.Name)
		assert.False(t, is)
	})
}
