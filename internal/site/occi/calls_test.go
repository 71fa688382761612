package occi

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi/wire"
)

// calls are all that a driver can be asked, each as a function of one error.
func calls(d *Driver) map[string]func() error {
	return map[string]func() error{
		"describe": func() error { _, err := d.Describe(ctx); return err },
		"create": func() error {
			_, err := d.Create(ctx, site.Request{Kind: kinds.Volume, Name: "v", DiskGiB: 1})
			return err
		},
		"read": func() error { _, err := d.Read(ctx, kinds.Volume, "v"); return err },
		"list": func() error { _, err := d.List(ctx, kinds.Volume); return err },
		"act":  func() error { _, err := d.Invoke(ctx, kinds.Instance, "i", "stop"); return err },
		"change": func() error {
			_, err := d.Change(ctx, kinds.Volume, "v", site.Request{Kind: kinds.Volume, DiskGiB: 2})
			return err
		},
		"delete":     func() error { return d.Delete(ctx, kinds.Volume, "v") },
		"access":     func() error { _, err := d.Access(ctx); return err },
		"rotate":     func() error { _, err := d.Rotate(ctx, "proposed-and-long-enough"); return err },
		"page":       func() error { _, err := d.Page(ctx, site.Query{Kind: kinds.Volume}); return err },
		"changes":    func() error { _, err := d.Changes(ctx, "disk", "e", 0); return err },
		"hashes":     func() error { _, err := d.Hashes(ctx, "disk", site.Extent{Length: 10}, 10); return err },
		"read disk":  func() error { _, err := d.ReadDisk(ctx, "disk", site.Extent{Length: 2}); return err },
		"write disk": func() error { return d.WriteDisk(ctx, "disk", 0, []byte("ab")) },
		"copy": func() error {
			_, err := d.Copy(ctx, "disk", site.CopyRequest{Peer: "presa", Disk: "other"})
			return err
		},
		"consolidate": func() error { _, err := d.Consolidate(ctx, "disk"); return err },
		"release":     func() error { return d.Release(ctx, "nic", nil) },
		"upload":      func() error { _, err := d.Upload(ctx, "o", 0, 2, []byte("ab")); return err },
		"unpack":      func() error { _, err := d.Unpack(ctx, "disk", "o", 0); return err },
		"self":        func() error { _, err := d.Self(ctx); return err },
		"pair":        func() error { return d.Pair(ctx, site.Peer{Site: "presa"}) },
		"part":        func() error { return d.Part(ctx, "presa") },
		"grant":       func() error { return d.Grant(ctx, "presa", "disk") },
		"try":         func() error { _, err := d.Try(ctx, "presa"); return err },
	}
}

// TestEveryCallSaysWhatWentWrong has each call refused, answered with rubbish, and not answered: none of it counts as done,
// and none of it tells the token.
func TestEveryCallSaysWhatWentWrong(t *testing.T) {
	refused, _ := serve(t, http.StatusForbidden, `{"message":"not for you"}`)
	for name, call := range calls(refused) {
		err := call()
		require.Error(t, err, name)
		assert.Equal(t, site.Refused, site.ClassOf(err), name)
		assert.Contains(t, err.Error(), "vega: ", name)
		assert.Contains(t, err.Error(), "not for you", name)
	}
	busy, _ := serve(t, http.StatusServiceUnavailable, "down")
	silent := New("vega", "http://127.0.0.1:1", "sesame-token")
	for name, call := range calls(busy) {
		assert.Equal(t, site.Transient, site.ClassOf(call()), name)
	}
	for name, call := range calls(silent) {
		err := call()
		require.Error(t, err, name)
		assert.Equal(t, site.Transient, site.ClassOf(err), name)
		assert.NotContains(t, err.Error(), "sesame", name)
	}
	rubbish, _ := serve(t, http.StatusOK, "<html>welcome</html>")
	noAnswer := map[string]bool{"delete": true, "release": true, "pair": true, "part": true, "grant": true, "write disk": true} // of which nothing is read
	for name, call := range calls(rubbish) {
		if err := call(); !noAnswer[name] {
			assert.Error(t, err, "%s takes rubbish for an answer", name)
		}
	}
}

