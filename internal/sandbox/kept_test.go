package sandbox

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/names"
	"andamio/internal/site"
	"andamio/internal/site/occi"
	"andamio/internal/site/occi/wire"
)

// falling are stand-ins that are kept in a folder; fall ends them without a word and has them come back.
type falling struct {
	t   *testing.T
	cfg Config
	*Sandbox
}

func kept(t *testing.T, oneAddress bool) *falling {
	t.Helper()
	data, err := os.ReadFile("../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	f := &falling{t: t, cfg: Config{Estate: e, Pace: 0.005, Seed: 1, OneAddress: oneAddress, Folder: t.TempDir(), Zone: "ribera.test"}}
	f.Sandbox, err = Start(f.cfg)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

func (f *falling) fall() {
	f.t.Helper()
	was := f.Endpoints
	f.cfg.Estate = &estate.Estate{} // what is kept goes before it
	box, err := f.Restart(f.cfg)
	require.NoError(f.t, err)
	f.Sandbox = box
	require.Equal(f.t, was, f.Endpoints)
}

func (f *falling) driver(name string) *occi.Driver {
	for _, at := range f.Endpoints {
		if at.Site == name {
			return occi.New(at.Site, at.URL, at.Token)
		}
	}
	f.t.Fatalf("no stand-in %s", name)
	return nil
}

func TestStandInsComeBackAsTheyWere(t *testing.T) {
	for _, oneAddress := range []bool{false, true} {
		t.Run(fmt.Sprintf("one address %v", oneAddress), func(t *testing.T) {
			f := kept(t, oneAddress)
			d, signer := f.driver("vega"), key(t)
			instance, nic := builtMachine(t, d, signer, 8080)
			volume := built(t, d, site.Request{Kind: kinds.Volume, Name: "data", DiskGiB: 2})
			built(t, d, site.Request{Kind: kinds.Attachment, Name: "a", Source: instance.ID, Target: volume.ID, Location: "/data"})
			script(t, shell(t, nic, signer), "mkdir -p /data/w; echo water > /data/w/level; httpd -p 8080 -h /data/w; echo own > /srv/own; touch /tmp/x")
			held := f.Holds()
			f.fall()
			d = f.driver("vega")
			assert.ElementsMatch(t, held, f.Holds())
			again, err := d.Read(ctx, kinds.Interface, nic.ID)
			require.NoError(t, err)
			assert.Equal(t, nic.Attributes, again.Attributes, "the same address, ports and keys")
			page, err := http.Get("http://" + net.JoinHostPort(nic.Attributes["address"], nic.Attributes["port.8080"]) + "/level")
			require.NoError(t, err)
			body, _ := io.ReadAll(page.Body)
			page.Body.Close()
			assert.Equal(t, "water\n", string(body), "what ran runs, from the volume")
			out := script(t, shell(t, nic, signer), "cat /srv/own; hostname; ls /tmp; cat /data/w/level")
			assert.Equal(t, "own\nnode\nwater\n", out)
			next := built(t, d, site.Request{Kind: kinds.Volume, Name: "more", DiskGiB: 1})
			for _, h := range held {
				assert.NotEqual(t, h.ID, next.ID, "an id is not given twice")
			}
		})
	}
}

func TestAStoppedASuspendedAndAnUnfinishedThingComeBack(t *testing.T) {
	f := kept(t, false)
	d, signer := f.driver("vega"), key(t)
	instance, nic := builtMachine(t, d, signer, 8080)
	script(t, shell(t, nic, signer), "echo water > /srv/level; httpd -p 8080 -h /srv")
	_, err := d.Invoke(ctx, kinds.Instance, instance.ID, wire.ActionSuspend)
	require.NoError(t, err)
	f.fall()
	d = f.driver("vega")
	got, err := d.Read(ctx, kinds.Instance, instance.ID)
	require.NoError(t, err)
	assert.Equal(t, site.Suspended, got.State)
	answered := make(chan string, 1)
	go func() {
		page, err := http.Get("http://" + net.JoinHostPort(nic.Attributes["address"], nic.Attributes["port.8080"]) + "/level")
		if err != nil {
			answered <- err.Error()
			return
		}
		defer page.Body.Close()
		body, _ := io.ReadAll(page.Body)
		answered <- string(body)
	}()
	_, err = d.Invoke(ctx, kinds.Instance, instance.ID, "start")
	require.NoError(t, err)
	select {
	case body := <-answered:
		assert.Equal(t, "water\n", body, "who asked while it was suspended waited")
	case <-time.After(time.Minute):
		t.Fatal("nothing answered")
	}
	_, err = d.Invoke(ctx, kinds.Instance, instance.ID, "stop")
	require.NoError(t, err)
	f.fall()
	d = f.driver("vega")
	_, err = d.Invoke(ctx, kinds.Instance, instance.ID, "start")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		got, err := d.Read(ctx, kinds.Instance, instance.ID)
		return err == nil && got.State == site.Active
	}, 2*time.Minute, 2*time.Millisecond)
	assert.Equal(t, "water\n", script(t, shell(t, nic, signer), "cat /srv/level"))
	made, err := d.Create(ctx, site.Request{Kind: kinds.Volume, Name: "unfinished", DiskGiB: 1})
	require.NoError(t, err)
	f.fall()
	d = f.driver("vega")
	require.Eventually(t, func() bool {
		got, err := d.Read(ctx, kinds.Volume, made.ID)
		return err == nil && got.State == site.Active
	}, 2*time.Minute, 2*time.Millisecond, "what was being built is built on")
}

