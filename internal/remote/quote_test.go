package remote

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTextIsOneWordOfTheShell(t *testing.T) {
	assert.Equal(t, `'it'"'"'s'`, Quote("it's"))
	assert.Equal(t, "''", Quote(""))
	assert.Equal(t, "export A='x y\n'\n", Export("A", "x y\n"))
	assert.Equal(t, "export A=\"$(printf '\\141\\015.')\"; A=\"${A%.}\"\n", Export("A", "a\r"), "a carriage return is not read alike by all")
	assert.Equal(t, "export A=\"$(printf '\\377.')\"; A=\"${A%.}\"\n", Export("A", "\xff"), "nor what is no UTF-8")
	assert.Equal(t, "export A='é'\n", Export("A", "é"))
}
