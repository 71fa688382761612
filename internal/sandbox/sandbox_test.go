package sandbox

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi"
	"andamio/internal/site/occi/wire"
)

var ctx = context.Background()

func started(t *testing.T, oneAddress bool) (*Sandbox, map[string]*occi.Driver) {
	t.Helper()
	data, err := os.ReadFile("../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	s, err := Start(Config{Estate: e, Pace: 0.005, Seed: 1, OneAddress: oneAddress})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	drivers := map[string]*occi.Driver{}
	for _, at := range s.Endpoints {
		drivers[at.Site] = occi.New(at.Site, at.URL, at.Token)
	}
	return s, drivers
}

// built asks for a resource and waits until it is no longer on the way.
func built(t *testing.T, d *occi.Driver, r site.Request) site.Resource {
	t.Helper()
	got, err := d.Create(ctx, r)
	require.NoError(t, err)
	assert.Equal(t, site.Accepted, got.State, "accepted is said first")
	require.Eventually(t, func() bool {
		got, err = d.Read(ctx, r.Kind, got.ID)
		return err != nil || got.State != site.Accepted && got.State != site.Building
	}, 2*time.Minute, 2*time.Millisecond, r.Name)
	require.NoError(t, err)
	return got
}

func key(t *testing.T) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return signer
}

// builtMachine builds an instance with an interface for the ports, and returns what is known of both.
func builtMachine(t *testing.T, d *occi.Driver, signer ssh.Signer, ports ...int) (instance, nic site.Resource) {
	t.Helper()
	network := built(t, d, site.Request{Kind: kinds.Network, Name: "lan", CIDR: "10.0.0.0/24"})
	instance = built(t, d, site.Request{Kind: kinds.Instance, Name: "node", Hostname: "node", Cores: 1, MemoryGiB: 1,
		Image: image(t, d), PublicKey: string(ssh.MarshalAuthorizedKey(signer.PublicKey()))})
	nic = built(t, d, site.Request{Kind: kinds.Interface, Name: "nic", Source: instance.ID, Target: network.ID, Ports: ports})
	return instance, nic
}

func image(t *testing.T, d *occi.Driver) string {
	t.Helper()
	s, err := d.Describe(ctx)
	require.NoError(t, err)
	return s.Images[0].Name
}

func shell(t *testing.T, nic site.Resource, signer ssh.Signer) *ssh.Client {
	t.Helper()
	hostKey, _, _, _, err := ssh.ParseAuthorizedKey([]byte(nic.Attributes[site.AttrHostKey]))
	require.NoError(t, err)
	client, err := ssh.Dial("tcp", net.JoinHostPort(nic.Attributes["address"], nic.Attributes["ssh.port"]), &ssh.ClientConfig{
		User: nic.Attributes["ssh.user"], Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.FixedHostKey(hostKey)})
	require.NoError(t, err)
	t.Cleanup(func() { client.Close() })
	return client
}

func script(t *testing.T, c *ssh.Client, text string) string {
	t.Helper()
	session, err := c.NewSession()
	require.NoError(t, err)
	defer session.Close()
	session.Stdin = strings.NewReader(text)
	out, err := session.CombinedOutput("sh -s")
	require.NoError(t, err, string(out))
	return string(out)
}

func TestAnInstanceIsRealOnLoopback(t *testing.T) {
	for _, oneAddress := range []bool{false, true} {
		_, sites := started(t, oneAddress)
		for _, name := range []string{"vega", "presa"} {
			t.Run(fmt.Sprintf("%s, one address %v", name, oneAddress), func(t *testing.T) {
				signer := key(t)
				_, nic := builtMachine(t, sites[name], signer, 8080)
				address, port := nic.Attributes["address"], nic.Attributes["port.8080"]
				assert.True(t, net.ParseIP(address).IsLoopback())
				if oneAddress {
					assert.Equal(t, "127.0.0.1", address)
				}
				if own := name == "vega" && !oneAddress; own {
					assert.Equal(t, "8080", port, "an address of its own keeps its ports")
				} else {
					assert.NotEqual(t, "8080", port, "a port-mapped network gives another")
				}
				_, err := net.DialTimeout("tcp", net.JoinHostPort(address, port), time.Second)
				assert.Error(t, err, "nothing answers before something serves")
				out := script(t, shell(t, nic, signer), "hostname; mkdir -p /srv/x; echo water > /srv/x/level; httpd -p 8080 -h /srv/x; netstat")
				assert.Equal(t, "node\ntcp     22  listen  sshd\ntcp   8080  listen  httpd\n", out)
				resp, err := http.Get("http://" + net.JoinHostPort(address, port) + "/level")
				require.NoError(t, err)
				defer resp.Body.Close()
				body, _ := io.ReadAll(resp.Body)
				assert.Equal(t, "water\n", string(body))
			})
		}
	}
}

