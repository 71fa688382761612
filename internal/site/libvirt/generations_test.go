package libvirt

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"andamio/internal/site"
)

// TestWhatChangedSinceALookIsListed has a disk be written at random and looked at now and again by several: each is told of all that was
// written since it looked last, and of nothing else.
func TestWhatChangedSinceALookIsListed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const blocks = 12
		size := int64(blocks*block - rapid.IntRange(0, block-1).Draw(t, "short"))
		disk := make([]byte, size)
		var g generations
		type looker struct {
			epoch string
			upTo  uint32
			knows []byte
		}
		lookers := []*looker{{knows: make([]byte, size)}, {knows: make([]byte, size)}}
		for range rapid.IntRange(1, 20).Draw(t, "acts") {
			if rapid.Bool().Draw(t, "write") {
				at := rapid.Int64Range(0, size-1).Draw(t, "at")
				n := min(rapid.Int64Range(1, 3*block).Draw(t, "length"), size-at)
				copy(disk[at:at+n], bytes.Repeat([]byte{rapid.Byte().Draw(t, "byte")}, int(n)))
				continue
			}
			l := lookers[rapid.IntRange(0, 1).Draw(t, "who")]
			c := g.changes("disk", l.epoch, l.upTo, size, site.Digests(disk, block))
			if c.Whole {
				l.knows = make([]byte, size)
			}
			for _, x := range c.Written {
				copy(l.knows[x.Offset:x.Offset+x.Length], disk[x.Offset:x.Offset+x.Length])
			}
			for _, x := range c.Zero {
				copy(l.knows[x.Offset:x.Offset+x.Length], make([]byte, x.Length))
			}
			l.epoch, l.upTo = c.Epoch, c.UpTo
			if !bytes.Equal(disk, l.knows) {
				t.Fatal("what was told is not all that was written")
			}
			again := g.changes("disk", l.epoch, l.upTo, size, site.Digests(disk, block))
			if len(again.Written)+len(again.Zero) > 0 || again.Whole {
				t.Fatal("nothing was written since")
			}
			l.upTo = again.UpTo
		}
	})
	var g generations
	first := g.changes("disk", "", 0, block, site.Digests(make([]byte, block), block))
	assert.True(t, first.Whole, "nobody looked before")
	assert.Empty(t, first.Written, "and it holds nothing")
	assert.True(t, g.changes("disk", "of another driver", 1, block, site.Digests(make([]byte, block), block)).Whole)
	assert.True(t, g.changes("disk", first.Epoch, 99, block, site.Digests(make([]byte, block), block)).Whole, "a look that never was")
	assert.Equal(t, []site.Extent{{Offset: 0, Length: 8}}, appended([]site.Extent{{Offset: 0, Length: 4}}, site.Extent{Offset: 4, Length: 4}), "what follows is one")
}
