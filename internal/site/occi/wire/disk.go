package wire

import (
	"encoding/base64"

	"github.com/zeebo/xxh3"
)

// Disks, pairs and objects are beyond the standard; a site that has them says so in its features.
const (
	FeatureDisks   = "disk-transfer"
	FeatureObjects = "object-storage"

	PathDisk  = "/disk/"   // GET, PUT with ranges (RFC 9110, section 14) of a volume or an instance's own disk
	PathPairs = "/pair/"   // the sites that this one is paired with
	PathSelf  = "/-/pair"  // this site's own key
	PathTrial = "/-/trial" // bytes for measuring a link

	// HeaderDigest is [RangeDigest] of the ranges' bytes one after another, whatever the coding of the content.
	HeaderDigest = "Andamio-Range-Digest"

	// ParamSince, ParamFrom, ParamLength and ParamBlock bound what is asked of a disk.
	ParamSince  = "since"
	ParamEpoch  = "epoch"
	ParamFrom   = "from"
	ParamLength = "length"
	ParamBlock  = "block"
	ParamView   = "view"

	ViewChanges = "changes"
	ViewHashes  = "hashes"

	ActionConsolidate = "consolidate" // of a disk: its layers become one

	ActionSuspend = "suspend"
	ActionRelease = "release"
	ActionReclaim = "reclaim"

	OwnAsleep = "andamio.placed.asleep" // built and not switched on
	OwnMAC    = "andamio.reach.mac"     // the hardware address that an interface is to have
	OwnLead   = "andamio.reach.lead"    // where connections to a released interface are led: "8080:127.1.2.3:8080,…"
	OwnClass  = "andamio.storage.class"

	// What bounds a volume: how often a second it is read or written at most, and how many MiB. 0 does not.
	OwnIOPerSecond = "andamio.storage.io"
	OwnIOMiB       = "andamio.storage.io.mib"
)

// An object is a file that a site keeps: it is made with its size and digest, filled in order by ranges (RFC 9110,
// section 14.5), and active when all of it is there and has the digest.
const (
	Object         = Own + "storage#object"
	ObjectState    = "andamio.object.state"
	ObjectWord     = "andamio.object.state.message"
	ObjectBytes    = "andamio.object.bytes"
	ObjectDigest   = "andamio.object.sha256"
	ObjectReceived = "andamio.object.received" // so many bytes are there
	PathObject     = "/object/"

	ActionUnpack = "unpack" // of a disk: it is written from a package among the objects
)

// A snapshot is what a disk held when it was asked for: that of a volume, or an instance's own. It is a thing by itself, and stays when its
// disk goes. An action has a disk hold what it keeps; the disk's machine must be off.
const (
	Snapshot      = Own + "storage#snapshot"
	SnapshotState = "andamio.snapshot.state"
	SnapshotWord  = "andamio.snapshot.state.message"
	SnapshotOf    = "andamio.snapshot.of"    // the disk, by the id of its volume or instance
	SnapshotSize  = "andamio.snapshot.size"  // of the disk, in bytes
	SnapshotBytes = "andamio.snapshot.bytes" // so many of them hold something
	SnapshotAt    = "andamio.snapshot.at"    // the moment (RFC 3339)
	ActionRestore = "restore"
	RestoreTo     = "andamio.snapshot.to" // the disk that is to hold what the snapshot keeps
)

// Unpack has a disk written from one of the images of a package among the site's objects.
type Unpack struct {
	Object string `json:"object"`
	Image  int    `json:"image"`
}

// Unpacked is how many bytes were written.
type Unpacked struct {
	Bytes int64 `json:"bytes"`
}

// RangeDigest tells whether bytes came through as they were: XXH3 of 128 bits, in the form of RFC 9530, section 2. It is
// many times as fast as reading a disk, and is no proof against somebody who wants to deceive: who may send at all is
// for the signatures to say, and blocks of two disks are compared by BLAKE3.
func RangeDigest(data []byte) string {
	sum := xxh3.Hash128(data).Bytes()
	return "xxh3-128=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
}

// BlockDigest is how many bytes the digest of a block has: BLAKE3 of 256 bits, which needs no help of the processor to be
// several times as fast as SHA-256.
const BlockDigest = 32

// Extent is a run of bytes on a disk: offset and length.
type Extent [2]int64

// Changes is what was written on a disk after a generation.
type Changes struct {
	Size  int64  `json:"size"`
	Page  int64  `json:"page"`
	Epoch string `json:"epoch"`
	// UpTo is the generation up to which this says what was written.
	UpTo uint32 `json:"up_to"`
	// Whole says that the generation asked for is not known here, so that this lists all that the disk holds.
	Whole   bool     `json:"whole,omitempty"`
	Written []Extent `json:"written"`
	// Zero are parts that hold nothing any more.
	Zero []Extent `json:"zero,omitempty"`
	// Layers are those that the disk is kept in: a round of copying is kept apart until they are consolidated.
	Layers int `json:"layers,omitempty"`
}

// Pull asks a site to copy parts of a disk from another site to one of its own.
type Pull struct {
	// Peer is the site, Disk the disk there.
	Peer string `json:"peer"`
	Disk string `json:"disk"`
	// Written are copied and Zero emptied.
	Written []Extent `json:"written"`
	Zero    []Extent `json:"zero,omitempty"`
	// Limit bounds the bytes per second on the wire; 0 does not.
	Limit int64 `json:"limit,omitempty"`
	// Compress has the content coded with zstd (RFC 8878) on the way.
	Compress bool `json:"compress,omitempty"`
	// Round keeps what is copied in a layer of the disk for that round; 0 writes it in place.
	Round int `json:"round,omitempty"`
}

// Consolidated is what came of consolidating a disk: how many bytes of its layers were brought together.
type Consolidated struct {
	Bytes int64 `json:"bytes"`
}

// Pulled is what was copied.
type Pulled struct {
	// Bytes were written, Wire went over the wire, Holes of them were not written since they hold nothing.
	Bytes int64 `json:"bytes"`
	Wire  int64 `json:"wire"`
	Holes int64 `json:"holes"`
	// Verified bytes were read back and have the digest that the other site told.
	Verified int64   `json:"verified"`
	Seconds  float64 `json:"seconds"`
}

// Pair is a site that another is paired with, or a site's own key.
type Pair struct {
	Site string `json:"site"`
	URL  string `json:"url,omitempty"`
	// Key is a public key: ed25519, base64.
	Key string `json:"key"`
	// MayStart says that the other side may start moves that take from this site.
	MayStart bool `json:"may_start,omitempty"`
	// Granted are disks that the other site may read although it may not start moves.
	Granted []string `json:"granted,omitempty"`
}

// Trial is a link as one site finds it when it asks the other.
type Trial struct {
	Reachable bool   `json:"reachable"`
	Why       string `json:"why,omitempty"`
	// Milliseconds is the round trip, ClockSeconds how far the other's clock is ahead.
	Milliseconds float64 `json:"ms"`
	ClockSeconds float64 `json:"clock_seconds"`
	// BytesPerSecond was measured; DiskBytesPerSecond is how fast this side brings layers of a disk together.
	BytesPerSecond     float64 `json:"bytes_per_second"`
	DiskBytesPerSecond float64 `json:"disk_bytes_per_second,omitempty"`
}
