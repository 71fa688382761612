package templates

import (
	"maps"
	"sync"

	"andamio/internal/store"
)

// Kept are the files that the template was read from, as they are kept: all that it names, and its presets.
func (t *Template) Kept() store.Source {
	out := store.Source{Root: t.Root, Files: map[string][]byte{}}
	if t.Template == nil {
		return out
	}
	maps.Copy(out.Files, t.Sources)
	maps.Copy(out.Files, t.Artifacts)
	return out
}

// Digest is the same for the same files: the SHA-256 of their names and contents. It is worked out once: a template does not change.
func (t *Template) Digest() string {
	t.digest.once.Do(func() { t.digest.sum = t.Kept().Digest() })
	return t.digest.sum
}

// SentName is where a template is that somebody sent: nowhere but where its files are kept under their digest.
const SentName = "as it was sent"

// digest is a template's, once it was asked for.
type digest struct {
	once sync.Once
	sum  string
}
