package sitetest

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// balancers holds that a site which runs load balancers itself builds one, has it do what it is told, and hand out to those that it is told of: each said once or twice, and no more once that is taken back.
func (u *suite) balancers(t *testing.T) {
	ctx := u.ctx(t)
	b, can := site.Can[site.Balancer](ctx, u.d)
	about, err := u.d.Describe(ctx)
	require.NoError(t, err)
	if _, offers := about.Appliances[site.LoadBalancer]; !can || !offers {
		u.without("it runs no load balancers")
		return
	}
	door := u.made(t, u.named(site.Request{Appliance: site.LoadBalancer}, kinds.Instance))
	u.becomes(t, door.ID, site.Active)
	now, members, err := b.Balances(ctx, door.ID)
	require.NoError(t, err)
	assert.Zero(t, now)
	assert.Empty(t, members)

	want := site.Balancing{Port: u.Port, Protocol: "http", Algorithm: "roundrobin", Look: "/well"}
	for range 2 {
		require.NoError(t, b.Balance(ctx, door.ID, want))
	}
	net := u.made(t, u.named(u.Network, kinds.Network))
	link := u.made(t, u.named(site.Request{Source: door.ID, Target: net.ID, Ports: []int{u.Port}}, kinds.Interface))
	at := "http://" + reached(link, u.Port) + "/"
	one, two := answering(t, "one"), answering(t, "two")
	require.NoError(t, b.Enroll(ctx, door.ID, one))
	require.NoError(t, b.Enroll(ctx, door.ID, one))
	elsewhere := two
	elsewhere.Port = 1
	require.NoError(t, b.Enroll(ctx, door.ID, elsewhere))
	require.NoError(t, b.Enroll(ctx, door.ID, two), "one of a name is elsewhere from now on")
	now, members, err = b.Balances(ctx, door.ID)
	require.NoError(t, err)
	assert.Equal(t, want, now)
	assert.Equal(t, map[string]string{"one": fmt.Sprintf("%s:%d", one.Address, one.Port), "two": fmt.Sprintf("%s:%d", two.Address, two.Port)}, members)
	u.answer(t, at, "one", "two")
	require.NoError(t, b.Dismiss(ctx, door.ID, "one"))
	require.NoError(t, b.Dismiss(ctx, door.ID, "one"), "nothing is to be done")
	u.answer(t, at, "two")
	u.switched(t, door.ID, "stop", site.Stopped)
	u.switched(t, door.ID, "start", site.Active)
	u.answer(t, at, "two")

	assert.Equal(t, site.NotFound, classOf(b.Balance(ctx, "no-such-instance", want)))
	assert.Equal(t, site.NotFound, classOf(b.Enroll(ctx, "no-such-instance", one)))
	bad := want
	bad.Port = 70000
	assert.Equal(t, site.Refused, classOf(b.Balance(ctx, door.ID, bad)))
	machine := u.made(t, u.named(u.Instance, kinds.Instance))
	u.becomes(t, machine.ID, site.Active)
	assert.Equal(t, site.Refused, classOf(b.Enroll(ctx, machine.ID, one)), "it is no load balancer")
	_, err = u.d.Create(ctx, u.named(site.Request{Appliance: "oracle"}, kinds.Instance))
	assert.Equal(t, site.Refused, classOf(err), "it runs nothing of that name")
}

// reached is where a port of an interface is reached.
func reached(link site.Resource, port int) string {
	mapped := strconv.Itoa(port)
	if to := link.Attributes[site.AttrPort+mapped]; to != "" {
		mapped = to
	}
	return net.JoinHostPort(link.Attributes[site.AttrAddress], mapped)
}

// answering is a member that says its name.
func answering(t *testing.T, name string) site.Member {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, name) }))
	t.Cleanup(server.Close)
	host, text, err := net.SplitHostPort(server.Listener.Addr().String())
	require.NoError(t, err)
	port, err := strconv.Atoi(text)
	require.NoError(t, err)
	return site.Member{Name: name, Address: host, Port: port}
}

// answer waits until those who answer at a place are as wanted.
func (u *suite) answer(t *testing.T, at string, want ...string) {
	web := &http.Client{Timeout: 3 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	who := func() map[string]bool {
		out := map[string]bool{}
		for range 8 {
			resp, err := web.Get(at)
			if err != nil {
				out["nobody"] = true
				continue
			}
			body, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			out[string(body)] = true
		}
		return out
	}
	wanted := map[string]bool{}
	for _, w := range want {
		wanted[w] = true
	}
	require.Eventually(t, func() bool { return assert.ObjectsAreEqual(wanted, who()) }, u.Building, 50*time.Millisecond, "%v answer, and not %v", who(), want)
}
