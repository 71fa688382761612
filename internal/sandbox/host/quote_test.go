package host

import (
	"bytes"
	"context"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"andamio/internal/remote"
)

// FuzzAnyInputReachesAScriptUnchanged has a value given as scripts are given theirs, to a real shell and to that of the
// stand-ins, which print it as it is.
func FuzzAnyInputReachesAScriptUnchanged(f *testing.F) {
	for _, v := range []string{"", "plain", "it's", `a'"'"'b`, `'\''`, "two\nlines\n", "tab\tand\rreturn\r\n", "$HOME `id` $(id) \\", "\xff\xfe\x80", "ünïcödé \u202e", "'", "''", "\\'", "!", "~", "#", "\x01\x7f", "a\\\nb"} {
		f.Add([]byte(v))
	}
	dash, err := exec.LookPath("dash")
	if err != nil {
		dash = "sh"
	}
	h, err := New("node", 0.001, "", nil, nil)
	require.NoError(f, err)
	f.Cleanup(h.Close)
	f.Fuzz(func(t *testing.T, value []byte) {
		if bytes.ContainsRune(value, 0) {
			t.Skip("a NUL is refused before")
		}
		script := "exec 2>&1\n" + remote.Export("VALUE", string(value)) + "printf '%s' \"$VALUE\"\n"
		cmd := exec.Command(dash, "-s")
		cmd.Stdin = strings.NewReader(script)
		out, err := cmd.Output()
		require.NoError(t, err)
		require.Equal(t, value, append([]byte{}, out...), "a real shell")
		var told bytes.Buffer
		require.Zero(t, h.Run(context.Background(), script, nil, nil, &told, &told))
		require.Equal(t, value, append([]byte{}, told.Bytes()...), "a stand-in")
	})
}
