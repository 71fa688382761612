package api

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/service/tokens"
)

// ofClients is an authority in a file, and a certificate of a program that it vouches for.
func ofClients(t *testing.T, dir string) (authority string, program tls.Certificate) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	now := time.Now()
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "programs"}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, ca, ca, &key.PublicKey, key)
	require.NoError(t, err)
	authority = filepath.Join(dir, "programs.pem")
	require.NoError(t, os.WriteFile(authority, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "flood desk"}, NotBefore: ca.NotBefore, NotAfter: ca.NotAfter, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	der, err = x509.CreateCertificate(rand.Reader, leaf, ca, &own.PublicKey, key)
	require.NoError(t, err)
	return authority, tls.Certificate{Certificate: [][]byte{der}, PrivateKey: own}
}

// TestOnlyProgramsWithACertificateAreServed asks with and without one, and with one that nobody vouches for.
func TestOnlyProgramsWithACertificateAreServed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	made, err := MakePair([]string{"localhost", "127.0.0.1"}, time.Now())
	require.NoError(t, err)
	for name, data := range map[string][]byte{"c.pem": made.Certificate, "k.pem": made.Key} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	authority, program := ofClients(t, dir)
	_, stranger := ofClients(t, t.TempDir())
	where := Where{Address: "127.0.0.1:0", Certificate: filepath.Join(dir, "c.pem"), Key: filepath.Join(dir, "k.pem"), Clients: filepath.Join(dir, "k.pem")}
	_, err = where.Open()
	require.Equal(t, fault.Invalid, fault.CodeOf(err), "that is no authority: %v", err)
	where.Clients = authority
	l, err := where.Open()
	require.NoError(t, err)
	a, err := app.Open(t.Context(), filepath.Join(dir, "ws"), app.Idle())
	require.NoError(t, err)
	defer a.Close()
	ctx, cancel := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() { served <- New(a, Usual).Serve(ctx, l) }()
	secret := tokenOf(t, a, tokens.Wish{Name: "test"})
	trust := x509.NewCertPool()
	require.True(t, trust.AppendCertsFromPEM(made.Authority))
	ask := func(of ...tls.Certificate) (*http.Response, error) {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, URL(l)+"/tokens", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+secret)
		over := &http.Transport{TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: trust, Certificates: of}, ForceAttemptHTTP2: true}
		defer over.CloseIdleConnections()
		resp, err := (&http.Client{Transport: over}).Do(req)
		if err == nil {
			resp.Body.Close()
		}
		return resp, err
	}
	resp, err := ask(program)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, resp.StatusCode)
	_, err = ask()
	require.Error(t, err, "a token alone is not enough")
	_, err = ask(stranger)
	require.Error(t, err)
	cancel()
	require.NoError(t, <-served)
}
