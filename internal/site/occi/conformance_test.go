package occi_test

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/sandbox"
	"andamio/internal/site"
	"andamio/internal/site/occi"
	"andamio/internal/site/sitetest"
)

// patience is for how long the driver waits for one answer here.
const patience = 300 * time.Millisecond

// TestTheDriverConforms runs the suite that every driver passes against a stand-in, in each sort of network that sites have, and one that keeps no snapshots of its own.
func TestTheDriverConforms(t *testing.T) {
	bare := hall(estate.Address)
	bare.Features = append(bare.Features, sandbox.FeatureNoSnapshots)
	for name, s := range map[string]*estate.Site{"ports": hall(estate.Ports), "address": hall(estate.Address), "no snapshots": bare} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			box, err := sandbox.Start(sandbox.Config{Estate: &estate.Estate{Currency: "cr", Sites: []*estate.Site{s}}, Pace: 0.002, Seed: 1})
			require.NoError(t, err)
			t.Cleanup(func() { box.Close() })
			at := box.Endpoints[0]
			u, err := url.Parse(at.URL)
			require.NoError(t, err)
			open := func(address, token string) site.Site {
				d := occi.New(at.Site, "http://"+address, token)
				d.Patience(patience)
				return d
			}
			left := sitetest.Run(t, sitetest.Subject{
				Address: u.Host, Patience: patience, Building: 20 * time.Second, Port: 8080, Notices: sandbox.FeatureNotices, Mapping: occi.Kit().Mapping,
				Open:     func(_ *testing.T, address string) site.Site { return open(address, at.Token) },
				Denied:   func(*testing.T) site.Site { return open(u.Host, "nobody's") },
				Instance: site.Request{Cores: 1, MemoryGiB: 1, Image: "plain"},
				Bigger:   site.Request{Cores: 2, MemoryGiB: 2},
				Network:  site.Request{CIDR: "10.1.0.0/24"},
				Volume:   site.Request{DiskGiB: 2},
			})
			assert.Equal(t, []string{"it keeps no memory"}, left, "it can do everything else")
		})
	}
}

// hall is a site with room for what the suite asks for.
func hall(sort estate.NetworkKind) *estate.Site {
	room := estate.Capacity{Cores: 8, MemoryGiB: 16, DiskGiB: 80}
	return &estate.Site{Name: "hall", Kind: estate.Private, Network: sort, Pace: 1, FreeForm: true, Features: []string{sandbox.FeatureNotices}, Images: []estate.Image{{Name: "plain", OS: "linux"}}, Appliances: map[string]float64{site.LoadBalancer: 0.02},
		Zones: []estate.Zone{{Name: "a", Free: room, Total: room}}}
}