func TestInstancesReachEachOther(t *testing.T) {
	_, sites := started(t, false)
	signer := key(t)
	_, store := builtMachine(t, sites["presa"], signer, 5432)
	_, reader := builtMachine(t, sites["vega"], signer)
	assert.NotEqual(t, store.Attributes["mac"], reader.Attributes["mac"])
	script(t, shell(t, store, signer), "echo 'read -r q; echo \"you asked $q\"' > /opt/answer; nc -lk -p 5432 -e /opt/answer")
	out := script(t, shell(t, reader, signer), fmt.Sprintf("echo level | nc %s %s", store.Attributes["address"], store.Attributes["port.5432"]))
	assert.Equal(t, "you asked level\n", out)
}

func TestOnlyTheKeyOpens(t *testing.T) {
	_, sites := started(t, false)
	signer := key(t)
	_, nic := builtMachine(t, sites["vega"], signer)
	_, err := ssh.Dial("tcp", net.JoinHostPort(nic.Attributes["address"], nic.Attributes["ssh.port"]), &ssh.ClientConfig{
		User: "operator", Auth: []ssh.AuthMethod{ssh.PublicKeys(key(t))}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	assert.ErrorContains(t, err, "unable to authenticate")
}

func TestAShellReadsLines(t *testing.T) {
	_, sites := started(t, false)
	signer := key(t)
	_, nic := builtMachine(t, sites["vega"], signer)
	session, err := shell(t, nic, signer).NewSession()
	require.NoError(t, err)
	var out bytes.Buffer
	session.Stdout = &out
	session.Stdin = strings.NewReader("cd /srv\nx=7\necho \"$x in $PWD\"\nexit 3\n")
	require.NoError(t, session.Shell())
	var exit *ssh.ExitError
	require.ErrorAs(t, session.Wait(), &exit)
	assert.Equal(t, 3, exit.ExitStatus())
	assert.Equal(t, "7 in /srv\n", out.String())
}

func TestStopAndStartKeepTheDisk(t *testing.T) {
	_, sites := started(t, false)
	d, signer := sites["vega"], key(t)
	instance, nic := builtMachine(t, d, signer, 8080)
	script(t, shell(t, nic, signer), "echo kept > /srv/f; httpd -p 8080 -h /srv")
	stopped, err := d.Invoke(ctx, kinds.Instance, instance.ID, "stop")
	require.NoError(t, err)
	assert.Equal(t, site.Stopped, stopped.State)
	_, err = net.DialTimeout("tcp", net.JoinHostPort(nic.Attributes["address"], "8080"), time.Second)
	assert.Error(t, err)
	_, err = d.Invoke(ctx, kinds.Instance, instance.ID, "stop")
	assert.Equal(t, site.Conflict, site.ClassOf(err), "it is stopped already")
	_, err = d.Invoke(ctx, kinds.Instance, instance.ID, "start")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		got, err := d.Read(ctx, kinds.Instance, instance.ID)
		return err == nil && got.State == site.Active
	}, 2*time.Minute, 5*time.Millisecond)
	assert.Equal(t, "kept\n", script(t, shell(t, nic, signer), "cat /srv/f"))
}

func TestCapacityIsTakenAndGivenBack(t *testing.T) {
	_, sites := started(t, false)
	d := sites["presa"]
	free := func() int {
		s, err := d.Describe(ctx)
		require.NoError(t, err)
		return s.Zones[0].Hosts[0].Free.Cores + s.Zones[0].Hosts[1].Free.Cores
	}
	require.Equal(t, 7, free())
	ask := site.Request{Kind: kinds.Instance, Name: "x", Size: "small", Image: "debian-12-edge"}
	first := built(t, d, ask)
	assert.Equal(t, 5, free())
	ask.Host, ask.Size, ask.Cores, ask.MemoryGiB = "host-1", "", 4, 4
	_, err := d.Create(ctx, ask)
	assert.Equal(t, site.Conflict, site.ClassOf(err))
	assert.ErrorContains(t, err, "there is no room for 4 cores")
	require.NoError(t, d.Delete(ctx, kinds.Instance, first.ID))
	assert.Equal(t, 7, free())
	_, err = d.Read(ctx, kinds.Instance, first.ID)
	assert.Equal(t, site.NotFound, site.ClassOf(err))
}

func TestRequestsAreChecked(t *testing.T) {
	_, sites := started(t, false)
	d := sites["vega"]
	for name, r := range map[string]site.Request{
		"unknown image":    {Kind: kinds.Instance, Cores: 1, MemoryGiB: 1, Image: "solaris"},
		"unknown size":     {Kind: kinds.Instance, Size: "vast", Image: "debian-12"},
		"no shape":         {Kind: kinds.Instance, Image: "debian-12"},
		"link to nothing":  {Kind: kinds.Interface, Source: "x", Target: "y"},
		"volume as a host": {Kind: kinds.Attachment, Source: "vega-storage-1", Target: "vega-storage-1"},
	} {
		_, err := d.Create(ctx, r)
		assert.Equal(t, site.Refused, site.ClassOf(err), name)
	}
}

