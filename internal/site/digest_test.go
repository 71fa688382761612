package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/zeebo/blake3"
)

func TestWhatHoldsNothingHasNoDigest(t *testing.T) {
	const block = 100 << 10 // more than is compared at once
	data := make([]byte, 2*block+10)
	data[block+block-1] = 1
	got := Digests(data, block)
	sum := blake3.Sum256(data[block : 2*block])
	assert.Equal(t, append(append(make([]byte, DigestSize), sum[:]...), make([]byte, DigestSize)...), got, "the last is smaller, and is one all the same")
	assert.Empty(t, Digests(nil, block))
	assert.True(t, Empty(nil))
	assert.False(t, Empty(data))
}
