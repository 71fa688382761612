package site

import (
	"context"
	"io"
	"time"
)

// Suspended machines stand still and go on where they were.
const Suspended State = "suspended"

// The acts of [Site.Act] beside "start" and "stop". Reclaim has back what [Releaser] gave up.
const (
	ActSuspend = "suspend"
	ActReclaim = "reclaim"
)

// Extent is a run of bytes on a disk.
type Extent struct{ Offset, Length int64 }

// Bytes sums extents.
func Bytes(list []Extent) int64 {
	n := int64(0)
	for _, x := range list {
		n += x.Length
	}
	return n
}

// Changes is what was written on a disk after a generation.
type Changes struct {
	Size int64
	// Epoch and UpTo say up to when this holds: the next question is for what was written since. Whole says that the
	// generation that was asked for is not known any more, so that all that the disk holds is listed.
	Epoch string
	UpTo  uint32
	Whole bool
	// Written hold something, in order; Zero nothing any more.
	Written, Zero []Extent
	// Layers are those that the disk is kept in, at least 1.
	Layers int
}

// CopyRequest is what a site is to copy from a disk of another.
type CopyRequest struct {
	Peer, Disk    string
	Written, Zero []Extent
	// Limit bounds bytes per second; 0 does not.
	Limit int64
	// Compress what is on the way.
	Compress bool
	// Round keeps what is copied in a layer for that round, apart from what the disk has; 0 writes it in place.
	Round int
}

// Copied is what came of a [CopyRequest]: how many bytes, on the wire, that hold nothing, and read back with the right digest.
type Copied struct {
	Bytes, Wire, Holes, Verified int64
	Took                         time.Duration
}

// Peer is a site as another knows it: where it is reached and its public key.
type Peer struct {
	Site, URL, Key string
	// MayStart says that it may start moves that take from the other.
	MayStart bool
}

// Trial is a link to another site, as a site finds it.
type Trial struct {
	Reachable      bool          `json:"reachable"`
	Why            string        `json:"why,omitempty"`
	RoundTrip      time.Duration `json:"round_trip"`
	Ahead          time.Duration `json:"ahead"` // by how much the other's clock is
	BytesPerSecond float64       `json:"bytes_per_second"`
	// DiskBytesPerSecond is how fast the asking site brings layers of a disk together; 0 if it does not say.
	DiskBytesPerSecond float64 `json:"disk_bytes_per_second,omitempty"`
}

// What follows is what a site may be able to do beside what every [Site] does, each found by a type assertion. A disk is named by
// the id of its volume, or of the instance that starts from it.

// Disks is a site whose disks can be read and written from outside.
type Disks interface {
	// Changes lists what was written on a disk since a generation of an epoch; 0 lists all that it holds.
	Changes(ctx context.Context, disk, epoch string, since uint32) (Changes, error)
	// Hashes are the BLAKE3 digests, of 32 bytes each, of the blocks of a part of a disk, one after another; those of blocks that hold
	// nothing are zeros.
	Hashes(ctx context.Context, disk string, x Extent, block int64) ([]byte, error)
	// ReadDisk and WriteDisk read and write a part of a disk, of at most [MaxPart] bytes. Only a disk whose machine is off
	// is written.
	ReadDisk(ctx context.Context, disk string, x Extent) ([]byte, error)
	WriteDisk(ctx context.Context, disk string, offset int64, data []byte) error
}

// Copier is a site that copies disks from those that it is paired with.
type Copier interface {
	// Copy has the site copy from a disk of another to one of its own, and verify it.
	Copy(ctx context.Context, disk string, o CopyRequest) (Copied, error)
	// Consolidate makes the layers of a disk one, and returns how many bytes were brought together. The disk may be in use.
	Consolidate(ctx context.Context, disk string) (int64, error)
}

// Snapshotter is a site that keeps what disks hold at a moment, as things of the kind [kinds.Snapshot], which are made, listed and removed like all
// others: [Request.Source] is the disk.
type Snapshotter interface {
	// Restore has a disk, whose machine is off, hold what a snapshot keeps, and nothing else.
	Restore(ctx context.Context, snapshot, disk string) error
}

// Copying is a [Snapshotter] whose snapshots may be copies of disks: such a copy is of one moment only where nobody writes meanwhile.
type Copying interface {
	Snapshotter
	// Copies reports that they are.
	Copies(ctx context.Context) bool
}

// MemoryKeeper is a [Snapshotter] that keeps what is in the memory of instances too, as snapshots that are asked for with [Request.Memory]. The instance is
// suspended meanwhile, and stays so.
type MemoryKeeper interface {
	Snapshotter
	// Recall has an instance that is off go on from the memory that a snapshot of it keeps. Its disks have to hold what they held then, which nobody looks at.
	Recall(ctx context.Context, snapshot, instance string) error
}

// IOLimit bounds what goes to and from a disk; 0 bounds nothing.
type IOLimit struct {
	// PerSecond is how often it is read or written a second at most, MiBPerSecond how many MiB go there and back.
	PerSecond    int
	MiBPerSecond float64
}

// Limiter is a site that bounds how much its volumes are read and written.
type Limiter interface {
	// Limit bounds a volume, in the place of what bounded it before: wherever it is attached, now and later.
	Limit(ctx context.Context, volume string, l IOLimit) error
}

// Consoler is a site that leads to the serial consoles of its instances: the only way in where a network is broken, or a system does not
// start.
type Consoler interface {
	// Console is what an instance says on its serial console from now on, and what is typed there. It takes the place of whoever had it
	// before, and has no end but that the instance is switched off or the console closed.
	Console(ctx context.Context, instance string) (io.ReadWriteCloser, error)
}

// Releaser is a site that keeps an interface's address for it while nothing answers there.
type Releaser interface {
	// Release gives up an interface's address, which stays its own; connections to a suspended machine are led elsewhere,
	// port by port. [ActReclaim] has it back.
	Release(ctx context.Context, iface string, lead map[string]string) error
}

// Packager is a site that keeps packages as objects, and fills disks from them.
type Packager interface {
	// Upload writes the bytes of an object from an offset on, which must be what is there already, and returns how much is
	// there then.
	Upload(ctx context.Context, object string, offset, total int64, data []byte) (received int64, err error)
	// Unpack has the site write a disk from the i-th image of a package that is one of its objects.
	Unpack(ctx context.Context, disk, object string, image int) (bytes int64, err error)
}

// Pairer is a site that others take disks from once the two know each other's keys.
type Pairer interface {
	// Self is the site as others are to know it, Pair makes another site known to it, Part forgets one.
	Self(ctx context.Context) (Peer, error)
	Pair(ctx context.Context, other Peer) error
	Part(ctx context.Context, other string) error
	// Grant lets another site read a disk although it may not start moves.
	Grant(ctx context.Context, other, disk string) error
	// Try has the site ask another.
	Try(ctx context.Context, other string) (Trial, error)
}

// Source is a site from which workloads are moved, and Target one to which they are.
type (
	Source interface {
		Disks
		Pairer
	}
	Target interface {
		Disks
		Copier
	}
)

// MaxPart bounds [Disks.ReadDisk] and [Disks.WriteDisk].
const MaxPart = 4 << 20
