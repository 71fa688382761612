package libvirt_test

import (
	"context"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/laboratory"
	"andamio/internal/site"
)

// beside is a second host, with networks of its own.
func beside(t *testing.T) *laboratory.Host {
	t.Helper()
	dir, err := os.MkdirTemp("", "lab-")
	require.NoError(t, err)
	h, err := laboratory.StartApart(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, h.Stop())
		assert.NoError(t, os.RemoveAll(dir))
	})
	return h
}

// virsh asks a host from outside, with a program that is not ours.
func virsh(t *testing.T, h *laboratory.Host, args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "virsh", append([]string{"-q", "-c", "qemu+unix:///system?socket=" + h.Socket()}, args...)...).CombinedOutput()
	require.NoError(t, err, "virsh %s: %s", strings.Join(args, " "), out)
	return strings.TrimSpace(string(out))
}

// TestSeveralHostsAreOneSite has two real daemons be one site: each is a zone with what it has, networks are at both under one id, machines and disks are where they were asked for, and nothing of one is there for the other. While
// one does not answer what it has is unknown, not gone, and the other goes on; in the end nothing is left at either.
func TestSeveralHostsAreOneSite(t *testing.T) {
	t.Parallel() // beside others that have hosts of their own
	one, two := host(t), beside(t)
	const patience = 5 * time.Second
	d := opened(t, "dam=unix:"+one.Socket()+",weir=unix:"+two.Socket(), patience)
	s, err := d.Describe(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2 hosts with libvirt", s.Title)
	require.Len(t, s.Zones, 2)
	for i, name := range []string{"dam", "weir"} {
		assert.Equal(t, name, s.Zones[i].Name)
		assert.Positive(t, s.Zones[i].Free.Cores)
		assert.Positive(t, s.Zones[i].Free.MemoryGiB)
	}
	require.Len(t, s.Images, 1)
	assert.Equal(t, laboratory.Image, s.Images[0].Name)

	made := func(r site.Request) site.Resource {
		t.Helper()
		r.Mark, r.Key = "andamio d1 "+r.Name+" #r1", "k-"+r.Name
		got, err := d.Create(t.Context(), r)
		require.NoError(t, err, r.Name)
		require.Eventually(t, func() bool {
			got, err = d.Read(t.Context(), got.Kind, got.ID)
			return err == nil && (got.State == site.Active || got.State == site.Stopped)
		}, 30*time.Second, 50*time.Millisecond, r.Name)
		return got
	}
	lan := made(site.Request{Kind: kinds.Network, Name: "lan", CIDR: "10.213.9.0/24"})
	for _, h := range []*laboratory.Host{one, two} {
		assert.Contains(t, virsh(t, h, "net-dumpxml", lan.ID), "10.213.9.1", "it is at both")
	}
	machine := func(name, zone string) site.Resource {
		return made(site.Request{Kind: kinds.Instance, Name: name, Hostname: name, Zone: zone, Cores: 1, MemoryGiB: 0.1875, Image: laboratory.Image, Asleep: true})
	}
	upper, lower := machine("upper", "dam"), machine("lower", "weir")
	assert.Equal(t, "dam", upper.Details.Region)
	assert.Equal(t, "weir", lower.Details.Region)
	assert.Contains(t, virsh(t, one, "list", "--all", "--name"), "upper-")
	assert.NotContains(t, virsh(t, one, "list", "--all", "--name"), "lower-")
	assert.Contains(t, virsh(t, two, "list", "--all", "--name"), "lower-")
	disk := made(site.Request{Kind: kinds.Volume, Name: "spool", Zone: "weir", DiskGiB: 0.03125})
	addresses := map[string]bool{}
	for _, m := range []site.Resource{upper, lower} {
		at := made(site.Request{Kind: kinds.Interface, Name: m.Name + ".if", Source: m.ID, Target: lan.ID})
		addresses[at.Attributes[site.AttrAddress]] = true
	}
	assert.Len(t, addresses, 2, "no two have one address, whichever hosts they are at: %v", addresses)
	_, err = d.Create(t.Context(), site.Request{Kind: kinds.Attachment, Name: "no", Key: "no", Source: upper.ID, Target: disk.ID})
	require.Error(t, err, "a disk at one host is none for a machine at the other")
	assert.Equal(t, site.Refused, site.ClassOf(err), "%v", err)
	link := made(site.Request{Kind: kinds.Attachment, Name: "yes", Source: lower.ID, Target: disk.ID})

	count := func(kind kinds.Kind) (int, error) {
		all, err := d.List(t.Context(), kind)
		return len(all), err
	}
	for kind, n := range map[kinds.Kind]int{kinds.Network: 1, kinds.Instance: 2, kinds.Volume: 1, kinds.Interface: 2, kinds.Attachment: 1} {
		got, err := count(kind)
		require.NoError(t, err)
		assert.Equal(t, n, got, kind)
	}

	require.NoError(t, two.Kill())
	for _, x := range []site.Resource{lower, disk, link} {
		_, err := d.Read(t.Context(), x.Kind, x.ID)
		require.Error(t, err)
		assert.NotEqual(t, site.NotFound, site.ClassOf(err), "what a silent host has is unknown, not gone: %v", err)
		assert.Error(t, d.Delete(t.Context(), x.Kind, x.ID))
	}
	_, err = count(kinds.Instance)
	require.Error(t, err, "a list without it would say that all it has is gone")
	got, err := d.Read(t.Context(), kinds.Instance, upper.ID)
	require.NoError(t, err, "the other goes on")
	assert.Equal(t, site.Stopped, got.State)
	got, err = d.Invoke(t.Context(), kinds.Instance, upper.ID, "start")
	require.NoError(t, err)
	assert.NotEqual(t, site.Failed, got.State)
	require.NoError(t, two.Run(t.Context()))
	require.Eventually(t, func() bool {
		_, err := d.Read(t.Context(), kinds.Instance, lower.ID)
		return err == nil
	}, 30*time.Second, 100*time.Millisecond, "it is there again")

	for _, x := range []site.Resource{link, disk, upper, lower, lan} {
		if x.Kind == kinds.Network {
			for _, h := range []*laboratory.Host{one, two} {
				assert.NotContains(t, virsh(t, h, "net-dumpxml", lan.ID), "<host ", "no address is kept any more by %v", h == one)
			}
		}
		require.Eventually(t, func() bool {
			err := d.Delete(t.Context(), x.Kind, x.ID)
			if err != nil {
				t.Logf("%s: %v", x.Name, err)
			}
			return err == nil || site.ClassOf(err) == site.NotFound
		}, 40*time.Second, 200*time.Millisecond, x.Name)
	}
	for _, h := range []*laboratory.Host{one, two} {
		assert.Empty(t, virsh(t, h, "list", "--all", "--name"))
		assert.Empty(t, virsh(t, h, "net-list", "--all", "--name"))
		left := strings.Fields(virsh(t, h, "vol-list", laboratory.Pool))
		assert.Empty(t, slices.DeleteFunc(left, func(f string) bool { return !strings.HasPrefix(f, "andamio-") }))
	}
}