// TestEveryCallEnds has a site that never answers.
func TestEveryCallEnds(t *testing.T) {
	hang := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-hang }))
	t.Cleanup(server.Close)
	t.Cleanup(func() { close(hang) })
	d := New("vega", server.URL, "t")
	d.Patience(50 * time.Millisecond)
	for _, name := range []string{"describe", "create", "read", "list", "act", "change", "delete", "access", "page", "try"} {
		err := calls(d)[name]()
		require.Error(t, err, name)
		assert.Equal(t, site.Transient, site.ClassOf(err), name)
	}
}

func TestChangesSayOnlyWhatIsToChange(t *testing.T) {
	for name, c := range map[string]struct {
		req  site.Request
		want string
	}{
		"a size":        {site.Request{Kind: kinds.Instance, Size: "c4", DiskGiB: 20}, `{"kind":"http://schemas.ogf.org/occi/infrastructure#compute","mixins":["https://schemas.andamio.example/occi/sizes#c4"],"attributes":{"andamio.placed.disk":20}}`},
		"a free form":   {site.Request{Kind: kinds.Instance, Cores: 4, MemoryGiB: 8, DiskGiB: 20}, `{"kind":"http://schemas.ogf.org/occi/infrastructure#compute","attributes":{"occi.compute.cores":4,"occi.compute.memory":8,"andamio.placed.disk":20}}`},
		"a name":        {site.Request{Kind: kinds.Instance, Rename: "other"}, `{"kind":"http://schemas.ogf.org/occi/infrastructure#compute","title":"other"}`},
		"tags":          {site.Request{Kind: kinds.Volume, Tags: map[string]string{"owner": "map", "old": ""}}, `{"kind":"http://schemas.ogf.org/occi/infrastructure#storage","attributes":{"` + wire.OwnTag + `owner":"map","` + wire.OwnTag + `old":""}}`},
		"a larger disk": {site.Request{Kind: kinds.Volume, DiskGiB: 30}, `{"kind":"http://schemas.ogf.org/occi/infrastructure#storage","attributes":{"occi.storage.size":30}}`},
		"an address":    {site.Request{Kind: kinds.Interface, Address: "10.0.0.9"}, `{"kind":"http://schemas.ogf.org/occi/infrastructure#networkinterface","attributes":{"` + wire.OwnInside + `":"10.0.0.9"}}`},
	} {
		t.Run(name, func(t *testing.T) {
			d, last := serve(t, 200, `{"kind":"x","id":"7"}`)
			_, err := d.Change(ctx, c.req.Kind, "7", c.req)
			require.NoError(t, err)
			r, body := last()
			assert.Equal(t, http.MethodPost, r.Method)
			assert.True(t, strings.HasSuffix(r.URL.Path, "/7"), r.URL.Path)
			assert.JSONEq(t, c.want, body)
		})
	}
}

func TestAnInstanceIsAskedForWithAllThatIsSaid(t *testing.T) {
	d, last := serve(t, 201, `{"kind":"x","id":"7"}`)
	_, err := d.Create(ctx, site.Request{Kind: kinds.Instance, Name: "i", Cores: 1, MemoryGiB: 2, DiskGiB: 3, Image: "debian", Hostname: "h", Zone: "a", Host: "a-1", Class: "fast", Asleep: true})
	require.NoError(t, err)
	_, body := last()
	var w wire.Resource
	require.NoError(t, json.Unmarshal([]byte(body), &w))
	for name, want := range map[string]any{wire.Hostname: "h", wire.OwnZone: "a", wire.OwnHost: "a-1", wire.OwnClass: "fast", wire.OwnAsleep: "yes", wire.OwnDisk: 3.0} {
		assert.Equal(t, want, w.Attributes[name], name)
	}
	_, err = d.Create(ctx, site.Request{Kind: kinds.Instance, Name: "i", Image: "debian"})
	require.NoError(t, err)
	_, body = last()
	for _, name := range []string{wire.OwnAsleep, wire.OwnHost, wire.OwnZone, wire.OwnClass, wire.Hostname, wire.PublicKey} {
		assert.NotContains(t, body, `"`+name+`"`, "what was not said is not asked for")
	}
	r, _ := last()
	assert.Empty(t, r.Header.Get("Idempotency-Key"))
}

