package printable

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestBytes(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1: "1 B", 1023: "1023 B", 1024: "1 KiB", 1536: "1.5 KiB", 1 << 20: "1 MiB", 99<<20 + 1<<19: "99.5 MiB", 100<<20 + 1<<19: "100 MiB",
		1<<30 - 1: "1 GiB", 20 << 30: "20 GiB", 3 << 40: "3 TiB", 5000 << 50: "5000 PiB"} {
		assert.Equal(t, want, Bytes(n), "%d", n)
	}
}
