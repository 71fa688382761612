package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/core/plan"
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

// TestWhatAScriptComplainsOfIsSaid has a script of ours write to both of its outputs at once: what it complained of is part of why it failed, whenever it came.
func TestWhatAScriptComplainsOfIsSaid(t *testing.T) {
	server := testprogram.StartOpenSSH(t)
	attributes := map[string]string{site.AttrAddress: server.Address, site.AttrSSHPort: server.Port, site.AttrSSHUser: server.User}
	for _, key := range server.HostKeys {
		attributes[site.AttrHostKey] = key
	}
	c, err := Dial(t.Context(), func(name string) (string, bool) { v, ok := attributes[name]; return v, ok }, "vm-1", server.Key)
	require.NoError(t, err)
	defer c.Close()
	s := &plan.Step{Site: "vega"}
	for range 20 {
		err = quietly(t.Context(), s, c, "/dev/vdc /srv", `echo "$device is busy" >&2; echo "in use by $place"; exit 3`)
		require.EqualError(t, err, "it ended with 3: /dev/vdc is busy\nin use by /srv")
		require.Equal(t, site.Refused, site.ClassOf(err))
	}
	require.NoError(t, quietly(t.Context(), s, c, "/dev/vdc /srv", "exit 0"))
}
