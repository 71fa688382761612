package responder

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/front"
)

// place is a place at which something is served: a real server that can be taken away and brought back.
type place struct {
	t       *testing.T
	address string
	server  *httptest.Server
}

func (p *place) up() {
	l, err := net.Listen("tcp", p.address)
	require.NoError(p.t, err)
	p.server = &httptest.Server{Listener: l, Config: &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, p.address) })}}
	p.server.Start()
}

func (p *place) down() { p.server.Close() }

// connects asks by a connection.
func connects(ctx context.Context, m front.Member) (string, bool) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", netip.AddrPortFrom(m.Address, m.Port).String())
	if err != nil {
		return err.Error(), false
	}
	return "open", conn.Close() == nil
}

// region is a client that looks a name up through a resolver that keeps answers for as long as they say, for its own network.
type region struct {
	network string
	server  string
	kept    string
	until   time.Time
}

func (r *region) lookUp() (string, error) {
	if time.Now().Before(r.until) {
		return r.kept, nil
	}
	c := &dns.Client{Timeout: time.Second}
	got, _, err := c.Exchange(ask("map.near.ribera.test.", dns.TypeA, from(r.network, 24)), r.server)
	if err != nil {
		return "", err
	}
	for _, rr := range got.Answer {
		if a, is := rr.(*dns.A); is {
			r.kept, r.until = a.A.String(), time.Now().Add(time.Duration(a.Hdr.Ttl)*time.Second)
			return r.kept, nil
		}
	}
	return "", fmt.Errorf("no answer: %s", rows(got.Ns))
}

// TestRequestsGoOnWhenASiteIsLost has three regions ask for a service at three sites again and again through resolvers that keep answers, takes a site away and brings it back, and looks who was served by whom:
// no request fails later than two seconds after the answer ended that may be kept, and each region is served by the nearest again once that is back.
func TestRequestsGoOnWhenASiteIsLost(t *testing.T) {
	port := freePort(t)
	places := map[string]*place{}
	own := &front.Table{Members: map[string][]front.Member{}, Between: map[string]map[string]float64{"s1": {"s2": 5, "s3": 9}, "s2": {"s3": 5}}}
	var err error
	own.File, err = front.Read([]byte(`version: andamio.fronts/1
zone: near.ribera.test
servers: [ns1.ribera.test]
ttl: 1s
regions:
- { name: one, networks: [10.1.0.0/16], near: s1 }
- { name: two, networks: [10.2.0.0/16], near: s2 }
- { name: three, networks: [10.3.0.0/16], near: s3 }
fronts:
- { name: map, endpoint: river-map, answers: 1, slow_start: 0s }
`))
	require.NoError(t, err)
	for i := 1; i <= 3; i++ {
		at := fmt.Sprintf("127.70.%d.1", i)
		p := &place{t: t, address: net.JoinHostPort(at, port)}
		p.up()
		places[at] = p
		var number uint16
		_, err := fmt.Sscan(port, &number)
		require.NoError(t, err)
		own.Members["map"] = append(own.Members["map"], front.Member{Name: fmt.Sprint("map-", i), Site: fmt.Sprint("s", i), Address: netip.MustParseAddr(at), Port: number})
	}
	r := &Responder{}
	k := &Keeper{Responder: r, Ask: connects}
	ctx, cancel := context.WithCancel(t.Context())
	k.Want(ctx, own)
	t.Cleanup(func() { cancel(); k.Wait() })
	server := listening(t, r)
	allUp := func() bool {
		for _, m := range r.Table().Members["map"] {
			if !m.Up {
				return false
			}
		}
		return true
	}
	require.Eventually(t, allUp, 5*time.Second, 10*time.Millisecond)

	var mu sync.Mutex
	servedBy := map[int]string{}
	var lastWrong time.Time
	var asked atomic.Int64
	var loops sync.WaitGroup
	for i := 1; i <= 3; i++ {
		x := &region{network: fmt.Sprintf("10.%d.1.0", i), server: server}
		loops.Go(func() {
			client := &http.Client{Timeout: 500 * time.Millisecond, Transport: &http.Transport{DisableKeepAlives: true}}
			for ctx.Err() == nil {
				address, err := x.lookUp()
				if err == nil {
					var resp *http.Response
					if resp, err = client.Get("http://" + net.JoinHostPort(address, port)); err == nil {
						_ = resp.Body.Close()
					}
				}
				asked.Add(1)
				mu.Lock()
				if err != nil {
					lastWrong = time.Now()
				} else {
					servedBy[i] = address
				}
				mu.Unlock()
				select {
				case <-ctx.Done():
				case <-time.After(5 * time.Millisecond):
				}
			}
		})
	}
	served := func(by ...string) func() bool {
		return func() bool {
			mu.Lock()
			defer mu.Unlock()
			for i, want := range by {
				if servedBy[i+1] != want {
					return false
				}
			}
			return true
		}
	}
	require.Eventually(t, served("127.70.1.1", "127.70.2.1", "127.70.3.1"), 5*time.Second, 10*time.Millisecond, "each by the nearest")
	mu.Lock()
	assert.True(t, lastWrong.IsZero(), "nothing fails while all is well")
	mu.Unlock()

	places["127.70.1.1"].down()
	lost := time.Now()
	require.Eventually(t, served("127.70.2.1", "127.70.2.1", "127.70.3.1"), 10*time.Second, 10*time.Millisecond, "by the next nearest")
	more := asked.Load() + 300
	require.Eventually(t, func() bool { return asked.Load() > more }, 20*time.Second, 10*time.Millisecond)
	mu.Lock()
	assert.Less(t, lastWrong.Sub(lost), own.File.Keeps()+2*time.Second, "errors end within the time for which an answer may be kept and two seconds")
	mu.Unlock()

	places["127.70.1.1"].up()
	require.Eventually(t, served("127.70.1.1", "127.70.2.1", "127.70.3.1"), 10*time.Second, 10*time.Millisecond, "by the nearest again")
	cancel()
	loops.Wait()
	t.Logf("%d requests, errors ended %s after the loss", asked.Load(), lastWrong.Sub(lost))
}

