package occi_test

import (
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi"
	"andamio/internal/site/occi/occitest"
)

func standard(t *testing.T, user bool) (*occitest.Cloud, *occi.Driver) {
	t.Helper()
	c := occitest.New(t, user)
	d := occi.New("azud", c.URL, "word")
	d.Patience(5 * time.Second)
	return c, d
}

// A cloud that has none of our mixins, no rights, no facts and no pages is planned on, built at, looked at, changed and left.
func TestAPlainSiteIsWorkedWith(t *testing.T) {
	c, d := standard(t, false)
	ctx := t.Context()

	access, err := d.Access(ctx)
	require.NoError(t, err)
	assert.Empty(t, access.May, "what may be done is not told")
	s, err := d.Describe(ctx)
	require.NoError(t, err)
	require.Len(t, s.Sizes, 2)
	assert.Equal(t, "large", s.Sizes[0].Name)
	assert.Equal(t, 4, s.Sizes[0].Cores)
	assert.InDelta(t, 8, s.Sizes[0].MemoryGiB, 0)
	require.NotNil(t, s.Image("linux", s.Images[0].Release))
	assert.Equal(t, "plain-12", s.Images[0].Name)
	require.Len(t, s.Zones, 1)

	_, keeps := site.Can[site.Snapshotter](ctx, d)
	_, copies := site.Can[site.Disks](ctx, d)
	_, surveyed := site.Can[site.Surveyor](ctx, d)
	assert.Equal(t, []bool{false, false, true}, []bool{keeps, copies, surveyed}, "what it has no words for it cannot do, whatever its driver knows")

	made := func(r site.Request) site.Resource {
		t.Helper()
		r.Mark, r.Key = "andamio 7 "+r.Name, r.Name
		got, err := d.Create(ctx, r)
		require.NoError(t, err)
		assert.Equal(t, site.Active, got.State, r.Name)
		assert.Equal(t, r.Mark, got.Mark, "what asked for it is found again")
		assert.NotContains(t, got.ID, "urn")
		return got
	}
	net := made(site.Request{Kind: kinds.Network, Name: "lan", CIDR: "10.9.0.0/24", VLAN: "40"})
	disk := made(site.Request{Kind: kinds.Volume, Name: "vol", DiskGiB: 3, Class: "fast"})
	vm := made(site.Request{Kind: kinds.Instance, Name: "host", Hostname: "host", Size: "small", Image: "plain-12", DiskGiB: 10, Zone: "azud", PublicKey: "ssh-ed25519 AAAA us"})
	nic := made(site.Request{Kind: kinds.Interface, Name: "nic", Source: vm.ID, Target: net.ID, Ports: []int{22, 80}})
	plug := made(site.Request{Kind: kinds.Attachment, Name: "plug", Source: vm.ID, Target: disk.ID, Location: "/srv"})
	assert.Equal(t, "10.9.0.5", nic.Attributes[site.AttrAddress])
	assert.Equal(t, "22", nic.Attributes[site.AttrSSHPort], "a shell is where the protocol has it")
	assert.Equal(t, "root", nic.Attributes[site.AttrSSHUser])
	assert.Equal(t, "/cloud/machines/"+vm.ID, "/cloud"+fmt.Sprint(c.All["nics"][0]["source"].(map[string]any)["location"]))

	all, err := d.List(ctx, kinds.Instance)
	require.NoError(t, err)
	assert.Len(t, all, 1)
	none, err := d.List(ctx, kinds.Snapshot)
	require.NoError(t, err)
	assert.Empty(t, none, "a kind that is not known has nothing")
	page, err := d.Page(ctx, site.Query{Kind: kinds.Object})
	require.NoError(t, err)
	assert.Empty(t, page.Resources)

	off, err := d.Invoke(ctx, kinds.Instance, vm.ID, "stop")
	require.NoError(t, err)
	assert.Equal(t, site.Stopped, off.State)
	bigger, err := d.Change(ctx, kinds.Instance, vm.ID, site.Request{Kind: kinds.Instance, Name: "host", Size: "large", Rename: "gauge"})
	require.NoError(t, err)
	assert.Equal(t, "gauge", bigger.Name)
	_, err = d.Change(ctx, kinds.Instance, vm.ID, site.Request{Kind: kinds.Instance, Name: "host", Tags: map[string]string{"a": "b"}})
	assert.ErrorContains(t, err, "no word for that", "what cannot be said is not left out in silence")
	assert.Equal(t, site.Refused, site.ClassOf(err))
	_, err = d.Create(ctx, site.Request{Kind: kinds.Instance, Name: "asleep", Image: "plain-12", Size: "small", Asleep: true})
	assert.Equal(t, site.Refused, site.ClassOf(err))
	_, err = d.Create(ctx, site.Request{Kind: kinds.Instance, Name: "other", Image: "gone-11", Size: "small"})
	assert.ErrorContains(t, err, "not offered any more")

	for _, x := range []site.Resource{plug, nic, vm, disk, net} {
		require.NoError(t, d.Delete(ctx, x.Kind, x.ID))
		_, err := d.Read(ctx, x.Kind, x.ID)
		assert.Equal(t, site.NotFound, site.ClassOf(err))
	}
	asked := 0
	for _, s := range c.Sent {
		if s == "GET /cloud/-/" {
			asked++
		}
	}
	assert.Equal(t, 1, asked, "what there is is asked for once")
}

