package api

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"strconv"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/web"
)

// Pin is what the certificate of the server is known by (RFC 7469, section 2.4); "" in clear.
func (w Where) Pin() (string, error) {
	c, err := w.config()
	if c == nil || err != nil {
		return "", err
	}
	leaf, err := x509.ParseCertificate(c.Certificates[0].Certificate[0])
	if err != nil {
		return "", err
	}
	return web.PinOf(leaf), nil
}

// ReachedAt is where others reach a listener's server: one that listens at every address is reached by the name of this machine.
func ReachedAt(l net.Listener) string {
	at, is := l.Addr().(*net.TCPAddr)
	if !is || !at.IP.IsUnspecified() {
		return URL(l)
	}
	name, err := os.Hostname()
	if err != nil {
		name = "localhost"
	}
	return scheme(l) + "://" + net.JoinHostPort(name, strconv.Itoa(at.Port)) + "/" + Version
}

// config is how a server shows who it is; nil in clear.
func (w Where) config() (*tls.Config, error) {
	if w.Certificate == "" && w.Key == "" {
		if w.Clients != "" {
			return nil, fault.Invalidf("programs are known by their certificates only where the server has one")
		}
		return nil, nil
	}
	pair, err := tls.LoadX509KeyPair(w.Certificate, w.Key)
	if err != nil {
		return nil, fault.Invalidf("%s and %s are no certificate and its key: %w", w.Certificate, w.Key, err)
	}
	c := &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}, NextProtos: []string{"h2", "http/1.1"}}
	if w.Clients == "" {
		return c, nil
	}
	data, err := os.ReadFile(w.Clients)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	c.ClientCAs, c.ClientAuth = x509.NewCertPool(), tls.RequireAndVerifyClientCert
	if !c.ClientCAs.AppendCertsFromPEM(data) {
		return nil, fault.Invalidf("%s has no certificate of an authority (PEM)", w.Clients)
	}
	return c, nil
}

// firstDay is for how long certificates hold that are made for a first day.
const firstDay = 365 * 24 * time.Hour

// Pair is a certificate with its key, in PEM, and the authority that vouches for it.
type Pair struct{ Authority, Certificate, Key []byte }

// MakePair makes a certificate of names and addresses with an authority of its own, whose key nobody keeps: it vouches for this one alone (RFC 5280).
func MakePair(hosts []string, now time.Time) (Pair, error) {
	authority := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: "Andamio, for a first day"}, NotBefore: now.Add(-time.Minute), NotAfter: now.Add(firstDay),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign}
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Pair{}, err
	}
	vouched, err := x509.CreateCertificate(rand.Reader, authority, authority, &own.PublicKey, own)
	if err != nil {
		return Pair{}, err
	}
	server := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano() + 1), Subject: pkix.Name{CommonName: hosts[0]}, NotBefore: authority.NotBefore, NotAfter: authority.NotAfter,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, h := range hosts {
		if ip := net.ParseIP(h); ip != nil {
			server.IPAddresses = append(server.IPAddresses, ip)
		} else {
			server.DNSNames = append(server.DNSNames, h)
		}
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Pair{}, err
	}
	certificate, err := x509.CreateCertificate(rand.Reader, server, authority, &key.PublicKey, own)
	if err != nil {
		return Pair{}, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return Pair{}, err
	}
	block := func(kind string, data []byte) []byte { return pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: data}) }
	return Pair{block("CERTIFICATE", vouched), append(block("CERTIFICATE", certificate), block("CERTIFICATE", vouched)...), block("PRIVATE KEY", secret)}, nil
}
