package app

import (
	"andamio/internal/core/fault"
	"andamio/internal/core/mapping"
	"andamio/internal/sandbox"
	"crypto/rand"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNoticesOfSomebodyElse has a program of others (the commands of docs/inventory.md, word for word) tell of a machine: signed with the secret
// that was made for it, with that before it, and about the machine as if it were a network.
func TestNoticesOfSomebodyElse(t *testing.T) {
	t.Parallel()
	for _, program := range []string{"openssl", "curl"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip(program, "is not installed here")
		}
	}
	a, box, _ := deployed(t)
	l, err := a.Listen(ctx, Listening{Address: "127.0.0.1:0"})
	require.NoError(t, err)
	defer l.Close(ctx)
	_, err = a.MakeSenderSecret(ctx, "mars")
	assert.Equal(t, fault.NotFound, fault.CodeOf(err), "%v", err)
	old, err := a.MakeSenderSecret(ctx, "vega")
	require.NoError(t, err)
	secret, err := a.MakeSenderSecret(ctx, "vega")
	require.NoError(t, err)

	held := slices.DeleteFunc(box.Holds(), func(h sandbox.Held) bool { return h.Site != "vega" || h.Term != "compute" })
	require.NotEmpty(t, held)
	guide, err := os.ReadFile("../../docs/inventory.md")
	require.NoError(t, err)
	_, after, _ := strings.Cut(string(guide), "```sh\n")
	script, _, _ := strings.Cut(after, "```")
	tell := func(secret, id, kind string) (string, error) {
		text := strings.NewReplacer(`"id":"1"`, `"id":"`+rand.Text()+`"`, "c-17", id, `"kind":"compute"`, `"kind":"`+kind+`"`, "$URL/SITE", "http://"+l.Address()+"/vega").Replace(script)
		cmd := exec.CommandContext(ctx, "sh", "-euc", text)
		cmd.Env = append(os.Environ(), "SECRET="+secret)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	there := func(id string) bool {
		all, err := a.store.Observations(ctx)
		require.NoError(t, err)
		return slices.ContainsFunc(all, func(o mapping.Observation) bool { return o.Site == "vega" && o.ID == id })
	}
	out, err := tell(old, held[0].ID, "compute")
	assert.Error(t, err, "what was replaced counts no longer: %s", out)
	assert.Contains(t, out, "401")
	for _, kind := range []string{"compute", "network", "teapot"} {
		out, err = tell(secret, held[0].ID, kind)
		require.NoError(t, err, out)
		assert.True(t, there(held[0].ID), "what is there is not gone because it was called a %s", kind)
	}
	out, err = tell(secret, "i-gone", "compute")
	require.NoError(t, err, out)
	assert.False(t, there("i-gone"))
}
