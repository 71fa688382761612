package engine

import (
	"slices"
	"strings"

	"andamio/internal/core/printable"
)

// masker takes secrets and control sequences out of text before it is journalled.
type masker struct{ replace *strings.Replacer }

// hidden stands where a secret stood.
const hidden = "•••"

// leastSecret is the length below which a value is too common to be masked.
const leastSecret = 4

func newMasker(secrets map[string]string) masker {
	var values []string
	for _, v := range secrets {
		for _, line := range strings.Split(v, "\n") { // logs are masked line by line
			if line = strings.TrimSpace(line); len(line) >= leastSecret {
				values = append(values, line)
			}
		}
	}
	slices.SortFunc(values, func(a, b string) int { return len(b) - len(a) }) // the longer first: one may contain another
	var pairs []string
	for _, v := range values {
		pairs = append(pairs, v, hidden)
	}
	return masker{strings.NewReplacer(pairs...)}
}

// clean is the text without secrets and control sequences. Secrets are looked for again after control sequences are
// gone, lest one hides in the midst of a secret.
func (m masker) clean(text string) string {
	return m.replace.Replace(printable.Clean(m.replace.Replace(text)))
}