func TestTheRightsOfATokenAreRead(t *testing.T) {
	d, last := serve(t, 200, `{"attributes":{"`+wire.AccessAccount+`":"ops","`+wire.AccessMay+`":"read,create","`+wire.AccessMayNot+`":"delete","`+wire.AccessRegions+`":"a,b,","`+wire.AccessFirst+`":true}}`)
	got, err := d.Access(ctx)
	require.NoError(t, err)
	assert.Equal(t, site.Access{Account: "ops", May: []string{"read", "create"}, MayNot: []string{"delete"}, Regions: []string{"a", "b"}, FirstUse: true}, got)
	r, body := last()
	assert.Equal(t, http.MethodGet, r.Method)
	assert.Equal(t, wire.PathAccess, r.URL.Path)
	assert.Empty(t, body)
	none, _ := serve(t, 200, `{"attributes":{}}`)
	got, err = none.Access(ctx)
	require.NoError(t, err)
	assert.Empty(t, got.May)
	assert.False(t, got.FirstUse)
}

func TestARotationWithoutATokenIsNone(t *testing.T) {
	d, last := serve(t, 200, `{"attributes":{"`+wire.AccessToken+`":"new-one"}}`)
	token, err := d.Rotate(ctx, "proposed-and-long-enough")
	require.NoError(t, err)
	assert.Equal(t, "new-one", token)
	r, body := last()
	assert.Equal(t, http.MethodPost, r.Method)
	assert.Contains(t, body, wire.OwnAccess)
	empty, _ := serve(t, 200, `{"attributes":{}}`)
	token, err = empty.Rotate(ctx, "proposed-and-long-enough")
	assert.Empty(t, token)
	require.ErrorContains(t, err, "does not say what it is now")
	assert.Equal(t, site.Transient, site.ClassOf(err), "it may be either")
}

func TestAPageSaysWhereTheNextBegins(t *testing.T) {
	d, last := serve(t, 200, `{"resources":[{"id":"urn:uuid:a","kind":"http://schemas.ogf.org/occi/infrastructure#storage","attributes":{"occi.storage.state":"online"}}],
		"links":[{"id":"/storagelink/b","kind":"x#storagelink","source":{"location":"/compute/c1"},"target":{"location":"/storage/s1"}}]}`)
	page, err := d.Page(ctx, site.Query{Kind: kinds.Volume, Size: 2, After: "before", Region: "north"})
	require.NoError(t, err)
	r, _ := last()
	assert.Equal(t, url.Values{"number": {"2"}, wire.ParamAfter: {"before"}, wire.ParamRegion: {"north"}}, r.URL.Query())
	require.Len(t, page.Resources, 2)
	assert.Equal(t, "b", page.Next, "a full page may not be the last")
	assert.Equal(t, site.Active, page.Resources[0].State)
	assert.Equal(t, "storage", page.Resources[0].Details.Type)
	assert.Equal(t, "north", page.Resources[0].Details.Region)
	assert.Equal(t, []string{"c1", "s1"}, []string{page.Resources[1].Details.Source, page.Resources[1].Details.Target})
	page, err = d.Page(ctx, site.Query{Kind: kinds.Volume})
	require.NoError(t, err)
	assert.Empty(t, page.Next, "one that is not full is the last")
	r, _ = last()
	assert.Equal(t, "200", r.URL.Query().Get("number"))
	assert.False(t, r.URL.Query().Has(wire.ParamRegion))
}

