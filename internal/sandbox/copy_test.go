package sandbox

import (
	"context"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/sandbox/disk"
	"andamio/internal/site"
	"andamio/internal/site/occi"
)

// twoSites are paired stand-ins of which the second may read the first's disks, with a volume of so many GiB at each.
func twoSites(t testing.TB, gib float64) (box *Sandbox, drivers [2]*occi.Driver, volumes [2]string) {
	t.Helper()
	e := &estate.Estate{Version: estate.Version, Currency: "cr"}
	for _, name := range []string{"arroyo", "loma"} {
		e.Sites = append(e.Sites, &estate.Site{Name: name, Kind: estate.Private, Network: estate.Address, Pace: 1,
			Zones:  []estate.Zone{{Name: "a", Free: estate.Capacity{Cores: 8, MemoryGiB: 32, DiskGiB: 100}, Total: estate.Capacity{Cores: 8, MemoryGiB: 32, DiskGiB: 100}}},
			Images: []estate.Image{{Name: "debian-12", OS: "linux"}}, FreeForm: true, Timings: estate.Timings{Volume: 1, Instance: 1}})
	}
	box, err := Start(Config{Estate: e, Pace: 0.01})
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	ctx := context.Background()
	var peers [2]site.Peer
	for i, x := range box.Endpoints {
		drivers[i] = occi.New(x.Site, x.URL, x.Token)
		peers[i], err = drivers[i].Self(ctx)
		require.NoError(t, err)
		r, err := drivers[i].Create(ctx, site.Request{Kind: kinds.Volume, Name: "v", DiskGiB: gib})
		require.NoError(t, err)
		volumes[i] = r.ID
	}
	peers[1].MayStart = true
	require.NoError(t, drivers[0].Pair(ctx, peers[1]))
	require.NoError(t, drivers[1].Pair(ctx, peers[0]))
	return box, drivers, volumes
}

// diskAt is the disk of a volume.
func (s *Sandbox) diskAt(i int, id string) *disk.Disk { return s.clouds()[i].things[id].disk }

// noise writes so many random bytes to a disk.
func noise(t testing.TB, d *disk.Disk, off, n int64, seed uint64) {
	t.Helper()
	rng := rand.NewChaCha8([32]byte{byte(seed)})
	buf := make([]byte, 1<<20)
	for n > 0 {
		part := min(n, int64(len(buf)))
		_, _ = rng.Read(buf[:part])
		_, err := d.WriteAt(buf[:part], off)
		require.NoError(t, err)
		off, n = off+part, n-part
	}
}

func TestACopyIsTheSameByteForByte(t *testing.T) {
	box, d, v := twoSites(t, 1)
	ctx := context.Background()
	src := box.diskAt(0, v[0])
	noise(t, src, 0, 20<<20+5, 1)
	noise(t, src, 300<<20, 4096*3, 2)
	for i := range 700 { // many small ones
		noise(t, src, 400<<20+int64(i)*disk.Page*3, disk.Page, uint64(i))
	}
	for _, compress := range []bool{false, true} {
		c, err := d[0].Changes(ctx, v[0], "", 0)
		require.NoError(t, err)
		assert.True(t, c.Whole)
		got, err := d[1].Copy(ctx, v[1], site.CopyRequest{Peer: "arroyo", Disk: v[0], Written: c.Written, Compress: compress})
		require.NoError(t, err)
		assert.Equal(t, site.Bytes(c.Written), got.Bytes)
		assert.Equal(t, got.Bytes, got.Verified)
		same(t, box, v)
	}
}

func same(t *testing.T, box *Sandbox, v [2]string) {
	t.Helper()
	a, err := box.DiskDigest("arroyo", v[0])
	require.NoError(t, err)
	b, err := box.DiskDigest("loma", v[1])
	require.NoError(t, err)
	assert.Equal(t, a, b)
}

