package store

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
)

// Source is the files of a template, by path, and which of them is the template.
type Source struct {
	Root  string            `json:"root"`
	Files map[string][]byte `json:"files"`
}

// Digest is the same for the same files: the SHA-256 of their names and contents.
func (s Source) Digest() string {
	sum := sha256.New()
	for _, name := range append([]string{s.Root}, slices.Sorted(maps.Keys(s.Files))...) {
		fmt.Fprintf(sum, "%d %s %d\n", len(name), name, len(s.Files[name]))
		sum.Write(s.Files[name])
	}
	return "sha256:" + hex.EncodeToString(sum.Sum(nil))
}
