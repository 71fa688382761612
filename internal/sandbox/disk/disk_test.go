package disk

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// mirrored copies what a disk says has changed to a mirror in memory.
func mirrored(t require.TestingT, d *Disk, mirror []byte, since uint32) uint32 {
	written, zero, upTo := d.Changes(since)
	for _, x := range written {
		_, err := d.ReadAt(mirror[x.Offset:x.Offset+x.Length], x.Offset)
		require.NoError(t, err)
	}
	for _, x := range zero {
		clear(mirror[x.Offset : x.Offset+x.Length])
	}
	return upTo
}

// TestNothingThatIsWrittenIsMissed writes and empties at random, in layers that are begun and made one again at random,
// and mirrors by changes alone. What was written is kept beside, so that layers cannot deceive both.
func TestNothingThatIsWrittenIsMissed(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.Int64Range(1, 40*Page).Draw(t, "size")
		kept := rapid.Bool().Draw(t, "kept")
		d, back := New(size, "e"), func() {}
		if kept {
			path := filepath.Join(dir, "disk")
			var err error
			d, err = At(path, size, "e")
			require.NoError(t, err)
			back = func() { // as after the end of the process: nothing is said before
				for _, f := range append(d.layers.tops, d.file.Load(), d.marks) {
					if f != nil {
						f.Close()
					}
				}
				d, err = At(path, size, "f")
				require.NoError(t, err)
			}
		}
		defer func() { require.NoError(t, d.Remove()) }()
		mirror, truth := make([]byte, size), make([]byte, size)
		since := uint32(0)
		for i := range rapid.IntRange(1, 30).Draw(t, "acts") {
			off := rapid.Int64Range(0, size-1).Draw(t, "offset")
			n := rapid.Int64Range(1, size-off).Draw(t, "length")
			switch rapid.IntRange(0, 5).Draw(t, "act") {
			case 0:
				data := bytes.Repeat([]byte{byte(rapid.IntRange(0, 255).Draw(t, "byte"))}, int(n))
				_, err := d.WriteAt(data, off)
				require.NoError(t, err)
				copy(truth[off:], data)
			case 1:
				if from := off / Page * Page; from+Page <= size {
					require.NoError(t, d.Zero(from, Page))
					clear(truth[from : from+Page])
				}
			case 2:
				since = mirrored(t, d, mirror, since)
			case 3:
				require.NoError(t, d.Apart(i+1))
			case 4:
				_, err := d.Consolidate()
				require.NoError(t, err)
				require.Equal(t, 1, d.Layers())
			case 5:
				if kept {
					back()
					since = 0
					clear(mirror)
				}
			}
		}
		mirrored(t, d, mirror, since)
		now := make([]byte, size)
		_, err := d.ReadAt(now, 0)
		require.NoError(t, err)
		require.True(t, bytes.Equal(now, truth), "what is read is not what was written")
		require.True(t, bytes.Equal(now, mirror), "the mirror differs")
		sums, err := d.Hashes(0, size, Page)
		require.NoError(t, err)
		_, err = d.Consolidate()
		require.NoError(t, err)
		after, err := d.Hashes(0, size, Page)
		require.NoError(t, err)
		require.Equal(t, sums, after, "making layers one changed what is on the disk")
	})
}

// TestChangesAreListedWhileOthersWrite mirrors a disk that is written to all the time; the last look is after all writing.
func TestChangesAreListedWhileOthersWrite(t *testing.T) {
	const size = 256 * Page
	d := New(size, "e")
	defer d.Close()
	var group sync.WaitGroup
	for w := range 4 {
		group.Go(func() {
			rng := rand.New(rand.NewPCG(uint64(w), 1))
			page := make([]byte, Page)
			for range 2000 {
				page[rng.IntN(Page)] = byte(rng.Uint32())
				_, err := d.WriteAt(page, rng.Int64N(size/Page)*Page)
				assert.NoError(t, err)
			}
		})
	}
	mirror, since := make([]byte, size), uint32(0)
	for i := range 200 {
		since = mirrored(t, d, mirror, since)
		switch {
		case i%20 == 0:
			require.NoError(t, d.Apart(i+1))
		case i%50 == 0:
			_, err := d.Consolidate()
			require.NoError(t, err)
		}
	}
	group.Wait()
	mirrored(t, d, mirror, since)
	now := make([]byte, size)
	_, err := d.ReadAt(now, 0)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(now, mirror))
}

func TestADiskKeepsToItsBounds(t *testing.T) {
	d := New(10*Page, "e")
	_, err := d.WriteAt(make([]byte, 2), 10*Page-1)
	require.ErrorContains(t, err, "outside")
	_, err = d.ReadAt(make([]byte, 1), -1)
	require.Error(t, err)
	require.Error(t, d.Zero(9*Page, 2*Page))
	require.Error(t, d.View(10*Page, 1, func([]byte) error { return nil }))
	d.Grow(20 * Page)
	_, err = d.WriteAt([]byte{1}, 19*Page)
	require.NoError(t, err)
	sums, err := d.Hashes(0, 20*Page, Page)
	require.NoError(t, err)
	assert.Len(t, sums, 20*32)
	assert.Equal(t, make([]byte, 19*32), sums[:19*32])
	require.NoError(t, d.Close())
	_, err = d.WriteAt([]byte{1}, 0)
	require.ErrorContains(t, err, "gone")
}

func TestADamagedDiskIsNotOpened(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk")
	d, err := At(path, 4*Page, "e")
	require.NoError(t, err)
	_, err = d.WriteAt([]byte{1}, 0)
	require.NoError(t, err)
	require.NoError(t, d.Close())
	require.NoError(t, os.WriteFile(marksOf(path), []byte{7}, 0o600))
	_, err = At(path, 4*Page, "f")
	require.ErrorContains(t, err, "layer 7 of 1")
	require.NoError(t, d.Remove())
	left, err := filepath.Glob(path + "*")
	require.NoError(t, err)
	assert.Empty(t, left)
}
