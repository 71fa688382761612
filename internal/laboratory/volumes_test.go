package laboratory_test

import (
	"bufio"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"andamio/internal/laboratory"
	"andamio/internal/nocloud"
	"andamio/internal/sandbox/disk"
	"andamio/internal/sandbox/qemu"
)

// port22 is a network on which a machine's SSH server is reached.
type port22 struct{ net.Listener }

func (p *port22) Ports() []int { return []int{22} }

func (p *port22) Listen(int) (l net.Listener, err error) {
	p.Listener, err = net.Listen("tcp", "127.0.0.1:0")
	return p.Listener, err
}

// TestASystemLetsAVolumeGo puts a volume into a machine of a stand-in whose system runs, takes it out, and puts it in again.
func TestASystemLetsAVolumeGo(t *testing.T) {
	t.Parallel()
	if err := laboratory.Missing(); err != nil {
		t.Skipf("NO LABORATORY: %v", err)
	}
	image, err := laboratory.MakeImage(t.Context())
	require.NoError(t, err)
	plain := filepath.Join(t.TempDir(), "plain")
	out, err := exec.CommandContext(t.Context(), "qemu-img", "convert", "-O", "raw", image, plain).CombinedOutput()
	require.NoError(t, err, string(out))
	data, err := os.ReadFile(plain)
	require.NoError(t, err)
	system, volume := disk.New(int64(len(data)), "system"), disk.New(64<<20, "volume")
	t.Cleanup(func() { system.Close(); volume.Close() })
	_, err = system.WriteAt(data, 0)
	require.NoError(t, err)
	seed, err := nocloud.New("i-1", "gauge", "")
	require.NoError(t, err)
	m, err := qemu.New(t.Context(), qemu.Config{Name: "gauge", Cores: 1, MemoryMiB: 192, System: system, Seed: seed})
	require.NoError(t, err)
	t.Cleanup(m.Close)
	at := &port22{}
	require.NoError(t, m.Plug(at))
	require.Eventually(t, func() bool {
		conn, err := net.DialTimeout("tcp", at.Addr().String(), second)
		if err != nil {
			return false
		}
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
		said, _ := bufio.NewReader(conn).ReadString('\n')
		return strings.HasPrefix(said, "SSH-2.0-")
	}, waiting, second, "its system starts")
	for range 2 {
		require.NoError(t, m.Attach(qemu.Volume{Serial: "5e71a1", Disk: volume}))
		require.NoError(t, m.Detach("5e71a1"))
	}
}