// TestWhatIsNotWantedIsNotAsked holds that members come and go with the tables, and that what is known of one that stays is kept.
func TestWhatIsNotWantedIsNotAsked(t *testing.T) {
	var mu sync.Mutex
	count := map[string]int{}
	r := &Responder{}
	var told atomic.Int64
	k := &Keeper{Responder: r, Changed: func(*front.Table) { told.Add(1) }, Ask: func(_ context.Context, m front.Member) (string, bool) {
		mu.Lock()
		defer mu.Unlock()
		count[m.Name]++
		return "said " + m.Name, !strings.Contains(m.Name, "3")
	}}
	ctx, cancel := context.WithCancel(t.Context())
	own := table(t)
	for i := range own.Members["map"] {
		own.Members["map"][i].Up = i == 2
	}
	k.Want(ctx, own)
	state := func() string {
		var out []string
		for _, m := range r.Table().Members["map"] {
			out = append(out, fmt.Sprintf("%s %t %s", m.Name, m.Up, m.Says))
		}
		return strings.Join(out, ", ")
	}
	assert.Contains(t, state(), "river-map-3.http true", "as it was known to be")
	require.Eventually(t, func() bool {
		return state() == "river-map-1.http true said river-map-1.http, river-map-2.http true said river-map-2.http, river-map-3.http false said river-map-3.http"
	}, 5*time.Second, 10*time.Millisecond)
	assert.Positive(t, told.Load())
	next := table(t)
	next.Members["map"] = next.Members["map"][:1]
	next.Members["map"][0].Up = false
	k.Want(ctx, next)
	assert.Equal(t, "river-map-1.http true said river-map-1.http", state(), "what is known of it is kept")
	mu.Lock()
	before := count["river-map-1.http"]
	mu.Unlock()
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return count["river-map-1.http"] > before+2 }, 5*time.Second, 10*time.Millisecond)
	mu.Lock()
	gone := count["river-map-2.http"]
	mu.Unlock()
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return count["river-map-1.http"] > before+4 }, 5*time.Second, 10*time.Millisecond)
	mu.Lock()
	assert.LessOrEqual(t, count["river-map-2.http"], gone+1)
	mu.Unlock()
	cancel()
	k.Wait()
}
