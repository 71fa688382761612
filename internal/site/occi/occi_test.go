package occi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi/wire"
)

var ctx = context.Background()

// serve answers every request with a status and body, and keeps the last request. It has no query interface.
func serve(t *testing.T, status int, body string, header ...string) (*Driver, func() (*http.Request, string)) {
	t.Helper()
	var last *http.Request
	var sent string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		if slices.Contains(queryPaths, r.URL.Path) {
			http.NotFound(w, r)
			return
		}
		last, sent = r, string(data)
		for i := 0; i+1 < len(header); i += 2 {
			w.Header().Set(header[i], header[i+1])
		}
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}))
	t.Cleanup(server.Close)
	return New("vega", server.URL+"/", "sesame"), func() (*http.Request, string) { return last, sent }
}

func TestRequestsSpeakTheStandard(t *testing.T) {
	for name, c := range map[string]struct {
		req  site.Request
		path string
		want string
	}{
		"network": {site.Request{Kind: kinds.Network, Name: "app-lan", CIDR: "10.0.0.0/24", VLAN: "220", Mark: "m"}, "/network/",
			`{"kind":"http://schemas.ogf.org/occi/infrastructure#network","mixins":["https://schemas.andamio.example/occi/mark#mark","http://schemas.ogf.org/occi/infrastructure/network#ipnetwork"],
			"attributes":{"andamio.mark.text":"m","occi.network.label":"app-lan","occi.network.address":"10.0.0.0/24","occi.network.vlan":220},"title":"app-lan"}`},
		"volume": {site.Request{Kind: kinds.Volume, Name: "v", DiskGiB: 20, Zone: "a"}, "/storage/",
			`{"kind":"http://schemas.ogf.org/occi/infrastructure#storage","attributes":{"occi.storage.size":20,"andamio.placed.zone":"a"},"title":"v"}`},
		"instance of a size": {site.Request{Kind: kinds.Instance, Name: "i", Hostname: "i", Size: "c2", Image: "debian", DiskGiB: 8, PublicKey: "ssh-ed25519 AAAA"}, "/compute/",
			`{"kind":"http://schemas.ogf.org/occi/infrastructure#compute","mixins":["https://schemas.andamio.example/occi/images#debian","https://schemas.andamio.example/occi/estate#placed",
			"https://schemas.andamio.example/occi/sizes#c2","http://schemas.ogf.org/occi/infrastructure/credentials#ssh_key"],
			"attributes":{"occi.compute.hostname":"i","andamio.placed.disk":8,"occi.credentials.ssh.publickey":"ssh-ed25519 AAAA"},"title":"i"}`},
		"instance of a free form": {site.Request{Kind: kinds.Instance, Cores: 3, MemoryGiB: 5, Image: "debian"}, "/compute/",
			`{"kind":"http://schemas.ogf.org/occi/infrastructure#compute","mixins":["https://schemas.andamio.example/occi/images#debian","https://schemas.andamio.example/occi/estate#placed"],
			"attributes":{"occi.compute.cores":3,"occi.compute.memory":5,"andamio.placed.disk":0}}`},
		"interface": {site.Request{Kind: kinds.Interface, Source: "c1", Target: "n1", Ports: []int{22, 80}}, "/networkinterface/",
			`{"kind":"http://schemas.ogf.org/occi/infrastructure#networkinterface","mixins":["http://schemas.ogf.org/occi/infrastructure/networkinterface#ipnetworkinterface","https://schemas.andamio.example/occi/network#reach"],
			"attributes":{"andamio.reach.ports":"22,80"},"source":{"location":"/compute/c1","kind":"http://schemas.ogf.org/occi/infrastructure#compute"},
			"target":{"location":"/network/n1","kind":"http://schemas.ogf.org/occi/infrastructure#network"}}`},
		"attachment": {site.Request{Kind: kinds.Attachment, Source: "c1", Target: "s1", Location: "/srv"}, "/storagelink/",
			`{"kind":"http://schemas.ogf.org/occi/infrastructure#storagelink","attributes":{"occi.storagelink.mountpoint":"/srv"},
			"source":{"location":"/compute/c1","kind":"http://schemas.ogf.org/occi/infrastructure#compute"},"target":{"location":"/storage/s1","kind":"http://schemas.ogf.org/occi/infrastructure#storage"}}`},
	} {
		t.Run(name, func(t *testing.T) {
			d, last := serve(t, 201, `{"kind":"x","id":"7"}`)
			c.req.Key = "run/step"
			_, err := d.Create(ctx, c.req)
			require.NoError(t, err)
			r, body := last()
			assert.Equal(t, c.path, r.URL.Path)
			assert.Equal(t, "Bearer sesame", r.Header.Get("Authorization"))
			assert.Equal(t, "run/step", r.Header.Get("Idempotency-Key"))
			assert.Equal(t, "application/occi+json", r.Header.Get("Content-Type"))
			assert.JSONEq(t, c.want, body)
		})
	}
}

