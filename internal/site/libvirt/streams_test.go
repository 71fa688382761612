package libvirt_test

import (
	"bytes"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// TestManyReadAndWriteAtOnce has what is written come back whole, whoever else reads and writes meanwhile: a stream that is not ended as the
// daemon expects leaves the next ones broken.
func TestManyReadAndWriteAtOnce(t *testing.T) {
	h := host(t)
	d := opened(t, "unix:"+h.Socket(), 10*time.Second)
	disks := d.(site.Disks)
	var all errgroup.Group
	for w := range 6 {
		all.Go(func() error {
			r := rand.New(rand.NewPCG(uint64(w), 1))
			v, err := d.Create(t.Context(), site.Request{Kind: kinds.Volume, Name: "many", DiskGiB: 0.0078125})
			if err != nil {
				return err
			}
			want := make([]byte, 8<<20)
			for range 60 {
				at, n := r.Int64N(7<<20), 1+r.Int64N(1<<20)
				if r.IntN(2) == 0 {
					for i := range n {
						want[at+i] = byte(r.Uint32())
					}
					if err := disks.WriteDisk(t.Context(), v.ID, at, want[at:at+n]); err != nil {
						return err
					}
					continue
				}
				got, err := disks.ReadDisk(t.Context(), v.ID, site.Extent{Offset: at, Length: n})
				if err != nil {
					return err
				}
				if !bytes.Equal(want[at:at+n], got) {
					assert.Fail(t, "other bytes came")
				}
			}
			return d.Delete(t.Context(), kinds.Volume, v.ID)
		})
	}
	require.NoError(t, all.Wait())
}
