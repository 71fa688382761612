package libvirt_test

import (
	"fmt"
	"net/http/httptest"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/notice"
	"andamio/internal/site"
)

// TestWhatIsDoneByHandIsTold has somebody make, start and take away a machine with another program: notices say so, signed, also after the
// daemon was killed and came back, and no more once they are not asked for.
func TestWhatIsDoneByHandIsTold(t *testing.T) {
	h := host(t)
	var mu sync.Mutex
	heard := map[string][]string{}
	told := func(id string) string {
		mu.Lock()
		defer mu.Unlock()
		return strings.ReplaceAll(strings.Join(heard[id], " "), "in shutdown ", "")
	} // which need not be told
	server := httptest.NewServer(&notice.Receiver{Secret: "hand", Hear: func(e event.Event) {
		var c notice.Changed
		if e.DataAs(&c) == nil {
			mu.Lock()
			heard[c.ID] = append(heard[c.ID], c.State)
			mu.Unlock()
		}
	}})
	defer server.Close()
	d := opened(t, "unix:"+h.Socket(), 10*time.Second)
	stop, err := d.(site.Pusher).Push(t.Context(), site.Sink{URL: server.URL, Secret: "hand"})
	require.NoError(t, err)
	virsh := func(in string, args ...string) {
		cmd := exec.CommandContext(t.Context(), "virsh", append([]string{"-q", "-c", "qemu+unix:///system?socket=" + h.Socket()}, args...)...)
		cmd.Stdin = strings.NewReader(in)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
	}
	machine := func(n int) string {
		return fmt.Sprintf("<domain type='qemu'><name>hand-%d</name><uuid>0b5e0f5c-0000-4000-8000-00000000000%d</uuid><memory unit='MiB'>32</memory><os><type arch='x86_64' machine='pc'>hvm</type></os></domain>", n, n)
	}
	becomes := func(n int, want string) {
		t.Helper()
		id := fmt.Sprintf("0b5e0f5c-0000-4000-8000-00000000000%d", n)
		if !assert.Eventually(t, func() bool { return told(id) == want }, 20*time.Second, 10*time.Millisecond) {
			assert.Equal(t, want, told(id))
		}
	}
	virsh(machine(1), "define", "/dev/stdin")
	virsh("", "start", "hand-1")
	virsh("", "destroy", "hand-1")
	virsh("", "undefine", "hand-1")
	becomes(1, "defined resumed started stopped undefined")

	require.NoError(t, h.Kill())
	require.NoError(t, h.Run(t.Context()))
	require.Eventually(t, func() bool { // it is heard again once it listens again
		virsh(machine(2), "define", "/dev/stdin")
		return strings.Contains(told("0b5e0f5c-0000-4000-8000-000000000002"), "defined")
	}, 20*time.Second, 100*time.Millisecond)

	require.NoError(t, stop(t.Context()))
	virsh(machine(3), "define", "/dev/stdin")
	assert.Empty(t, told("0b5e0f5c-0000-4000-8000-000000000003"))
}