func TestAnswersAreRead(t *testing.T) {
	body, _ := json.Marshal(wire.Resource{ID: "urn:uuid:n-7", Title: "nic", Attributes: map[string]any{
		wire.LinkState: "active", wire.Address: "127.8.0.4", wire.OwnPortMap: "22:20022,8080:20080", wire.OwnSSHUser: "operator",
		wire.OwnHostKey: "ssh-ed25519 AAAA", wire.LinkMAC: "02:00:00:00:00:01", wire.OwnMarkText: "andamio run 1"}})
	d, last := serve(t, 200, string(body))
	got, err := d.Read(ctx, kinds.Interface, "n-7")
	require.NoError(t, err)
	r, _ := last()
	assert.Equal(t, "/networkinterface/n-7", r.URL.Path)
	assert.Equal(t, "127.8.0.4", got.Details.Raw[wire.Address], "all that was said is told")
	got.Details = nil
	assert.Equal(t, site.Resource{Kind: kinds.Interface, ID: "n-7", Name: "nic", Mark: "andamio run 1", State: site.Active, Word: "active",
		Attributes: map[string]string{"address": "127.8.0.4", "port.22": "20022", "port.8080": "20080", "ssh.port": "20022",
			"ssh.user": "operator", "ssh.hostkey": "ssh-ed25519 AAAA", "mac": "02:00:00:00:00:01"}}, got)
}

func TestStates(t *testing.T) {
	for _, c := range []struct {
		state, word string
		want        site.State
	}{{"active", "", site.Active}, {"online", "online", site.Active}, {"inactive", "accepted", site.Accepted},
		{"inactive", "building", site.Building}, {"inactive", "stopped", site.Stopped}, {"error", "no disk", site.Failed}, {"", "", site.Stopped}} {
		assert.Equal(t, c.want, stateOf(c.state, c.word), "%s %s", c.state, c.word)
	}
}

func TestErrorsAreClassed(t *testing.T) {
	for status, want := range map[int]site.Class{400: site.Refused, 401: site.Refused, 403: site.Refused, 404: site.NotFound, 410: site.NotFound,
		409: site.Conflict, 408: site.Transient, 429: site.RateLimited, 500: site.Transient, 503: site.Transient} {
		d, _ := serve(t, status, `{"message":"because of this"}`, "Retry-After", "7")
		_, err := d.Read(ctx, kinds.Instance, "x")
		var e *site.Error
		require.True(t, errors.As(err, &e), "%d", status)
		assert.Equal(t, want, e.Class, "%d", status)
		assert.Equal(t, "because of this", e.Detail)
		assert.Equal(t, "vega: read instance: "+string(want)+": because of this", err.Error())
		if want == site.RateLimited {
			assert.Equal(t, 7*time.Second, e.After)
		}
	}
}

func TestWhatIsNoProtocolIsTransient(t *testing.T) {
	d, _ := serve(t, 200, "<html>maintenance</html>")
	_, err := d.Read(ctx, kinds.Instance, "x")
	assert.Equal(t, site.Transient, site.ClassOf(err))
	gone := New("vega", "http://127.0.0.1:1", "secret-token")
	_, err = gone.Read(ctx, kinds.Instance, "x")
	assert.Equal(t, site.Transient, site.ClassOf(err))
	assert.NotContains(t, err.Error(), "secret-token")
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	_, err = d.Read(stopped, kinds.Instance, "x")
	assert.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, site.Transient, site.ClassOf(errors.New("anything")))
}

func TestRetryAfterReadsSecondsAndDates(t *testing.T) {
	assert.Equal(t, 3*time.Second, retryAfter("3"))
	assert.Equal(t, time.Second, retryAfter("soon"))
	assert.Zero(t, retryAfter("Mon, 02 Jan 2006 15:04:05 GMT"), "a date that is past")
	assert.Equal(t, 24*time.Hour, retryAfter("999999999999999"), "and not a time before now")
}

func TestListingReadsEveryPage(t *testing.T) {
	pages := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if slices.Contains(queryPaths, r.URL.Path) {
			http.NotFound(w, r)
			return
		}
		pages++
		n := pageSize
		if r.URL.Query().Get("page") == "3" {
			n = 5
		}
		c := wire.Collection{}
		for i := range n {
			c.Resources = append(c.Resources, wire.Resource{ID: fmt.Sprint(pages, "-", i)})
		}
		_ = json.NewEncoder(w).Encode(c)
	}))
	defer server.Close()
	got, err := New("vega", server.URL, "").List(ctx, kinds.Volume)
	require.NoError(t, err)
	assert.Equal(t, 3, pages)
	assert.Len(t, got, 2*pageSize+5)
}

func TestActionsAndDeletes(t *testing.T) {
	d, last := serve(t, 200, `{"kind":"x","id":"7"}`)
	_, err := d.Invoke(ctx, kinds.Instance, "7", "stop")
	require.NoError(t, err)
	r, body := last()
	assert.Equal(t, "/compute/7?action=stop", r.URL.RequestURI())
	assert.JSONEq(t, `{"action":"http://schemas.ogf.org/occi/infrastructure/compute/action#stop"}`, body)
	require.NoError(t, d.Delete(ctx, kinds.Volume, "a/b"))
	r, _ = last()
	assert.Equal(t, http.MethodDelete, r.Method)
	assert.True(t, strings.HasSuffix(r.RequestURI, "/storage/a%2Fb"), "ids cannot lead elsewhere: %s", r.RequestURI)
	broken, _ := serve(t, 200, `{"attributes":{"andamio.site.facts":"{"}}`)
	_, err = broken.Describe(ctx)
	assert.Equal(t, site.Refused, site.ClassOf(err))
}
