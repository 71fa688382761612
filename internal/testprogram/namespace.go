package testprogram

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// Namespace is a network of its own on this machine (ip-netns(8)), with one link to the rest of it.
type Namespace struct {
	Name string
	// Here and There are the addresses of the two ends of the link: outside and inside.
	Here, There string
}

var namespaces atomic.Int64

// NewNamespace makes one, which is gone with the test, or skips the test where there can be none. Nothing is routed through the link.
func NewNamespace(t *testing.T) *Namespace {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("networks of their own are made by root alone")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("there is no ip here (Debian: iproute2)")
	}
	n := namespaces.Add(1)
	id := fmt.Sprintf("an%d-%d", os.Getpid()%100000, n)
	net := fmt.Sprintf("10.213.%d.", (os.Getpid()+int(n)*37)%250)
	ns := &Namespace{Name: id, Here: net + "1", There: net + "2"}
	ip := func(args ...string) {
		out, err := exec.Command("ip", args...).CombinedOutput()
		require.NoError(t, err, "ip %v: %s", args, out)
	}
	if out, err := exec.Command("ip", "netns", "add", id).CombinedOutput(); err != nil {
		t.Skipf("no network of its own can be made here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", id).Run() })
	ip("link", "add", id+"a", "type", "veth", "peer", "name", id+"b", "netns", id)
	t.Cleanup(func() { _ = exec.Command("ip", "link", "del", id+"a").Run() })
	ip("addr", "add", ns.Here+"/30", "dev", id+"a")
	ip("link", "set", id+"a", "up")
	ip("-n", id, "addr", "add", ns.There+"/30", "dev", id+"b")
	ip("-n", id, "link", "set", id+"b", "up")
	ip("-n", id, "link", "set", "lo", "up")
	return ns
}

// Command is a program inside.
func (n *Namespace) Command(ctx context.Context, program string, args ...string) *exec.Cmd {
	return exec.CommandContext(ctx, "ip", append([]string{"netns", "exec", n.Name, program}, args...)...)
}
