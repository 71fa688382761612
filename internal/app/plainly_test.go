package app

import (
	"context"
	"crypto/x509"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/workspace"
	"andamio/internal/site"
)

// TestErrorsOfConnectingSpeakOfTheSite has each thing go wrong that may when a site is connected, and reads what people are
// told: what, where and what to do, and nothing of how it was asked.
func TestErrorsOfConnectingSpeakOfTheSite(t *testing.T) {
	wrapped := func(err error) error {
		return &site.Error{Site: "vega", Doing: "ask for the rights", Class: site.Transient, Err: &url.Error{Op: "Get", URL: "http://x", Err: err}}
	}
	for name, c := range map[string]struct {
		err  error
		want string
	}{
		"nothing listens":      {wrapped(&net.OpError{Op: "dial", Net: "tcp", Err: syscall.ECONNREFUSED}), "nothing listens there"},
		"there is no way":      {wrapped(&net.OpError{Op: "dial", Net: "tcp", Err: syscall.EHOSTUNREACH}), "there is no way to it from here"},
		"nobody knows it":      {wrapped(&net.DNSError{Name: "vega.test", IsNotFound: true}), "nobody knows the name vega.test"},
		"an unknown authority": {wrapped(x509.UnknownAuthorityError{}), "nobody whom this machine trusts vouches for its certificate"},
		"another's name":       {wrapped(x509.HostnameError{Certificate: &x509.Certificate{}, Host: "vega"}), "its certificate is for another name"},
		"it is silent":         {wrapped(context.DeadlineExceeded), "no answer came in time"},
		"it says why":          {&site.Error{Site: "vega", Doing: "x", Class: site.Refused, Detail: "the account is closed"}, "the account is closed"},
		"it says nothing":      {&site.Error{Site: "vega", Doing: "x", Class: site.Refused, Err: errors.New("odd")}, "odd"},
		"anything else":        {errors.New("odd"), "odd"},
	} {
		assert.Equal(t, c.want, plainly(c.err), name)
		told := hint(workspace.Connection{Site: "vega", Settings: workspace.Values{"url": "https://vega.test:8443"}}, c.err)
		assert.Contains(t, told.Error(), c.want, name)
		assert.NotContains(t, told.Error(), "transient", name)
		assert.NotContains(t, told.Error(), "ask for the rights", name)
		assert.ErrorIs(t, told, c.err, "what it comes from is still to be found in it")
	}
}

func TestAConnectionThatDoesNotWorkSaysWhy(t *testing.T) {
	t.Parallel()
	a, err := Open(ctx, t.TempDir(), Idle())
	require.NoError(t, err)
	defer a.Close()
	c := workspace.Connection{Site: "vega", Kind: "private", Settings: workspace.Values{"url": "http://127.0.0.1:1"}, TimeZone: "UTC", Secrets: workspace.Values{"token": "tok-0123456789"}}
	_, err = a.Test(ctx, c)
	require.ErrorContains(t, err, "vega does not answer at http://127.0.0.1:1: nothing listens there; look at the address and port")
	assert.NotContains(t, err.Error(), "tok-0123")
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusUnauthorized)
		_, _ = w.Write([]byte(`{"message":"nobody has this token"}`))
	}))
	defer server.Close()
	tell(t, &c, workspace.Values{"url": server.URL})
	_, err = a.Test(ctx, c)
	require.ErrorContains(t, err, "vega does not take the credential: nobody has this token; look whether it is whole")
}
