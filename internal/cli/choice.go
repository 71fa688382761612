package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"andamio/internal/core/tosca"
)

// choice is an option that takes one of some words and refuses every other, with the one that may have been meant.
type choice struct {
	into *string
	of   []string
}

// oneOf adds such an option.
func oneOf(f *pflag.FlagSet, into *string, name, usual, usage string, of ...string) {
	*into = usual
	f.Var(choice{into, of}, name, usage)
}

func (c choice) String() string {
	if c.into == nil {
		return ""
	}
	return *c.into
}

// Type is what help calls the value.
func (c choice) Type() string { return "word" }

// Set takes a word that there is.
func (c choice) Set(v string) error {
	if !slices.Contains(c.of, v) {
		if meant := tosca.Nearest(v, c.of); meant != "" {
			return fmt.Errorf("there is no %q; %s may have been meant", v, meant)
		}
		return fmt.Errorf("there is no %q; there are %s", v, strings.Join(c.of, ", "))
	}
	*c.into = v
	return nil
}

// words are the texts of named values.
func words[T ~string](all []T) []string {
	out := make([]string, len(all))
	for i, v := range all {
		out[i] = string(v)
	}
	return out
}
