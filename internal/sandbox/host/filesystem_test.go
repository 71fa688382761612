package host

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/sandbox/disk"
)

// copyOf is a disk with the same bytes.
func copyOf(t *testing.T, d *disk.Disk) *disk.Disk {
	t.Helper()
	d.Open()
	out := disk.New(d.Size(), "copy")
	written, _, _ := d.Changes(0)
	for _, x := range written {
		buf := make([]byte, x.Length)
		_, err := d.ReadAt(buf, x.Offset)
		require.NoError(t, err)
		_, err = out.WriteAt(buf, x.Offset)
		require.NoError(t, err)
	}
	t.Cleanup(func() { out.Close() })
	return out
}

// TestAMachineGoesOnFromACopyOfItsDisk copies the disk of a machine that was switched off, starts another from the copy,
// and so on: files, names and keys stay what they were.
func TestAMachineGoesOnFromACopyOfItsDisk(t *testing.T) {
	d := disk.New(1<<30, "first")
	v := disk.New(1<<30, "volume")
	h, err := New("log-host", 0.001, "", d, map[string]*disk.Disk{"/var/lib/levels": v})
	require.NoError(t, err)
	d.OnFirst = func() { h.Sync(d) }
	v.OnFirst = func() { h.Sync(v) }
	key := h.HostKey()
	for i := range 4 {
		_, _ = on(h, "echo line >> /var/lib/levels/log; echo more >> /srv/notes; mkdir -p /srv/a/b; echo x > /srv/a/b/c; rm -f /srv/gone; touch /srv/gone")
		h.Close()
		d, v = copyOf(t, d), copyOf(t, v)
		h, err = New("log-host", 0.001, "", d, map[string]*disk.Disk{"/var/lib/levels": v})
		require.NoError(t, err, "copy %d", i)
		d.Open()
		v.Open()
		assert.Equal(t, key, h.HostKey())
		out, _ := on(h, "wc -l < /var/lib/levels/log; wc -l < /srv/notes; cat /srv/a/b/c")
		assert.Equal(t, []string{"1\n1\nx\n", "2\n2\nx\n", "3\n3\nx\n", "4\n4\nx\n"}[i], out)
	}
	h.Close()
}
