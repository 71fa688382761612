package app

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/workspace"
)

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
