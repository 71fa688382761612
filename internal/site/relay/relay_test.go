package relay

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/site"
)

// memory is a site whose disks are bytes.
type memory struct {
	disks  map[string][]byte
	writes int
	// spoils has what is written be something else, short has less be read than was asked for, and fails is what every write comes to.
	spoils, short bool
	fails         error
	// call is asked before each call, if it is set; calls comes one at a time.
	call  func() error
	calls *sync.Mutex
}

func (m *memory) asked() error {
	if m.call == nil {
		return nil
	}
	m.calls.Lock()
	defer m.calls.Unlock()
	return m.call()
}

func (m *memory) Changes(context.Context, string, string, uint32) (site.Changes, error) {
	return site.Changes{}, errors.New("nobody asks")
}

func (m *memory) Hashes(_ context.Context, disk string, x site.Extent, size int64) ([]byte, error) {
	if size != block {
		return nil, errors.New("of other blocks")
	}
	if err := m.asked(); err != nil {
		return nil, err
	}
	return site.Digests(m.disks[disk][x.Offset:x.Offset+x.Length], block), nil
}

func (m *memory) ReadDisk(_ context.Context, disk string, x site.Extent) ([]byte, error) {
	if x.Length > site.MaxPart {
		return nil, errors.New("too much at once")
	}
	if err := m.asked(); err != nil {
		return nil, err
	}
	out := slices.Clone(m.disks[disk][x.Offset : x.Offset+x.Length])
	if m.short {
		out = out[1:]
	}
	return out, nil
}

func (m *memory) WriteDisk(_ context.Context, disk string, at int64, data []byte) error {
	if len(data) > site.MaxPart {
		return errors.New("too much at once")
	}
	if err := m.asked(); err != nil {
		return err
	}
	m.writes++
	if m.fails != nil {
		return m.fails
	}
	copy(m.disks[disk][at:], data)
	if m.spoils {
		m.disks[disk][at]++
	}
	return nil
}

func pair(size int) (from, to *memory, r *Relay) {
	one := &sync.Mutex{}
	from, to = &memory{disks: map[string][]byte{"a": make([]byte, size)}, calls: one}, &memory{disks: map[string][]byte{"b": make([]byte, size)}, calls: one}
	return from, to, Between(from, to)
}

// TestWhatIsCopiedIsThere draws disks and what of them is copied: that is then the same on both, and what was not named is as it was.
func TestWhatIsCopiedIsThere(t *testing.T) {
	const pages, page = 2100, 4096 // beyond two parts
	rapid.Check(t, func(t *rapid.T) {
		from, to, r := pair(pages * page)
		fill := func(disk []byte, label string) {
			for _, i := range rapid.SliceOfN(rapid.IntRange(0, pages-1), 0, 30).Draw(t, label) {
				copy(disk[i*page:], bytes.Repeat([]byte{byte(i%255 + 1)}, page))
			}
		}
		fill(from.disks["a"], "source")
		fill(to.disks["b"], "target")
		was := slices.Clone(to.disks["b"])
		cuts := rapid.SliceOfNDistinct(rapid.IntRange(0, pages), 2, 8, rapid.ID[int]).Draw(t, "cuts")
		slices.Sort(cuts)
		o := site.CopyRequest{Disk: "a"}
		want := slices.Clone(was)
		for i := 0; i+1 < len(cuts); i += 2 {
			x := site.Extent{Offset: int64(cuts[i] * page), Length: int64((cuts[i+1] - cuts[i]) * page)}
			if rapid.Bool().Draw(t, "zero") {
				o.Zero = append(o.Zero, x)
				clear(want[x.Offset : x.Offset+x.Length])
				continue
			}
			o.Written = append(o.Written, x)
			copy(want[x.Offset:], from.disks["a"][x.Offset:x.Offset+x.Length])
		}
		got, err := r.Copy(t.Context(), "b", o)
		require.NoError(t, err)
		n := site.Bytes(o.Written)
		assert.Equal(t, []int64{n, n, n}, []int64{got.Bytes, got.Wire, got.Verified})
		assert.LessOrEqual(t, got.Holes, n)
		if !bytes.Equal(want, to.disks["b"]) {
			t.Fatal("the target does not hold what was copied")
		}
		writes := to.writes
		_, err = r.Copy(t.Context(), "b", o)
		require.NoError(t, err)
		assert.Equal(t, writes, to.writes, "what is there already is not written again")
	})
}

func TestWhatCannotBeCopiedIsSaid(t *testing.T) {
	all := site.CopyRequest{Disk: "a", Written: []site.Extent{{Length: 3 * part}}}
	gone := &site.Error{Site: "forja", Doing: "write", Class: site.Conflict}
	for want, spoil := range map[string]func(from, to *memory){
		"are not what was written there": func(_, to *memory) { to.spoils = true },
		"of a from 0 on were read, not":  func(from, _ *memory) { from.short = true },
		gone.Error():                     func(_, to *memory) { to.fails = gone },
	} {
		from, to, r := pair(3 * part)
		for i := range from.disks["a"] {
			from.disks["a"][i] = byte(i%251 + 1)
		}
		spoil(from, to)
		_, err := r.Copy(t.Context(), "b", all)
		require.ErrorContains(t, err, want)
		if to.fails != nil {
			assert.Equal(t, site.Conflict, site.ClassOf(err), "what kind of an error it is stays known")
		}
	}
}

func TestHolesAreCountedAndALimitIsKept(t *testing.T) {
	from, _, r := pair(2 * part)
	from.disks["a"][block] = 1
	start := time.Now()
	got, err := r.Copy(t.Context(), "b", site.CopyRequest{Disk: "a", Written: []site.Extent{{Length: part}}, Limit: 8 * part})
	require.NoError(t, err)
	assert.EqualValues(t, part-block, got.Holes)
	assert.GreaterOrEqual(t, time.Since(start), 125*time.Millisecond, "an eighth of a second at this limit")

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = r.Copy(ctx, "b", site.CopyRequest{Disk: "a", Written: []site.Extent{{Length: part}}, Limit: 1})
	require.ErrorIs(t, err, context.Canceled)

	n, err := r.Consolidate(t.Context(), "b")
	require.NoError(t, err)
	assert.Zero(t, n)
}
