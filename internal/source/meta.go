package source

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// The keynames of the first block of TOSCA.meta (TOSCA Simple Profile in YAML 1.3, section 6.2), and the versions that are read.
const (
	keyFileVersion = "TOSCA-Meta-File-Version"
	keyVersion     = "CSAR-Version"
	keyAuthor      = "Created-By"
	keyEntry       = "Entry-Definitions"
	keyOthers      = "Other-Definitions"
)

var metaVersions = []string{"1.0", "1.1"}

// readMeta reads the first block of TOSCA.meta: a name and a value in each line, of which one that begins with a blank goes on with the line before.
func readMeta(data []byte) (map[string]string, error) {
	out, last := map[string]string{}, ""
	n := 0
	for line := range strings.Lines(string(data)) {
		n++
		line = strings.TrimRight(line, "\r\n")
		if strings.TrimSpace(line) == "" {
			if len(out) > 0 {
				return out, nil // the block ends
			}
			continue
		}
		if last != "" && (line[0] == ' ' || line[0] == '\t') {
			out[last] += " " + strings.TrimSpace(line)
			continue
		}
		key, value, ok := strings.Cut(line, ":")
		if key = strings.TrimSpace(key); !ok || key == "" {
			return nil, fmt.Errorf("%s: line %d, %q, is no NAME: VALUE", metaFile, n, line)
		}
		if _, twice := out[key]; twice {
			return nil, fmt.Errorf("%s: line %d says %s again", metaFile, n, key)
		}
		out[key], last = strings.TrimSpace(value), key
	}
	return out, nil
}

// checkMeta checks what an archive says of itself: in TOSCA.meta, or, where it has none, in the metadata of the one template at its root (section 6.3).
func checkMeta(files fs.FS, root string) error {
	data, err := fs.ReadFile(files, metaFile)
	if err != nil {
		return checkRoot(files, root)
	}
	meta, err := readMeta(data)
	if err != nil {
		return err
	}
	for _, key := range []string{keyFileVersion, keyVersion, keyAuthor, keyEntry} {
		if meta[key] == "" {
			return fmt.Errorf("%s has no line %s, which every archive has", metaFile, key)
		}
	}
	for _, key := range []string{keyFileVersion, keyVersion} {
		if !slices.Contains(metaVersions, meta[key]) {
			return fmt.Errorf("%s says %s: %s; %s are read", metaFile, key, meta[key], strings.Join(metaVersions, " and "))
		}
	}
	for _, name := range listed(meta[keyOthers]) {
		if other := path.Clean(name); !fs.ValidPath(other) {
			return fmt.Errorf("%s names %q, which leads out of the archive", metaFile, name)
		} else if _, err := fs.Stat(files, other); err != nil {
			return fmt.Errorf("%s names %q, which is not there", metaFile, name)
		}
	}
	return nil
}

// listed are the names of a list that blanks part, but within quotes.
func listed(text string) []string {
	quoted := false
	return strings.FieldsFunc(text, func(r rune) bool {
		if r == '"' {
			quoted = !quoted
			return true
		}
		return !quoted && (r == ' ' || r == '\t' || r == ',')
	})
}

// checkRoot checks the metadata of a template that stands for an archive without TOSCA.meta.
func checkRoot(files fs.FS, root string) error {
	data, err := fs.ReadFile(files, root)
	if err != nil {
		return err
	}
	var t struct {
		Metadata map[string]any `yaml:"metadata"`
	}
	if yaml.Unmarshal(data, &t) != nil {
		return nil // which reading the template says better
	}
	for _, key := range []string{"template_name", "template_version"} {
		if t.Metadata[key] == nil {
			return errors.New("it has no " + metaFile + ", and the metadata of " + root + " has no " + key + ": an archive has one or the other")
		}
	}
	return nil
}
