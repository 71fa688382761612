package templates

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"andamio/internal/core/fault"
	"andamio/internal/core/tosca"
	"andamio/internal/source"
)

// presetName is what a preset or a template may be called: it becomes the name of a file.
var presetName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// NameWrong says what is wrong with the name of a preset or template, "" if nothing is.
func NameWrong(name string) string {
	if presetName.MatchString(name) {
		return ""
	}
	return "letters a to z, digits and '-', at most 63"
}

// SavePreset writes inputs as a preset of a template, into its folder. Secret inputs are never written.
func SavePreset(t *Template, name string, inputs tosca.Inputs) (string, error) {
	if wrong := NameWrong(name); wrong != "" {
		return "", fault.Invalidf("%q cannot be the name of a preset: %s", name, wrong)
	}
	if t.Folder == "" {
		return "", fault.Refusedf("%s is not a folder on disk, so no preset can be saved in it; copy the template under a new name first", t.Dir)
	}
	var text strings.Builder
	fmt.Fprintf(&text, "# inputs of %s\n", t.Name)
	given := 0
	for _, in := range t.Inputs {
		if v := inputs[in.Name]; v != nil && !in.Secret {
			given++
			fmt.Fprintf(&text, "%s: %s\n", in.Name, v.Source())
		}
	}
	if given == 0 {
		return "", fault.Invalidf("no input that a preset keeps differs from the template's own defaults: change one first")
	}
	if _, diags := tosca.ReadInputs(name, []byte(text.String())); len(diags) > 0 {
		return "", fmt.Errorf("the preset would not be read again: %w", diags)
	}
	root, err := os.OpenRoot(t.Folder)
	if err != nil {
		return "", err
	}
	defer root.Close()
	if err := root.Mkdir(presetDir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	file := presetDir + "/" + name + ".yaml"
	return filepath.Join(t.Folder, file), root.WriteFile(file, []byte(text.String()), 0o644)
}

var templateNameLine = regexp.MustCompile(`(template_name:\s*)("[^"\n]*"|'[^'\n]*'|[^\s,}#]+)`)

// Copy writes a template's files into a new folder under a new name: beside its own folder, or in another where it has none. The copy's
// template_name is the new name.
func (t *Template) Copy(name, elsewhere string) (string, error) {
	if wrong := NameWrong(name); wrong != "" {
		return "", fault.Invalidf("%q cannot be the name of a template: %s", name, wrong)
	}
	dir := filepath.Join(elsewhere, name)
	if t.Folder != "" && !t.sent {
		whole, err := filepath.Abs(t.Folder)
		if err != nil {
			return "", err
		}
		dir = filepath.Join(filepath.Dir(whole), name)
	}
	if _, err := os.Stat(dir); err == nil {
		return "", fault.Conflictf("%s is there already; nothing was written", dir)
	}
	files, err := t.AllFiles()
	if err != nil {
		return "", err
	}
	files[t.Template.Root] = renamed(files[t.Template.Root], name)
	return dir, source.Unpack(source.Memory(files), dir)
}

// renamed is a template's text under another template_name.
func renamed(text []byte, name string) []byte {
	if at := templateNameLine.FindSubmatchIndex(text); at != nil {
		return append(append(append([]byte{}, text[:at[4]]...), name...), text[at[5]:]...)
	}
	lines := strings.SplitAfterN(string(text), "\n", 2)
	if len(lines) < 2 {
		return text
	}
	return []byte(lines[0] + "metadata: { template_name: " + name + " }\n" + lines[1])
}

// AllFiles reads every file of the template.
func (t *Template) AllFiles() (map[string][]byte, error) {
	if t.Folder == "" {
		return source.All(t.files)
	}
	root, err := os.OpenRoot(t.Folder)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return source.All(root.FS())
}
