package sandbox

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnAddressIsWaitedForUntilItIsFree holds that a stand-in comes back where it was though who was there has not let the address go yet.
func TestAnAddressIsWaitedForUntilItIsFree(t *testing.T) {
	first, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	got := make(chan error, 1)
	where := first.Addr().String()
	go func() {
		l, err := listen(where)
		if err == nil {
			err = l.Close()
		}
		got <- err
	}()
	_, err = net.Listen("tcp", where)
	require.Error(t, err, "it is taken")
	require.NoError(t, first.Close())
	assert.NoError(t, <-got)
	_, err = listen("nowhere")
	assert.Error(t, err, "what will never be is said at once")
}
