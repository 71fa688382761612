package estate

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLinesAreThoseInWhichEntriesBegin(t *testing.T) {
	assert.Equal(t, []int{3, 5}, Lines([]byte("version: x\nrules:\n- name: a\n  more: 1\n- { name: b }\nother: [1, 2]\n"), "rules"))
	assert.Equal(t, []int{1, 1}, Lines([]byte(`{"rules": [1, 2]}`), "rules"))
	for _, text := range []string{"", "rules: {", "other: [1]", "- 1", "rules: 7"} {
		assert.Empty(t, Lines([]byte(text), "rules"), text)
	}
}
