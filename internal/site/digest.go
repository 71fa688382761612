package site

import (
	"bytes"

	"github.com/zeebo/blake3"
)

// DigestSize is how many bytes the digest of a block has.
const DigestSize = 32

// NoDigest is that of a block that holds nothing.
var NoDigest [DigestSize]byte

var nothing [64 << 10]byte

// Empty reports that bytes are all zero.
func Empty(data []byte) bool {
	for len(data) > 0 {
		n := min(len(data), len(nothing))
		if !bytes.Equal(data[:n], nothing[:n]) {
			return false
		}
		data = data[n:]
	}
	return true
}

// Digests are those of the blocks of some bytes, one after another, as [Disks.Hashes] has them; the last block may be smaller.
func Digests(data []byte, block int) []byte {
	var out []byte
	for len(data) > 0 {
		n := min(block, len(data))
		sum := NoDigest
		if !Empty(data[:n]) {
			sum = blake3.Sum256(data[:n])
		}
		out = append(out, sum[:]...)
		data = data[n:]
	}
	return out
}