func TestCredentialsPairsAndNamesComeBack(t *testing.T) {
	f := kept(t, false)
	d := f.driver("vega")
	fresh, err := d.Rotate(ctx, "")
	require.NoError(t, err)
	other := f.driver("presa")
	peer, err := other.Self(ctx)
	require.NoError(t, err)
	d = occi.New("vega", f.Endpoints[0].URL, fresh)
	for _, at := range f.Endpoints {
		if at.Site == "vega" {
			d = occi.New("vega", at.URL, fresh)
		}
	}
	require.NoError(t, d.Pair(ctx, peer))
	zone := names.Zone{Name: "ribera.test", Server: f.Names.Address, Key: f.Names.Key, Secret: f.Names.Secret, Algorithm: "hmac-sha256", TTL: 2}
	update := new(dns.Msg).SetUpdate("ribera.test.")
	rr, err := dns.NewRR(`level.ribera.test. 2 IN TXT "a \"quoted\" text"`)
	require.NoError(t, err)
	update.Insert([]dns.RR{rr})
	update.SetTsig(zone.Key, dns.HmacSHA256, 300, time.Now().Unix())
	client := &dns.Client{TsigSecret: map[string]string{zone.Key: zone.Secret}}
	answer, _, err := client.Exchange(update, zone.Server)
	require.NoError(t, err)
	require.Equal(t, dns.RcodeSuccess, answer.Rcode)
	was, serial := f.Names.Kept(), f.Names.Serial()
	f.fall()
	assert.Equal(t, was, f.Names.Kept())
	assert.Equal(t, serial, f.Names.Serial())
	question := new(dns.Msg).SetQuestion("level.ribera.test.", dns.TypeTXT)
	answer, err = dns.Exchange(question, f.Names.Address)
	require.NoError(t, err)
	require.Len(t, answer.Answer, 1)
	assert.Equal(t, rr.String(), answer.Answer[0].String())
	_, err = d.Access(ctx)
	require.NoError(t, err, "the credential that was changed is good")
	_, err = f.driver("vega").Access(ctx)
	require.Error(t, err, "and the one before is not")
	_, err = d.Try(ctx, "presa")
	require.NoError(t, err)
}

func TestKeptStandInsAreOneAtATimeAndSayWhatIsBroken(t *testing.T) {
	f := kept(t, false)
	_, err := Start(f.cfg)
	require.ErrorContains(t, err, "run already")
	require.NoError(t, f.Close())
	file := filepath.Join(f.cfg.Folder, "vega", "site.json")
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, c := range []struct{ text, want string }{
		{string(good[:len(good)/2]), "damaged"},
		{`{"format": "andamio.stand-ins/9"}`, "does not know"},
		{"", "damaged"},
	} {
		require.NoError(t, os.WriteFile(file, []byte(c.text), 0o600))
		_, err = Start(f.cfg)
		require.ErrorContains(t, err, c.want)
		require.ErrorContains(t, err, file)
	}
	require.NoError(t, os.Remove(file))
	_, err = Start(f.cfg)
	require.ErrorContains(t, err, "is gone")
	require.NoError(t, os.WriteFile(file, good, 0o600))
	f.Sandbox, err = Start(f.cfg)
	require.NoError(t, err)
}

func TestWhatWasRemovedLeavesNoFiles(t *testing.T) {
	f := kept(t, false)
	d := f.driver("vega")
	volume := built(t, d, site.Request{Kind: kinds.Volume, Name: "data", DiskGiB: 2})
	dir := filepath.Join(f.cfg.Folder, "vega", "disks")
	files := func() []os.DirEntry {
		list, err := os.ReadDir(dir)
		require.NoError(t, err)
		return list
	}
	assert.NotEmpty(t, files())
	require.NoError(t, d.Delete(ctx, kinds.Volume, volume.ID))
	assert.Empty(t, files())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "vega-storage-99.pages"), nil, 0o600))
	f.fall()
	assert.Empty(t, files(), "what a stand-in had no time to remove")
}
