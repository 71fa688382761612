package sites

import (
	"context"
	"crypto/x509"
	"errors"
	"net"
	"net/url"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"

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
		told := Hint(workspace.Connection{Site: "vega", Settings: workspace.Values{"url": "https://vega.test:8443"}}, c.err)
		assert.Contains(t, told.Error(), c.want, name)
		assert.NotContains(t, told.Error(), "transient", name)
		assert.NotContains(t, told.Error(), "ask for the rights", name)
		assert.ErrorIs(t, told, c.err, "what it comes from is still to be found in it")
	}
}