// A cloud that does not know keys is told ours when a machine starts for the first time.
func TestAPlainSiteWithUserDataLetsUsIn(t *testing.T) {
	c, d := standard(t, true)
	_, err := d.Create(t.Context(), site.Request{Kind: kinds.Instance, Name: "host", Size: "small", Image: "plain-12", PublicKey: "ssh-ed25519 AAAA us"})
	require.NoError(t, err)
	text := fmt.Sprint(c.All["machines"][0]["attributes"].(map[string]any)["occi.compute.userdata"])
	said, err := base64.StdEncoding.DecodeString(text)
	require.NoError(t, err)
	assert.Equal(t, "#cloud-config\nssh_authorized_keys:\n  - ssh-ed25519 AAAA us\n", string(said))
}

// However much there is, a listing of a site that knows no pages ends, and tells each thing once.
func TestListingsOfAPlainSiteEnd(t *testing.T) {
	c, d := standard(t, false)
	for i := range 450 {
		c.All["nets"] = append(c.All["nets"], map[string]any{"id": fmt.Sprintf("urn:uuid:n%d", i), "kind": occitest.Infra + "#network", "title": fmt.Sprint("n", i)})
	}
	all, err := d.List(t.Context(), kinds.Network)
	require.NoError(t, err)
	assert.Len(t, all, 450)
	seen := map[string]bool{}
	for q, turns := (site.Query{Kind: kinds.Network, Size: 100}), 0; ; turns++ {
		require.Less(t, turns, 10, "it goes on for ever")
		page, err := d.Page(t.Context(), q)
		require.NoError(t, err)
		for _, r := range page.Resources {
			assert.False(t, seen[r.ID], r.ID)
			seen[r.ID] = true
		}
		if page.Next == "" {
			break
		}
		q.After = page.Next
	}
	assert.Len(t, seen, 450)
}

// What was made may be told in text, by its location alone, and a cloud without images starts its machines from what it likes.
func TestAPlainSiteMayTellLocationsInText(t *testing.T) {
	var sent []byte
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/-/":
			_, _ = io.WriteString(w, `{"kinds":[{"term":"compute","scheme":"http://schemas.ogf.org/occi/infrastructure#","location":"/compute/"}],"mixins":[],"actions":[]}`)
		case r.Method == http.MethodPost:
			sent, _ = io.ReadAll(r.Body)
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			w.WriteHeader(http.StatusCreated)
			_, _ = fmt.Fprintf(w, "X-OCCI-Location: http://%s/compute/vm-1\n", r.Host)
		case r.URL.Path == "/compute/vm-1":
			_, _ = io.WriteString(w, `{"kind":"http://schemas.ogf.org/occi/infrastructure#compute","id":"urn:uuid:vm-1","title":"host","attributes":{"occi.compute.state":"inactive"}}`)
		default:
			http.NotFound(w, r)
		}
	}))
	defer server.Close()
	d := occi.New("azud", server.URL, "word")
	s, err := d.Describe(t.Context())
	require.NoError(t, err)
	require.Len(t, s.Images, 1)
	assert.True(t, s.FreeForm)
	got, err := d.Create(t.Context(), site.Request{Kind: kinds.Instance, Name: "host", Cores: 2, MemoryGiB: 4, Image: s.Images[0].Name})
	require.NoError(t, err)
	assert.Equal(t, "vm-1", got.ID)
	assert.JSONEq(t, `{"kind":"http://schemas.ogf.org/occi/infrastructure#compute","title":"host","attributes":{"occi.compute.cores":2,"occi.compute.memory":4}}`, string(sent))
}
