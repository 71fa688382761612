package app

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"log"
	"math/big"
	"net"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
	"andamio/internal/web"
)

// authority vouches for certificates, which it writes to files.
type authority struct {
	t    *testing.T
	dir  string
	cert *x509.Certificate
	key  ed25519.PrivateKey
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	a := &authority{t: t, dir: t.TempDir()}
	_, a.key, _ = ed25519.GenerateKey(rand.Reader)
	a.cert = a.signed("ca", &x509.Certificate{SerialNumber: big.NewInt(1), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}, a.key, a.key)
	return a
}

func (a *authority) signed(name string, c *x509.Certificate, key, by ed25519.PrivateKey) *x509.Certificate {
	a.t.Helper()
	c.Subject, c.NotBefore, c.NotAfter = pkix.Name{CommonName: name}, time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	parent := a.cert
	if parent == nil {
		parent = c
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, key.Public(), by)
	require.NoError(a.t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(a.t, err)
	a.write(name+".pem", "CERTIFICATE", der)
	a.write(name+".key", "PRIVATE KEY", private)
	out, err := x509.ParseCertificate(der)
	require.NoError(a.t, err)
	return out
}

func (a *authority) write(name, kind string, der []byte) {
	require.NoError(a.t, os.WriteFile(a.file(name), pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600))
}

func (a *authority) file(name string) string { return filepath.Join(a.dir, name) }

// issue makes a certificate for 127.0.0.1.
func (a *authority) issue(name string) *x509.Certificate {
	_, key, _ := ed25519.GenerateKey(rand.Reader)
	return a.signed(name, &x509.Certificate{SerialNumber: big.NewInt(2), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}, key, a.key)
}

// guarded serves a stand-in over TLS, to those alone whom the authority vouches for.
func (a *authority) guarded(to string) *httptest.Server {
	a.t.Helper()
	u, err := url.Parse(to)
	require.NoError(a.t, err)
	a.issue("site")
	pair, err := tls.LoadX509KeyPair(a.file("site.pem"), a.file("site.key"))
	require.NoError(a.t, err)
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	s := httptest.NewUnstartedServer(httputil.NewSingleHostReverseProxy(u))
	s.Config.ErrorLog = log.New(io.Discard, "", 0)
	s.TLS = &tls.Config{Certificates: []tls.Certificate{pair}, ClientCAs: pool, ClientAuth: tls.RequireAndVerifyClientCert}
	s.StartTLS()
	a.t.Cleanup(s.Close)
	return s
}

// trusting has a connection trust whom an answer on screen says.
func trusting(c *workspace.Connection, answer string) error {
	d, err := c.Kit()
	if err != nil {
		return err
	}
	for _, q := range d.Questions {
		if q.Word != "trust" {
			continue
		}
		v, err := q.Answer(answer)
		if err != nil {
			return err
		}
		for _, f := range q.Fields { // what is not said is not meant
			if v[f.Name] == "" {
				v[f.Name] = ""
			}
		}
		return c.Tell(v)
	}
	return nil
}

// TestWhomAConnectionTrusts connects a site over TLS with everything, and leaves out each part in turn.
func TestWhomAConnectionTrusts(t *testing.T) {
	t.Parallel()
	a, _, c := unconnected(t)
	ca, other := newAuthority(t), newAuthority(t)
	tell(t, &c, workspace.Values{"url": ca.guarded(c.Address()).URL})
	ca.issue("us")
	other.issue("us")
	pair, err := tls.LoadX509KeyPair(ca.file("site.pem"), ca.file("site.key"))
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	require.NoError(t, err)
	pin := web.PinOf(leaf)
	wrongPin := web.PinOf(ca.cert)
	whole := "authority " + ca.file("ca.pem") + ", pin " + pin + ", certificate " + ca.file("us.pem") + ", key " + ca.file("us.key")
	for _, x := range []struct{ name, trust, says string }{
		{"nothing", "", "nobody whom this machine trusts vouches"},
		{"no certificate", "authority " + ca.file("ca.pem"), "certificate required"},
		{"one of others", "authority " + ca.file("ca.pem") + ", certificate " + other.file("us.pem") + ", key " + other.file("us.key"), "certificate"},
		{"another authority", "authority " + other.file("ca.pem") + ", certificate " + ca.file("us.pem") + ", key " + ca.file("us.key"), "vouches"},
		{"another pin", "authority " + ca.file("ca.pem") + ", pin " + wrongPin + ", certificate " + ca.file("us.pem") + ", key " + ca.file("us.key"), "was expected"},
		{"a pin that is none", "pin abc", "SHA-256"},
		{"a key that is another's", "certificate " + ca.file("us.pem") + ", key " + other.file("us.key"), "do not go together"},
		{"no certificates in the file", "authority " + ca.file("us.key"), "holds no certificate"},
	} {
		try := c
		require.NoError(t, trusting(&try, x.trust), x.name)
		_, err := a.Test(ctx, try)
		assert.ErrorContains(t, err, x.says, x.name)
	}
	require.Error(t, trusting(&c, "authority /none/such.pem"))
	require.ErrorContains(t, trusting(&c, "authority /dev/zero"), "only plain files are read")
	require.ErrorContains(t, trusting(&c, "whoever"), "write authority FILE, pin DIGEST, certificate FILE, key FILE or in clear")
	require.NoError(t, trusting(&c, whole))
	_, err = a.Connect(ctx, c)
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(ca.dir), "what is in the files is kept")
	_, err = another(t, a).Survey(ctx, reconcile.SurveyRequest{Site: "vega"})
	require.NoError(t, err)
	kept, err := a.workspace.Files().Read(workspace.FileSites)
	require.NoError(t, err)
	assert.NotContains(t, string(kept), "PRIVATE KEY")
	got, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	assert.Contains(t, got.Says(), "own authority · pinned to its key "+pin[:8])
}

