package templates

import (
	"bytes"
	"context"
	"fmt"
	"os"

	"andamio/internal/source"
)

// Place says where a template is: a file, a folder, an archive, or a revision of a repository.
type Place = source.Place

// Packed is an archive that was written.
type Packed struct {
	Archive  string `json:"archive"`
	Files    int    `json:"files"`
	Bytes    int    `json:"bytes"`
	Template string `json:"template"`
}

// Pack writes a template with its files as an archive. One with mistakes is returned and not written.
func Pack(ctx context.Context, p Place, file string) (*Packed, *Template, error) {
	tree, err := source.Open(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	defer tree.Close()
	t, err := ReadTemplate(tree.Files, tree.Dir, tree.Root)
	if err != nil {
		return nil, nil, err
	}
	t.Folder = tree.Folder
	if t.Diagnostics.Errors() > 0 {
		return nil, t, nil
	}
	files, err := source.All(tree.Files)
	if err != nil {
		return nil, nil, err
	}
	data, err := source.Pack(files, tree.Root)
	if err != nil {
		return nil, nil, err
	}
	if _, err := source.ReadArchive(bytes.NewReader(data), int64(len(data))); err != nil {
		return nil, nil, fmt.Errorf("the archive would not be read again: %w", err)
	}
	return &Packed{file, len(files), len(data), tree.Root}, t, os.WriteFile(file, data, 0o644)
}

// Unpack writes the files of an archive into a new or empty folder and returns the template's path in it.
func Unpack(ctx context.Context, archive, dir string) (string, error) {
	tree, err := source.Open(ctx, source.Place{Path: archive})
	if err != nil {
		return "", err
	}
	defer tree.Close()
	return tree.Root, source.Unpack(tree.Files, dir)
}
