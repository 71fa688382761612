package ovf

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatFilesOfAPackageMayBeCalled(t *testing.T) {
	for name, is := range map[string]bool{"disk-1.vmdk": true, "Río (copia) 2.img": true, strings.Repeat("ñ", mostNamed): true,
		strings.Repeat("a", mostNamed+1): false, "": false, "../x": false, "a/b": false, ".hidden": false, "a\x00b": false, "-x": false, "a\\b": false} {
		assert.Equal(t, is, isName(name), "%.20q", name)
	}
}
