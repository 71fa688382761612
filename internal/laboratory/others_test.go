package laboratory_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const handNetwork = `<network><name>hand</name><bridge name='byhand0'/><forward mode='nat'/><ip address='10.77.0.1' netmask='255.255.255.0'><dhcp><range start='10.77.0.10' end='10.77.0.90'/></dhcp></ip></network>`

const handMachine = `<domain type='qemu'><name>well</name><memory unit='MiB'>192</memory><vcpu>1</vcpu><os><type arch='x86_64'>hvm</type></os><features><acpi/></features>
<devices><disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='DISK'/><target dev='vda' bus='virtio'/></disk>
<interface type='network'><source network='hand'/><model type='virtio'/></interface><serial type='pty'/><console type='pty'/></devices></domain>`

// byHand has somebody make a machine with virsh, on a disk of QEMU's own format, in a network of their own.
func (b *bench) byHand(dir string) {
	b.Helper()
	disk := filepath.Join(dir, "pool", "well.qcow2")
	image, err := os.ReadFile(filepath.Join(dir, "images", "levee.qcow2"))
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(disk, image, 0o600))
	define := func(verb, text string) {
		file := filepath.Join(b.TempDir(), "xml")
		require.NoError(b, os.WriteFile(file, []byte(text), 0o600))
		b.virsh(verb, file)
	}
	define("net-define", handNetwork)
	b.virsh("net-start", "hand")
	define("define", strings.ReplaceAll(handMachine, "DISK", disk))
	b.virsh("start", "well")
}

// TestAMachineMadeByHandIsOperatedAndMoved: a machine that somebody made with virsh is found and moved to a stand-in cloud, where it runs and serves; it
// comes back with what was written there, is switched off and on as what was deployed, and is let go, running.
func TestAMachineMadeByHandIsOperatedAndMoved(t *testing.T) {
	t.Parallel()
	b := newBench(t, withClouds)
	b.byHand(b.dir)
	b.do("pair", "forja", "alisio-norte")
	b.do("survey")
	assert.Contains(t, b.do("move", "plan", "--record", "well", "--port", "8080", "--to", "alisio-norte"), "nothing changes at the site")
	b.do("move", "start", "--record", "well", "--port", "8080", "--to", "alisio-norte", "--at-once")
	require.Eventually(t, func() bool { return b.tries("shell", "well", "--", "true") }, waiting, second, "its system starts, and lets us in")
	b.do("shell", "well", "--", "mkdir -p /srv/www; echo level 1.10 m at the well >/srv/www/index.html; httpd -p 8080 -h /srv/www; sync")
	at := addressed.FindString(b.do("find", "well", "--json"))
	assert.Equal(t, []string{"level 1.10 m at the well"}, b.pages("http://"+at+":8080/"), "it serves there")
	b.do("move", "back", "1", "--confirm", "well")
	assert.Contains(t, b.virsh("dumpxml", "well"), "type='raw'", "it goes on with plain bytes, and the disk that it had stays as it was")
	assert.Contains(t, b.typed("well", "cat /srv/www/index.html", "level 1.10 m at the well"), "at the well", "what was written there came along")
	b.do("stop", "well", "--confirm", "well")
	assert.Contains(t, b.virsh("domstate", "well"), "shut off")
	b.do("start", "well", "--confirm", "well")
	b.do("unmanage", "well", "--confirm", "well")
	assert.Contains(t, b.virsh("domstate", "well"), "running")
	b.do("survey", "forja")
	assert.Contains(t, b.findings(), "unmanaged  well ", "it is nobody's again")
}
