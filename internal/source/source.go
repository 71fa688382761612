// Package source gets the files of a template from where they are: a folder, a file, an archive (CSAR, TOSCA 1.3 section
// 6) or a revision of a version-control repository.
//
// In goes a [Place]; out comes a [Tree]: files that can be read and nothing beyond them, with the path of the template
// among them. Nothing of an archive or repository is written to disk, and what they claim of sizes and paths is not
// believed.
package source

import (
	"andamio/internal/core/fault"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// Place says where a template is.
type Place struct {
	// Path is a file, a folder or an archive; with Repo, a path within the repository, "" for its root.
	Path string
	// Repo is the URL or folder of a repository, Rev a branch, tag or commit in it, "" for its head.
	Repo, Rev string
	// Sent says that the files came from elsewhere and are there for a moment only: what is made of them is never looked for there again.
	Sent bool
}

// Tree is the files of a template.
type Tree struct {
	// Files can be read; Root is the template's path among them.
	Files fs.FS
	Root  string
	// Dir names where they come from, for messages; Folder is the folder on disk, "" for an archive or repository.
	Dir, Folder string
	// Revision is the commit that was read, "" where there is none.
	Revision string
	close    func() error
}

// Close releases what the files are read from.
func (t *Tree) Close() error {
	if t.close == nil {
		return nil
	}
	return t.close()
}

// Limits on what is read.
const (
	MaxFile  = 64 << 20
	maxTotal = 512 << 20
	maxFiles = 20_000
)

// rootName is the template's file in a folder that says nothing else.
const rootName = "template.yaml"

// Open finds the files of a template.
func Open(ctx context.Context, p Place) (*Tree, error) {
	t, err := find(ctx, p)
	return t, classed(err)
}

// classed gives an error of a place its class: what is not there, what may not be read, and else what is to be mended.
func classed(err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fault.Default(fault.NotFound, err)
	case errors.Is(err, fs.ErrPermission):
		return fault.Default(fault.NotAllowed, err)
	}
	return fault.Default(fault.Invalid, err)
}

func find(ctx context.Context, p Place) (*Tree, error) {
	if p.Repo != "" {
		return openRepository(ctx, p)
	}
	info, err := os.Stat(p.Path)
	if err != nil {
		return nil, fmt.Errorf("the template %s cannot be opened: %w", p.Path, err)
	}
	if !info.IsDir() && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("the template %s cannot be opened: %w", p.Path, errNotRegular)
	}
	if !info.IsDir() && isArchive(p.Path) {
		return openArchive(p.Path)
	}
	dir, file := p.Path, ""
	if !info.IsDir() {
		dir, file = filepath.Dir(p.Path), filepath.Base(p.Path)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	t := &Tree{Files: regular{root}, Root: file, Dir: dir, Folder: dir, close: root.Close}
	if file == "" {
		if t.Root, err = FindRoot(t.Files); err != nil {
			root.Close()
			return nil, fmt.Errorf("%s: %w", dir, err)
		}
	}
	return t, nil
}

// FindRoot finds the template among files: what TOSCA-Metadata/TOSCA.meta names, template.yaml, or the only YAML file at
// the top that is a service template (section 6.3).
func FindRoot(files fs.FS) (string, error) {
	if data, err := fs.ReadFile(files, metaFile); err == nil {
		return entryOf(data, files)
	}
	if _, err := fs.Stat(files, rootName); err == nil {
		return rootName, nil
	}
	entries, err := fs.ReadDir(files, ".")
	if err != nil {
		return "", err
	}
	var found []string
	for _, e := range entries {
		if ext := path.Ext(e.Name()); e.IsDir() || ext != ".yaml" && ext != ".yml" {
			continue
		}
		if data, err := Read(files, e.Name()); err == nil && strings.Contains(string(data), "tosca_definitions_version") {
			found = append(found, e.Name())
		}
	}
	switch len(found) {
	case 0:
		return "", fmt.Errorf("there is no template here: no %s, no %s, and no other YAML file at the top with tosca_definitions_version", rootName, metaFile)
	case 1:
		return found[0], nil
	}
	slices.Sort(found)
	return "", fmt.Errorf("which of these is the template? Name one of: %s", strings.Join(found, ", "))
}

// Read reads one file, which must be a regular one of bounded size.
func Read(files fs.FS, name string) ([]byte, error) {
	info, err := fs.Stat(files, name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errors.New("it is no regular file")
	}
	if info.Size() > MaxFile {
		return nil, fmt.Errorf("it is larger than %d MiB", MaxFile>>20)
	}
	return fs.ReadFile(files, name)
}
