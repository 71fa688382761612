package libvirt

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/laboratory"
	"andamio/internal/site"
	"andamio/internal/site/driver"
)

// TestAFirmwareThatStopsOnTheWayIsNotThrough tells one that came to its end from one that stopped in the middle, said nothing, or never ends to speak.
func TestAFirmwareThatStopsOnTheWayIsNotThrough(t *testing.T) {
	t.Parallel()
	begins := "\x1b[?7lSeaBIOS (version 1.16.2)\nMachine UUID 0\n"
	for said, want := range map[string]bool{"": false, begins: false, begins + "Booting from Hard Disk...\n": true, begins + "Boot failed: could not read": true,
		begins + "No bootable device.\n": true, strings.Repeat("river ", 20_000) + "Booting from": false} {
		assert.Equal(t, want, firmwareEnds(strings.NewReader(said)), "%.60q", said)
		assert.Equal(t, want, firmwareEnds(iotest.OneByteReader(strings.NewReader(said))), "%.60q", said)
	}
	assert.False(t, firmwareEnds(io.MultiReader(strings.NewReader(begins), iotest.ErrReader(errors.New("cut off")))))
	assert.True(t, onTrial(trialMachine("kvm").Name))
	assert.False(t, onTrial("contacts-host-1-0123"))
}

// triedAt is a host of the laboratory's, and a site of it that runs machines with KVM where it can.
func triedAt(t *testing.T) (*laboratory.Host, *Driver) {
	t.Helper()
	if err := laboratory.Missing(); err != nil {
		t.Skipf("NO LABORATORY: %v", err)
	}
	dir, err := os.MkdirTemp("", "lab-")
	require.NoError(t, err)
	lab, err := laboratory.Start(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, lab.Stop())
		assert.NoError(t, os.RemoveAll(dir))
	})
	v, err := Kit().Normal(driver.Values{"hosts": "unix:" + lab.Socket(), "pool": laboratory.Pool, "images": laboratory.Images})
	require.NoError(t, err)
	d, err := Kit().Open(driver.Terms{Site: "forja", Values: v, Patience: 10 * time.Second})
	require.NoError(t, err)
	return lab, d.(*Driver)
}

// TestMachinesRunWithWhatTheyReallyRunWith tries whether machines run in plain emulation and with KVM, which nobody sees and of which nothing is left, and has one be made that comes up, whatever KVM is worth here.
func TestMachinesRunWithWhatTheyReallyRunWith(t *testing.T) {
	t.Parallel() // beside others that have hosts of their own
	_, d := triedAt(t)
	h := d.hosts[0]
	assert.True(t, h.runs(t.Context(), "qemu", 3*tried), "in plain emulation they do")
	assert.False(t, h.runs(t.Context(), "xen", tried), "what the host does not have they do not run with")
	began := time.Now()
	good, err := d.accelerated(t.Context(), h)
	require.NoError(t, err)
	took := time.Since(began)
	t.Logf("with KVM: %v, found out in %s", good, took)
	assert.Less(t, took, tried+3*h.patience)
	for range 3 {
		again, err := d.accelerated(t.Context(), h)
		require.NoError(t, err)
		assert.Equal(t, good, again)
	}
	all, err := told(t.Context(), h, "list", func(_ context.Context, l *libvirt.Libvirt) ([]libvirt.Domain, error) {
		out, _, err := l.ConnectListAllDomains(1, 0)
		return out, err
	})
	require.NoError(t, err)
	assert.Empty(t, all, "nothing is left of a trial")

	r := site.Request{Kind: kinds.Instance, Name: "weir", Hostname: "weir", Cores: 1, MemoryGiB: 0.1875, Image: laboratory.Image, Key: "k1"}
	m, err := d.Create(t.Context(), r)
	require.NoError(t, err)
	defer func() { assert.NoError(t, d.Delete(t.Context(), kinds.Instance, m.ID)) }()
	dom, err := told(t.Context(), h, "read", func(_ context.Context, l *libvirt.Libvirt) (*domain, error) { return domainOf(l, m.ID) })
	require.NoError(t, err)
	assert.Equal(t, map[bool]string{true: "kvm", false: "qemu"}[good], dom.def.Type)
	c, err := d.Console(t.Context(), m.ID)
	require.NoError(t, err)
	over := time.AfterFunc(90*time.Second, func() { c.Close() })
	defer over.Stop()
	said, part := "", make([]byte, 4096)
	for !strings.Contains(said, "Server listening on") {
		n, err := c.Read(part)
		require.NoError(t, err, "it comes up: %s", said)
		said += string(part[:n])
	}
	require.NoError(t, c.Close())
}