func TestWhatWasWrittenLiesOnTheDisk(t *testing.T) {
	d, last := serve(t, 200, `{"size":100,"epoch":"e2","upto":7,"whole":true,"written":[[0,10],[90,10]],"zero":[[10,5]]}`)
	c, err := d.Changes(ctx, "disk/1", "e1", 6)
	require.NoError(t, err)
	assert.Equal(t, []site.Extent{{Offset: 0, Length: 10}, {Offset: 90, Length: 10}}, c.Written)
	assert.Equal(t, []site.Extent{{Offset: 10, Length: 5}}, c.Zero)
	assert.Equal(t, 1, c.Layers, "a disk has one layer at least")
	assert.True(t, c.Whole)
	r, _ := last()
	assert.Equal(t, "6", r.URL.Query().Get(wire.ParamSince))
	assert.Equal(t, "e1", r.URL.Query().Get(wire.ParamEpoch))
	assert.Contains(t, r.RequestURI, "disk%2F1", "a name cannot lead elsewhere")
	for _, bad := range []string{`[[-1,10]]`, `[[0,0]]`, `[[0,-5]]`, `[[95,10]]`, `[[0,101]]`, `[[9223372036854775807,1]]`} {
		for _, list := range []string{"written", "zero"} {
			d, _ := serve(t, 200, `{"size":100,"`+list+`":`+bad+`}`)
			_, err := d.Changes(ctx, "disk", "", 0)
			require.ErrorContains(t, err, "it lies outside the disk", "%s %s", list, bad)
			assert.Equal(t, site.Transient, site.ClassOf(err))
		}
	}
}

func TestPartsOfADiskAreCheckedOnTheWay(t *testing.T) {
	data := "0123456789"
	d, last := serve(t, 206, data, wire.HeaderDigest, wire.RangeDigest([]byte(data)))
	got, err := d.ReadDisk(ctx, "disk", site.Extent{Offset: 30, Length: 10})
	require.NoError(t, err)
	assert.Equal(t, data, string(got))
	r, _ := last()
	assert.Equal(t, "bytes=30-39", r.Header.Get("Range"))
	_, err = d.ReadDisk(ctx, "disk", site.Extent{Offset: 30, Length: 11})
	require.ErrorContains(t, err, "damaged on the way", "too few")
	damaged, _ := serve(t, 206, data, wire.HeaderDigest, wire.RangeDigest([]byte("another")))
	_, err = damaged.ReadDisk(ctx, "disk", site.Extent{Length: 10})
	require.ErrorContains(t, err, "damaged on the way")
	unsaid, _ := serve(t, 206, data)
	_, err = unsaid.ReadDisk(ctx, "disk", site.Extent{Length: 10})
	require.Error(t, err, "what nobody vouches for is not taken")

	d, last = serve(t, 200, "")
	require.NoError(t, d.WriteDisk(ctx, "disk", 40, []byte(data)))
	r, body := last()
	assert.Equal(t, http.MethodPut, r.Method)
	assert.Equal(t, "bytes 40-49/*", r.Header.Get("Content-Range"))
	assert.Equal(t, wire.RangeDigest([]byte(data)), r.Header.Get(wire.HeaderDigest))
	assert.Equal(t, data, body)
}

func TestDigestsAreOneForEachBlock(t *testing.T) {
	three := strings.Repeat("x", 3*wire.BlockDigest)
	d, last := serve(t, 200, three)
	got, err := d.Hashes(ctx, "disk", site.Extent{Offset: 8, Length: 21}, 10)
	require.NoError(t, err, "two whole blocks and a part of one")
	assert.Len(t, got, len(three))
	r, _ := last()
	assert.Equal(t, []string{"8", "21", "10"}, []string{r.URL.Query().Get(wire.ParamFrom), r.URL.Query().Get(wire.ParamLength), r.URL.Query().Get(wire.ParamBlock)})
	_, err = d.Hashes(ctx, "disk", site.Extent{Length: 20}, 10)
	require.ErrorContains(t, err, "broke off")
}