func TestNothingGoesInClearUnlessItIsMeant(t *testing.T) {
	for _, x := range []struct {
		url, trust, says string
		clear            bool
	}{
		{"https://vega.ribera.test", "", "", false},
		{"http://127.0.0.1:8080", "", "", false},
		{"http://[::1]:8080", "", "", false},
		{"http://localhost:8080", "", "", false},
		{"http://127.0.0.1.ribera.test", "", "in clear", true},
		{"http://localhost.ribera.test", "", "in clear", true},
		{"http://10.0.0.1", "", "in clear", true},
		{"http://10.0.0.1", "in clear", "", true},
		{"http://127.0.0.1:8080", "pin x", "of no use over http", false},
		{"http://10.0.0.1", "in clear, pin x", "of no use over http", true},
	} {
		c := workspace.Connection{Settings: workspace.Values{"url": x.url}}
		require.NoError(t, trusting(&c, x.trust))
		err := c.CheckSettings()
		if x.says == "" {
			assert.NoError(t, err, x.url)
		} else {
			assert.ErrorContains(t, err, x.says, x.url)
		}
		assert.Equal(t, x.clear, c.Exposed() != "", x.url)
	}
	c := workspace.Connection{Settings: workspace.Values{"url": "http://10.0.0.1"}}
	assert.Contains(t, c.Says(), "can be read on the way")
}

// TestNoticesComeOverTLS hears a stand-in's notices at an address that an own authority vouches for.
func TestNoticesComeOverTLS(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	ca := newAuthority(t)
	ca.issue("us")
	_, err := a.Listen(ctx, Listening{Address: "127.0.0.1:0", Certificate: ca.file("us.pem"), Key: ca.file("none")})
	require.ErrorContains(t, err, "do not go together")
	l, err := a.Listen(ctx, Listening{Address: "127.0.0.1:0", Certificate: ca.file("us.pem"), Key: ca.file("us.key")})
	require.NoError(t, err)
	assert.Contains(t, l.URL(), "https://127.0.0.1:")
	assert.False(t, l.InClear())
	_, err = a.Survey(ctx, reconcile.SurveyRequest{Site: "vega"})
	require.NoError(t, err)
	sites, err := a.Sites()
	require.NoError(t, err)
	_, err = sites["vega"].Create(ctx, site.Request{Kind: kinds.Volume, Name: "told", DiskGiB: 1})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return l.Taken.Load() > 0 }, 2*time.Minute, 5*time.Millisecond)
	require.NoError(t, l.Close(ctx))
}