func TestARepeatGivesTheSameResource(t *testing.T) {
	_, sites := started(t, false)
	r := site.Request{Kind: kinds.Volume, Name: "v", DiskGiB: 5, Key: "run-1/v/create", Mark: "andamio run-1"}
	first, err := sites["vega"].Create(ctx, r)
	require.NoError(t, err)
	second, err := sites["vega"].Create(ctx, r)
	require.NoError(t, err)
	assert.Equal(t, first.ID, second.ID)
	all, err := sites["vega"].List(ctx, kinds.Volume)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "andamio run-1", all[0].Mark)
}

func TestTargetsInUseStay(t *testing.T) {
	_, sites := started(t, false)
	d := sites["vega"]
	instance, _ := builtMachine(t, d, key(t))
	networks, err := d.List(ctx, kinds.Network)
	require.NoError(t, err)
	assert.Equal(t, site.Conflict, site.ClassOf(d.Delete(ctx, kinds.Network, networks[0].ID)))
	require.NoError(t, d.Delete(ctx, kinds.Instance, instance.ID))
	links, err := d.List(ctx, kinds.Interface)
	require.NoError(t, err)
	assert.Empty(t, links, "links go with their source")
	assert.NoError(t, d.Delete(ctx, kinds.Network, networks[0].ID))
}

// raw makes a request without the driver.
func raw(t *testing.T, at Endpoint, token, method, path, body string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(method, at.URL+path, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	data, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(data)
}

func TestTheProtocolAsItIsSpoken(t *testing.T) {
	s, _ := started(t, false)
	at := s.Endpoints[2]
	code, _ := raw(t, at, "wrong", "GET", "/-/", "")
	assert.Equal(t, 401, code)
	code, body := raw(t, at, at.Token, "GET", "/-/", "")
	assert.Equal(t, 200, code)
	var q wire.Query
	require.NoError(t, json.Unmarshal([]byte(body), &q))
	var terms []string
	for _, k := range q.Kinds {
		terms = append(terms, k.Term)
	}
	assert.ElementsMatch(t, []string{"entity", "resource", "link", "compute", "network", "networkinterface", "storage", "storagelink", "object", "snapshot", "site"}, terms)
	assert.Contains(t, body, `"c2-4"`, "sizes are mixins")
	for _, c := range []struct {
		method, path, body string
		want               int
	}{
		{"POST", "/compute/", "{", 400}, {"POST", "/compute/", `{"kind":"` + wire.Storage + `"}`, 400}, {"POST", "/teapot/", "{}", 404},
		{"GET", "/compute/none", "", 404}, {"GET", "/teapot/", "", 404}, {"GET", "/storage/", "", 200}, {"DELETE", "/network/none", "", 404},
		{"POST", "/storage/none?action=start", "{}", 404}, {"GET", "/.well-known/org/ogf/occi/-/", "", 200},
	} {
		code, body := raw(t, at, at.Token, c.method, c.path, c.body)
		assert.Equal(t, c.want, code, "%s %s: %s", c.method, c.path, body)
	}
	code, _ = raw(t, at, at.Token, "POST", "/storage/", `{"kind":"`+wire.Storage+`","title":"old"}`)
	require.Equal(t, 201, code)
	_, body = raw(t, at, at.Token, "GET", "/storage/?page=1&number=1", "")
	var all wire.Collection
	require.NoError(t, json.Unmarshal([]byte(body), &all))
	code, body = raw(t, at, at.Token, "POST", strings.TrimPrefix(all.Resources[0].ID, at.URL), `{"title":"new"}`)
	assert.Equal(t, 200, code)
	assert.Contains(t, body, `"title":"new"`)
	assert.Positive(t, s.Calls())
}

func TestTwoSandboxesDoNotMeet(t *testing.T) {
	a, _ := started(t, false)
	b, _ := started(t, false)
	assert.NotEqual(t, a.Endpoints[0].URL, b.Endpoints[0].URL)
	if !a.OneAddress {
		assert.NotEqual(t, a.block.octet, b.block.octet)
	}
}

func TestWhatStandsIsThereFromTheBeginning(t *testing.T) {
	data, err := os.ReadFile("../../examples/borrowed/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	box, err := Start(Config{Estate: e, Pace: 0.01, Seed: 1})
	require.NoError(t, err)
	defer box.Close()
	at := box.Endpoints[0]
	d := occi.New(at.Site, at.URL, at.Token)
	ctx := context.Background()
	nets, err := d.List(ctx, kinds.Network)
	require.NoError(t, err)
	require.Len(t, nets, 2)
	assert.Equal(t, "vega-lan-attic", nets[0].ID)
	assert.Equal(t, site.Active, nets[0].State)
	described, err := d.Describe(ctx)
	require.NoError(t, err)
	require.Len(t, described.Standing, 2)
	assert.Equal(t, "10.9.4.0/24", described.Standing[1].Properties["cidr"])
	assert.Equal(t, "[a-z][a-z0-9-]{0,40}", described.Naming.Pattern)
}