func TestOrdersToCopyAreWhole(t *testing.T) {
	d, last := serve(t, 200, `{"bytes":100,"wire":40,"holes":5,"verified":100,"seconds":1.5}`)
	got, err := d.Copy(ctx, "disk", site.CopyRequest{Peer: "presa", Disk: "other", Written: []site.Extent{{Offset: 1, Length: 2}}, Zero: []site.Extent{{Offset: 9, Length: 1}}, Limit: 7, Compress: true, Round: 3})
	require.NoError(t, err)
	assert.Equal(t, 1500*time.Millisecond, got.Took)
	assert.EqualValues(t, 100, got.Bytes)
	assert.EqualValues(t, 40, got.Wire)
	_, body := last()
	var sent wire.Pull
	require.NoError(t, json.Unmarshal([]byte(body), &sent))
	assert.Equal(t, wire.Pull{Peer: "presa", Disk: "other", Written: []wire.Extent{{1, 2}}, Zero: []wire.Extent{{9, 1}}, Limit: 7, Compress: true, Round: 3}, sent)
}

func TestObjectsAreSentInParts(t *testing.T) {
	d, last := serve(t, 200, `{"attributes":{"`+wire.ObjectReceived+`":"30"}}`)
	n, err := d.Upload(ctx, "pack/1", 10, 100, []byte("0123456789"))
	require.NoError(t, err)
	assert.EqualValues(t, 30, n, "as much as the site has, whatever was sent")
	r, _ := last()
	assert.Equal(t, "bytes 10-19/100", r.Header.Get("Content-Range"))
	assert.Contains(t, r.RequestURI, "pack%2F1")
	none, _ := serve(t, 200, `{"attributes":{}}`)
	_, err = none.Upload(ctx, "o", 0, 1, []byte("x"))
	require.Error(t, err, "how much it has must be said")

	d, last = serve(t, 200, `{"bytes":77}`)
	n, err = d.Unpack(ctx, "disk", "o", 2)
	require.NoError(t, err)
	assert.EqualValues(t, 77, n)
	r, body := last()
	assert.Equal(t, wire.ActionUnpack, r.URL.Query().Get("action"))
	assert.JSONEq(t, `{"object":"o","image":2}`, body)
	n, err = d.Consolidate(ctx, "disk")
	require.NoError(t, err)
	assert.EqualValues(t, 77, n)
	r, _ = last()
	assert.Equal(t, wire.ActionConsolidate, r.URL.Query().Get("action"))
}

func TestWhatComesToAReleasedInterfaceIsLedElsewhere(t *testing.T) {
	d, last := serve(t, 200, "")
	require.NoError(t, d.Release(ctx, "nic", map[string]string{"8080": "10.0.0.1:80", "22": "10.0.0.1:2200"}))
	r, body := last()
	assert.Equal(t, wire.ActionRelease, r.URL.Query().Get("action"))
	assert.Contains(t, body, `"22:10.0.0.1:2200,8080:10.0.0.1:80"`, "in one order, whatever the map's")
}

