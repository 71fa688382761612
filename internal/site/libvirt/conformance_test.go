package libvirt_test

import (
	"io"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/laboratory"
	"andamio/internal/site"
	"andamio/internal/site/driver"
	"andamio/internal/site/libvirt"
	"andamio/internal/site/sitetest"
)

// host is a daemon of the laboratory's, or the reason why there is none here.
func host(t *testing.T) *laboratory.Host {
	t.Helper()
	if err := laboratory.Missing(); err != nil {
		t.Skipf("NO LABORATORY: %v", err)
	}
	dir, err := os.MkdirTemp("", "lab-")
	require.NoError(t, err)
	h, err := laboratory.Start(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, h.Stop())
		assert.NoError(t, os.RemoveAll(dir))
	})
	return h
}

// opened is a site of one host, spoken to at an address.
func opened(t *testing.T, hosts string, patience time.Duration) site.Site {
	t.Helper()
	kit := libvirt.Kit()
	v, err := kit.Normal(driver.Values{"hosts": hosts, "pool": laboratory.Pool, "images": laboratory.Images, "emulated": driver.On})
	require.NoError(t, err)
	d, err := kit.Open(driver.Terms{Site: "forja", Values: v, Patience: patience})
	require.NoError(t, err)
	return d
}

// forwarded leads from a port of this machine to a socket, so that what fails in between can be put there.
func forwarded(t *testing.T, socket string) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				to, err := net.DialTimeout("unix", socket, 5*time.Second)
				if err != nil {
					return
				}
				defer to.Close()
				go func() { _, _ = io.Copy(to, c); to.Close() }()
				_, _ = io.Copy(c, to)
			}()
		}
	}()
	return l.Addr().String()
}

// TestTheDriverConforms runs the suite that every driver passes against a real daemon, whose machines boot a real kernel.
func TestTheDriverConforms(t *testing.T) {
	h := host(t)
	const patience = 3 * time.Second
	small := site.Request{Cores: 1, MemoryGiB: 0.1875, Image: laboratory.Image}
	left := sitetest.Run(t, sitetest.Subject{
		Address: forwarded(t, h.Socket()), Patience: patience, Building: 40 * time.Second, Port: 8080, Mapping: libvirt.Kit().Mapping,
		Open:     func(t *testing.T, address string) site.Site { return opened(t, "tcp://"+address, patience) },
		Instance: small, Bigger: site.Request{Cores: 2, MemoryGiB: 0.25},
		Network: site.Request{CIDR: "10.213.7.0/24"}, Volume: site.Request{DiskGiB: 0.03125},
	})
	assert.Equal(t, []string{"it sends no notices", "it runs no load balancers"}, left)
}
