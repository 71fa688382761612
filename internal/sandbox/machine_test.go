package sandbox

import (
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/core/kinds"
	"andamio/internal/sandbox/qemu/qemutest"
	"andamio/internal/site"
	"andamio/internal/site/occi"
)

// becomes waits until an instance is so.
func becomes(t *testing.T, d *occi.Driver, id string, want site.State) {
	t.Helper()
	require.Eventually(t, func() bool {
		got, err := d.Read(ctx, kinds.Instance, id)
		return err == nil && got.State == want
	}, 30*time.Second, 10*time.Millisecond, "it never is %s", want)
}

// TestAStandInRunsWhatIsReallyOnADisk has a disk come from elsewhere, as moves have them: what is on it starts, is reached by keys and under an account of
// its own, finds its volume, writes to its disk, comes back with the stand-in, and is off when it switches itself off.
func TestAStandInRunsWhatIsReallyOnADisk(t *testing.T) {
	if _, err := exec.LookPath("qemu-system-x86_64"); err != nil {
		t.Skipf("NO MACHINES: %v", err)
	}
	f := kept(t, false)
	d, signer := f.driver("vega"), key(t)
	network := built(t, d, site.Request{Kind: kinds.Network, Name: "lan", CIDR: "10.0.0.0/24"})
	vm := built(t, d, site.Request{Kind: kinds.Instance, Name: "gauge", Hostname: "gauge", Cores: 1, MemoryGiB: 0.125, Asleep: true,
		Image: image(t, d), PublicKey: string(ssh.MarshalAuthorizedKey(signer.PublicKey()))})
	volume := built(t, d, site.Request{Kind: kinds.Volume, Name: "data", DiskGiB: 1})
	link := built(t, d, site.Request{Kind: kinds.Attachment, Name: "a", Source: vm.ID, Target: volume.ID, Location: "/data"})
	assert.Empty(t, link.Attributes[site.AttrMount], "we reach inside, as far as is known")
	require.NoError(t, d.WriteDisk(ctx, vm.ID, 0, qemutest.Sector()))
	require.NoError(t, d.WriteDisk(ctx, vm.ID, qemutest.Second, []byte("level 1.40 m")))
	nic := built(t, d, site.Request{Kind: kinds.Interface, Name: "nic", Source: vm.ID, Target: network.ID, Ports: []int{8080}})
	assert.Equal(t, "operator", nic.Attributes[site.AttrSSHUser])

	on := func() site.Resource {
		_, err := d.Invoke(ctx, kinds.Instance, vm.ID, "start")
		require.NoError(t, err)
		becomes(t, d, vm.ID, site.Active)
		nic, err := d.Read(ctx, kinds.Interface, nic.ID)
		require.NoError(t, err)
		return nic
	}
	nic = on()
	assert.Equal(t, "root", nic.Attributes[site.AttrSSHUser])
	assert.True(t, strings.HasPrefix(nic.Attributes[site.AttrHostKey], "ssh-ed25519 "))
	link, err := d.Read(ctx, kinds.Attachment, link.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"/data", "/dev/disk/by-id/virtio-" + serial(volume.ID)}, []string{link.Attributes[site.AttrMount], link.Attributes[site.AttrDevice]})
	assert.LessOrEqual(t, len(serial(volume.ID)), 20, "a system sees no more of it")
	written := func() string {
		got, err := d.ReadDisk(ctx, vm.ID, site.Extent{Offset: qemutest.Seventeenth, Length: 12})
		require.NoError(t, err)
		return string(got)
	}
	require.Eventually(t, func() bool { return written() == "level 1.40 m" }, 30*time.Second, 20*time.Millisecond)
	_, err = d.Invoke(ctx, kinds.Instance, vm.ID, "suspend")
	require.ErrorContains(t, err, "move it warm")
	assert.Equal(t, site.Conflict, site.ClassOf(err))
	more := built(t, d, site.Request{Kind: kinds.Volume, Name: "more", DiskGiB: 1})
	plugged := built(t, d, site.Request{Kind: kinds.Attachment, Name: "b", Source: vm.ID, Target: more.ID, Location: "/more"})
	assert.Equal(t, "/more", plugged.Attributes[site.AttrMount], "one that is put into it while it is on")

	f.fall()
	d = f.driver("vega")
	becomes(t, d, vm.ID, site.Active)
	again, err := d.Read(ctx, kinds.Interface, nic.ID)
	require.NoError(t, err)
	assert.Equal(t, nic.Attributes, again.Attributes, "the same address, ports and keys")

	_, err = d.Invoke(ctx, kinds.Instance, vm.ID, "stop")
	require.NoError(t, err)
	_, err = d.Invoke(ctx, kinds.Instance, vm.ID, "stop")
	assert.Equal(t, site.Conflict, site.ClassOf(err), "it is on its way")
	becomes(t, d, vm.ID, site.Stopped)
	require.NoError(t, d.WriteDisk(ctx, vm.ID, qemutest.Second, []byte("! that is all")))
	_, err = d.Invoke(ctx, kinds.Instance, vm.ID, "start")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return strings.HasPrefix(written(), "! that is") }, 30*time.Second, 20*time.Millisecond)
	becomes(t, d, vm.ID, site.Stopped) // by itself
	require.NoError(t, d.Delete(ctx, kinds.Instance, vm.ID))
}