func TestARoundMovesWhatChangedAndLittleElse(t *testing.T) {
	box, d, v := twoSites(t, 1)
	ctx := context.Background()
	src := box.diskAt(0, v[0])
	noise(t, src, 0, 64<<20, 1)
	first, err := d[0].Changes(ctx, v[0], "", 0)
	require.NoError(t, err)
	_, err = d[1].Copy(ctx, v[1], site.CopyRequest{Peer: "arroyo", Disk: v[0], Written: first.Written})
	require.NoError(t, err)

	changed := int64(0)
	for i := range 1500 {
		noise(t, src, int64(i*37%16384)*disk.Page, disk.Page, uint64(i))
		changed += disk.Page
	}
	require.NoError(t, src.Zero(8<<20, 1<<20))
	second, err := d[0].Changes(ctx, v[0], first.Epoch, first.UpTo)
	require.NoError(t, err)
	assert.NotEmpty(t, second.Zero)
	got, err := d[1].Copy(ctx, v[1], site.CopyRequest{Peer: "arroyo", Disk: v[0], Written: second.Written, Zero: second.Zero})
	require.NoError(t, err)
	assert.LessOrEqual(t, float64(got.Wire), 1.05*float64(changed)+0.001*float64(1<<30))
	same(t, box, v)

	t.Run("what is not known any more is listed whole", func(t *testing.T) {
		c, err := d[0].Changes(ctx, v[0], "another", second.UpTo)
		require.NoError(t, err)
		assert.True(t, c.Whole)
	})
}

func TestWhoMayReadADisk(t *testing.T) {
	box, d, v := twoSites(t, 1)
	ctx := context.Background()
	noise(t, box.diskAt(1, v[1]), 0, 1<<20, 1)
	order := site.CopyRequest{Peer: "loma", Disk: v[1], Written: []site.Extent{{Offset: 0, Length: 4096}}}
	_, err := d[0].Copy(ctx, v[0], order)
	require.ErrorContains(t, err, "may not start moves")
	require.NoError(t, d[1].Grant(ctx, "arroyo", v[1]))
	_, err = d[0].Copy(ctx, v[0], order)
	require.NoError(t, err)
	require.NoError(t, d[1].Part(ctx, "arroyo"))
	_, err = d[0].Copy(ctx, v[0], order)
	require.ErrorContains(t, err, "not paired")
}

func TestPartsAreReadAndWrittenByRanges(t *testing.T) {
	_, d, v := twoSites(t, 1)
	ctx := context.Background()
	data := []byte("level 2.10 m at the dam")
	require.NoError(t, d[0].WriteDisk(ctx, v[0], 12345, data))
	got, err := d[0].ReadDisk(ctx, v[0], site.Extent{Offset: 12345, Length: int64(len(data))})
	require.NoError(t, err)
	assert.Equal(t, data, got)
	_, err = d[0].ReadDisk(ctx, v[0], site.Extent{Offset: 1 << 30, Length: 1})
	assert.ErrorContains(t, err, "not within")
	require.Error(t, d[0].WriteDisk(ctx, v[0], 1<<30-1, data))
	sums, err := d[0].Hashes(ctx, v[0], site.Extent{Offset: 0, Length: 128 << 10}, 64<<10)
	require.NoError(t, err)
	assert.NotEqual(t, make([]byte, 32), sums[:32])
	assert.Equal(t, make([]byte, 32), sums[32:], "nothing is there")
}

// TestADiskIsReadWhileItIsWritten reads large parts of a disk to which its machine writes all the time: the digest is that
// of what is sent, whatever is written meanwhile.
func TestADiskIsReadWhileItIsWritten(t *testing.T) {
	box, d, _ := twoSites(t, 1)
	ctx := context.Background()
	r, err := d[0].Create(ctx, site.Request{Kind: kinds.Instance, Name: "gauge", Image: "debian-12", Cores: 1, MemoryGiB: 1, DiskGiB: 1})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := d[0].Read(ctx, kinds.Instance, r.ID)
		return err == nil && now.State == site.Active
	}, 2*time.Minute, 5*time.Millisecond)
	_, err = d[0].Changes(ctx, r.ID, "", 0)
	require.NoError(t, err)
	dsk := box.diskAt(0, r.ID)
	at, stop := systemAt(dsk), make(chan struct{})
	var group sync.WaitGroup
	group.Go(func() {
		page := make([]byte, disk.Page)
		for i := uint64(0); ; i++ {
			select {
			case <-stop:
				return
			default:
			}
			page[i%disk.Page]++
			_, _ = dsk.WriteAt(page, at+int64(i*2654435761%1024)*disk.Page)
		}
	})
	for range 40 {
		_, err := d[0].ReadDisk(ctx, r.ID, site.Extent{Offset: at, Length: 4 << 20})
		assert.NoError(t, err)
	}
	close(stop)
	group.Wait()
}
