package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestOptionsRefuseWordsThatThereAreNot gives every option with a fixed set a word that is not in it.
func TestOptionsRefuseWordsThatThereAreNot(t *testing.T) {
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"reconcile", "--type", "chnged"}, `there is no "chnged"; changed may have been meant`},
		{[]string{"reconcile", "--settle", "adpt"}, `adopt may have been meant`},
		{[]string{"export", "1", "--as", "elevaton"}, `elevation may have been meant`},
		{[]string{"export", "1", "--by", "colour"}, `there is no "colour"; there are site, service`},
		{[]string{"move", "plan", "x", "--mode", "wram"}, `warm may have been meant`},
		{[]string{"move", "plan", "x", "--compress", "sometimes"}, `there are on, off`},
		{[]string{"site", "add", "x", "--kind", "privat"}, `private may have been meant`},
		{[]string{"names", "connect", "x", "--algorithm", "hmac-sha265"}, `hmac-sha256 may have been meant`},
		{[]string{"demo", "--headless", "--preset", "dril"}, `drill may have been meant`},
	} {
		code, _, errOut := call(append(c.args, "--workspace", t.TempDir())...)
		assert.Equal(t, 2, code, "%v: %s", c.args, errOut)
		assert.Contains(t, errOut, c.says, "%v", c.args)
	}
}