func TestPairsAreToldWhatTheyNeed(t *testing.T) {
	d, last := serve(t, 200, `{"site":"vega","key":"ssh-ed25519 AAAA"}`)
	self, err := d.Self(ctx)
	require.NoError(t, err)
	assert.Equal(t, "vega", self.Site)
	assert.Equal(t, "ssh-ed25519 AAAA", self.Key)
	assert.NotEmpty(t, self.URL)
	require.NoError(t, d.Pair(ctx, site.Peer{Site: "presa", URL: "http://p", Key: "k", MayStart: true}))
	r, body := last()
	assert.Equal(t, http.MethodPut, r.Method)
	assert.True(t, strings.HasSuffix(r.URL.Path, "/presa"))
	var sent wire.Pair
	require.NoError(t, json.Unmarshal([]byte(body), &sent))
	assert.Equal(t, wire.Pair{Site: "presa", URL: "http://p", Key: "k", MayStart: true}, sent)
	require.NoError(t, d.Grant(ctx, "presa", "disk/1"))
	r, _ = last()
	assert.True(t, strings.HasSuffix(r.RequestURI, "/presa/disk%2F1"), r.RequestURI)
	require.NoError(t, d.Part(ctx, "presa"))
	r, _ = last()
	assert.Equal(t, http.MethodDelete, r.Method)

	d, _ = serve(t, 200, `{"reachable":true,"why":"","ms":12.5,"clock_seconds":-2,"bytes_per_second":5e6,"disk_bytes_per_second":9e6}`)
	got, err := d.Try(ctx, "presa")
	require.NoError(t, err)
	assert.True(t, got.Reachable)
	assert.Equal(t, 12500*time.Microsecond, got.RoundTrip)
	assert.Equal(t, -2*time.Second, got.Ahead)
}

func TestAnswersAreBounded(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, `{"title":"`)
		part := strings.Repeat("x", 1<<20)
		for range maxBody>>20 + 1 {
			_, _ = io.WriteString(w, part)
		}
		_, _ = io.WriteString(w, `"}`)
	}))
	defer server.Close()
	_, err := New("vega", server.URL, "").Read(ctx, kinds.Volume, "v")
	require.Error(t, err, "what is longer than an answer may be is none")
	assert.Equal(t, site.Transient, site.ClassOf(err))
}

// TestEveryKindIsAskedForWithAllThatIsSaid creates one of each other kind, with everything that can be said of it.
func TestEveryKindIsAskedForWithAllThatIsSaid(t *testing.T) {
	for name, c := range map[string]struct {
		req          site.Request
		want         map[string]any
		kind         string
		source, goal string
	}{
		"an interface": {site.Request{Kind: kinds.Interface, Source: "i-1", Target: "n-1", Ports: []int{80, 443}, Address: "10.0.0.9", MAC: "02:00:00:00:00:01"},
			map[string]any{wire.OwnPorts: "80,443", wire.OwnInside: "10.0.0.9", wire.OwnMAC: "02:00:00:00:00:01"}, wire.NetworkInterface, "/compute/i-1", "/network/n-1"},
		"an attachment": {site.Request{Kind: kinds.Attachment, Source: "i-1", Target: "v-1", Location: "/data"}, map[string]any{wire.MountPoint: "/data"}, wire.StorageLink, "/compute/i-1", "/storage/v-1"},
		"a volume":      {site.Request{Kind: kinds.Volume, DiskGiB: 7, Zone: "a", Class: "fast"}, map[string]any{wire.StorageSize: 7.0, wire.OwnZone: "a", wire.OwnClass: "fast"}, wire.Storage, "", ""},
		"a network":     {site.Request{Kind: kinds.Network, CIDR: "10.0.0.0/24", VLAN: "12"}, map[string]any{wire.CIDR: "10.0.0.0/24", wire.VLAN: 12.0}, wire.Network, "", ""},
		"an object":     {site.Request{Kind: kinds.Object, Bytes: 9, SHA256: "abc"}, map[string]any{wire.ObjectBytes: 9.0, wire.ObjectDigest: "abc"}, wire.Object, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			d, last := serve(t, 201, `{"kind":"x","id":"7"}`)
			_, err := d.Create(ctx, c.req)
			require.NoError(t, err)
			_, body := last()
			var w wire.Resource
			require.NoError(t, json.Unmarshal([]byte(body), &w))
			assert.Equal(t, c.kind, w.Kind)
			for name, want := range c.want {
				assert.Equal(t, want, w.Attributes[name], name)
			}
			if c.source != "" {
				assert.Equal(t, []string{c.source, c.goal}, []string{w.Source.Location, w.Target.Location})
			}
			refusing, _ := serve(t, 409, `{"message":"no room"}`)
			_, err = refusing.Create(ctx, c.req)
			assert.ErrorContains(t, err, "no room")
		})
	}
}
