package qemu

import (
	"io"
	"net"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/nocloud"
	"andamio/internal/sandbox/disk"
	"andamio/internal/sandbox/qemu/qemutest"
)

// startable is a disk that begins so, with a word in its second sector.
func startable(t *testing.T, word string) *disk.Disk {
	t.Helper()
	d := disk.New(1<<20, "test")
	t.Cleanup(func() { d.Close() })
	_, err := d.WriteAt(qemutest.Sector(), 0)
	require.NoError(t, err)
	_, err = d.WriteAt([]byte(word), qemutest.Second)
	require.NoError(t, err)
	return d
}

func started(t *testing.T, word string, volumes ...Volume) (*Machine, *disk.Disk) {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		t.Skipf("NO MACHINES: %v", err)
	}
	seed, err := nocloud.New("i-1", "gauge", "ssh-ed25519 AAAA ana")
	require.NoError(t, err)
	d := startable(t, word)
	m, err := New(t.Context(), Config{Name: "gauge", Cores: 1, MemoryMiB: 64, System: d, Volumes: volumes, Seed: seed})
	require.NoError(t, err)
	t.Cleanup(m.Close)
	return m, d
}

func TestWhatStarts(t *testing.T) {
	assert.True(t, Starts(startable(t, "x")))
	empty := disk.New(1<<20, "test")
	assert.False(t, Starts(empty))
	assert.False(t, Starts(disk.New(100, "test")), "there is no sector on it")
}

// TestAMachineWritesWhatItsDiskKnowsOf: what a machine writes is on its disk, and that knows when.
func TestAMachineWritesWhatItsDiskKnowsOf(t *testing.T) {
	v := disk.New(1<<20, "volume")
	m, d := started(t, "level 1.40 m", Volume{"5e71a1", v})
	_, _, since := d.Changes(0)
	got := make([]byte, 12)
	require.Eventually(t, func() bool {
		_, err := d.ReadAt(got, qemutest.Seventeenth)
		return err == nil && string(got) == "level 1.40 m"
	}, 30*time.Second, 20*time.Millisecond)
	written, _, _ := d.Changes(since)
	assert.NotContains(t, written, disk.Extent{Offset: 0, Length: disk.Page}, "the page before is as it was")
	select {
	case <-m.Ended():
		t.Fatal("it is off")
	default:
	}
	other := disk.New(1<<20, "other")
	require.NoError(t, m.Attach(Volume{"0ther", other}))
	require.Error(t, m.Attach(Volume{"0ther", other}), "it is there already")
	assert.Contains(t, m.HostKey(), "ssh-ed25519 ")
	m.Close()
	<-m.Ended()
	m.Close()
	require.Error(t, m.Attach(Volume{"late", other}), "it is off")
}

// TestAMachineSwitchesItselfOff: whoever waits for it is told.
func TestAMachineSwitchesItselfOff(t *testing.T) {
	m, _ := started(t, "! this is all")
	select {
	case <-m.Ended():
	case <-time.After(30 * time.Second):
		t.Fatal("it is still on")
	}
	m.Halt() // which has nothing left to do
}

// local is a network of one address, on which ports are where they may.
type local struct {
	ports []int
	at    map[int]net.Listener
}

func (n *local) Ports() []int { return n.ports }

func (n *local) Listen(port int) (net.Listener, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	n.at[port] = l
	return l, err
}

// TestAMachinesPortsAreReached: whoever comes to a port is led to the machine; where nobody answers there, the connection ends.
func TestAMachinesPortsAreReached(t *testing.T) {
	m, _ := started(t, "rests")
	n := &local{ports: []int{22, 8080}, at: map[int]net.Listener{}}
	require.NoError(t, m.Plug(n))
	require.NoError(t, m.Plug(&local{ports: []int{8080}, at: map[int]net.Listener{}}), "a second network")
	assert.Len(t, m.forwards, 2, "each port is led there once")
	conn, err := net.DialTimeout("tcp", n.at[8080].Addr().String(), 10*time.Second)
	require.NoError(t, err)
	require.NoError(t, conn.(*net.TCPConn).CloseWrite())
	require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
	m.Close()
	_, err = io.ReadAll(conn)
	assert.NotErrorIs(t, err, os.ErrDeadlineExceeded, "it ended")
	_, err = net.DialTimeout("tcp", n.at[22].Addr().String(), 10*time.Second)
	require.Error(t, err, "nobody listens any more")
}

// TestAMachineThatCannotStartSaysWhy has the program refuse what it is told.
func TestAMachineThatCannotStartSaysWhy(t *testing.T) {
	if _, err := exec.LookPath(program); err != nil {
		t.Skipf("NO MACHINES: %v", err)
	}
	seed, err := nocloud.New("i-1", "gauge", "")
	require.NoError(t, err)
	_, err = New(t.Context(), Config{Name: "a,b=c", System: startable(t, "x"), Seed: seed})
	require.ErrorContains(t, err, "the machine does not start")
	t.Setenv("PATH", "")
	_, err = New(t.Context(), Config{Name: "gauge", System: startable(t, "x"), Seed: seed})
	require.ErrorContains(t, err, "a real system, and there is no "+program)
}
