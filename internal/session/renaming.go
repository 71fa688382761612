package session

import (
	"bytes"
	"io"
	"sync"
)

// renaming writes on what it is given, with the paths at which files are kept replaced by the words that named them. What may be the beginning of a path is held back until it is
// known whether it is one.
type renaming struct {
	to    io.Writer
	names map[string]string

	mu   sync.Mutex
	held []byte
}

func (r *renaming) Write(b []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.names) == 0 {
		return r.to.Write(b)
	}
	var out []byte
	out, r.held = r.replaced(append(r.held, b...))
	if len(out) == 0 {
		return len(b), nil
	}
	if _, err := r.to.Write(out); err != nil {
		return 0, err
	}
	return len(b), nil
}

// replaced is a text with all paths in it replaced, and what of its end may be the beginning of one.
func (r *renaming) replaced(text []byte) (out, rest []byte) {
	for len(text) > 0 {
		if path, whole := r.begins(text); path != "" {
			if !whole {
				return out, bytes.Clone(text)
			}
			out, text = append(out, r.names[path]...), text[len(path):]
			continue
		}
		next := bytes.IndexByte(text[1:], '/') + 1 // paths begin with one
		if next == 0 {
			next = len(text)
		}
		out, text = append(out, text[:next]...), text[next:]
	}
	return out, nil
}

// begins is the longest path that a text begins with, or that begins with the whole text.
func (r *renaming) begins(text []byte) (path string, whole bool) {
	for p := range r.names {
		switch {
		case bytes.HasPrefix(text, []byte(p)):
			if !whole || len(p) > len(path) {
				path, whole = p, true
			}
		case !whole && len(text) < len(p) && p[:len(text)] == string(text):
			path = p
		}
	}
	return path, whole
}

// flush writes what was held back.
func (r *renaming) flush() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	_, err := r.to.Write(r.held)
	r.held = nil
	return err
}
