package libvirt_test

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/site"
	"andamio/internal/site/driver"
	"andamio/internal/site/libvirt"
)

// joined has two connections say to each other what each hears.
func joined(a, b io.ReadWriteCloser) {
	go func() { _, _ = io.Copy(a, b); a.Close() }()
	_, _ = io.Copy(b, a)
	b.Close()
}

// sshPair is a private key as a file has it, and the key itself.
func sshPair(t *testing.T) (string, ssh.Signer) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block)), signer
}

// overSSH is an SSH server that lets a key forward to sockets, and nothing else.
func overSSH(t *testing.T, own ssh.Signer, client ssh.PublicKey) string {
	t.Helper()
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if string(key.Marshal()) != string(client.Marshal()) {
			return nil, assert.AnError
		}
		return nil, nil
	}}
	config.AddHostKey(own)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	serve := func(raw net.Conn) {
		conn, channels, requests, err := ssh.NewServerConn(raw, config)
		if err != nil {
			return
		}
		defer conn.Close()
		go ssh.DiscardRequests(requests)
		for c := range channels {
			var want struct {
				Path, Reserved string
				Port           uint32
			}
			if c.ChannelType() != "direct-streamlocal@openssh.com" || ssh.Unmarshal(c.ExtraData(), &want) != nil {
				_ = c.Reject(ssh.UnknownChannelType, "no")
				continue
			}
			to, err := net.DialTimeout("unix", want.Path, time.Second)
			if err != nil {
				_ = c.Reject(ssh.ConnectionFailed, err.Error())
				continue
			}
			from, more, err := c.Accept()
			if err != nil {
				return
			}
			go ssh.DiscardRequests(more)
			go joined(from, to)
		}
	}
	go func() {
		for {
			raw, err := l.Accept()
			if err != nil {
				return
			}
			go serve(raw)
		}
	}()
	return l.Addr().String()
}

// overTLS is a daemon over TLS in front of a socket, that takes only whom its authority vouches for.
func overTLS(t *testing.T, socket string) (address, authority, certificate, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	of := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "forja"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	raw, err := x509.CreateCertificate(rand.Reader, of, of, private.Public(), private)
	require.NoError(t, err)
	certificate = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}))
	bytes, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	key = string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: bytes}))
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(certificate))
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{raw}, PrivateKey: private}}, ClientAuth: tls.RequireAnyClientCert, ClientCAs: pool})
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
				conn := c.(*tls.Conn)
				if conn.HandshakeContext(t.Context()) != nil {
					return
				}
				_, err := conn.ConnectionState().PeerCertificates[0].Verify(x509.VerifyOptions{Roots: pool, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
				taken := byte(1)
				if err != nil {
					taken = 0
				}
				if _, err := conn.Write([]byte{taken}); err != nil || taken == 0 {
					return
				}
				if to, err := net.DialTimeout("unix", socket, time.Second); err == nil {
					joined(conn, to)
				}
			}()
		}
	}()
	return l.Addr().String(), certificate, certificate, key
}

// TestEveryWayThere has a daemon be reached over SSH and TLS, and not by whoever it does not know, nor where the host is another.
func TestEveryWayThere(t *testing.T) {
	h := host(t)
	private, client := sshPair(t)
	_, own := sshPair(t)
	stranger, _ := sshPair(t)
	_, other := sshPair(t)
	at := "ssh://ana@" + overSSH(t, own, client.PublicKey()) + h.Socket()
	known := string(ssh.MarshalAuthorizedKey(own.PublicKey()))
	secure, authority, certificate, key := overTLS(t, h.Socket())
	_, _, elses, elsesKey := overTLS(t, h.Socket())
	for name, c := range map[string]struct {
		v    driver.Values
		says string
	}{
		"a socket":                      {driver.Values{"hosts": "unix:" + h.Socket()}, ""},
		"SSH":                           {driver.Values{"hosts": at, "key": private, "host-key": known}, ""},
		"SSH with another's key":        {driver.Values{"hosts": at, "key": stranger, "host-key": known}, "unable to authenticate"},
		"SSH to another host":           {driver.Values{"hosts": at, "key": private, "host-key": string(ssh.MarshalAuthorizedKey(other.PublicKey()))}, "host key mismatch"},
		"SSH where nobody listens":      {driver.Values{"hosts": at + "-gone", "key": private, "host-key": known}, "no such file"},
		"TLS":                           {driver.Values{"hosts": "tls://" + secure, "authority": authority, "certificate": certificate, "key": key}, ""},
		"TLS with another's":            {driver.Values{"hosts": "tls://" + secure, "authority": authority, "certificate": elses, "key": elsesKey}, "does not take the certificate"},
		"TLS to one nobody vouches for": {driver.Values{"hosts": "tls://" + secure, "certificate": certificate, "key": key}, "certificate"},
		"no socket":                     {driver.Values{"hosts": "unix:/no/such/socket"}, "no such file"},
	} {
		kit := libvirt.Kit()
		v, err := kit.Normal(c.v)
		require.NoError(t, err, name)
		d, err := kit.Open(driver.Terms{Site: "forja", Values: v, Patience: 5 * time.Second})
		require.NoError(t, err, name)
		access, err := d.(site.Surveyor).Access(t.Context())
		if c.says == "" {
			require.NoError(t, err, name)
			assert.NotEmpty(t, access.Account, name)
			continue
		}
		assert.ErrorContains(t, err, c.says, name)
		assert.Equal(t, site.Transient, site.ClassOf(err), name)
	}
}
