package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/site"
	"andamio/internal/testprogram"
)

// TestServersAreKnownByAnyOfTheirKeys logs in to a server of OpenSSH as it is out of its package, which has keys of three kinds: whichever of them the site
// told, that one is asked for.
func TestServersAreKnownByAnyOfTheirKeys(t *testing.T) {
	server := testprogram.StartOpenSSH(t)
	require.Len(t, server.HostKeys, 3)
	dial := func(hostKey string) error {
		attributes := map[string]string{site.AttrAddress: server.Address, site.AttrSSHPort: server.Port, site.AttrSSHUser: server.User, site.AttrHostKey: hostKey}
		c, err := Dial(t.Context(), func(name string) (string, bool) { v, ok := attributes[name]; return v, ok }, "vm-1", server.Key)
		if err == nil {
			status, err := c.Run(t.Context(), "exit 7", func(*ssh.Session) {})
			assert.NoError(t, err)
			assert.Equal(t, 7, status)
			c.Close()
		}
		return err
	}
	for kind, key := range server.HostKeys {
		assert.NoError(t, dial(key), "it is known by its key of %s", kind)
	}
	assert.Error(t, dial(publicKey(signer(t))), "and by no other's")
}
