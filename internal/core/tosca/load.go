package tosca

import (
	"errors"
	"path"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// Limits on hostile input: far above what templates need, far below what would hurt.
const (
	maxDepth   = 80
	maxNodes   = 4_000_000
	maxImports = 500
)

// definitionsVersion is the only value of tosca_definitions_version that is read (section 3.1).
const definitionsVersion = "tosca_simple_yaml_1_3"

// document is one source file as a node tree.
type document struct {
	file string
	root node
}

// node is a YAML node that knows its file.
type node struct {
	*yaml.Node
	file string
}

// place is where the node stands and how wide its scalar is.
func (n node) place() place {
	width := 1
	if n.Kind == yaml.ScalarNode && !strings.Contains(n.Value, "\n") {
		width = utf8.RuneCountInString(n.Value)
	}
	return place{Pos{n.file, n.Line, n.Column}, width}
}

// pair is a key of a mapping with its value.
type pair struct {
	name       string
	key, value node
}

// pairs lists a mapping's keys in the order of the file.
func (n node) pairs() []pair {
	ps := make([]pair, 0, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		k := n.child(i)
		ps = append(ps, pair{k.Value, k, n.child(i + 1)})
	}
	return ps
}

// items lists a sequence's entries.
func (n node) items() []node {
	out := make([]node, len(n.Content))
	for i := range n.Content {
		out[i] = n.child(i)
	}
	return out
}

// child is the i-th content node with aliases followed; the loader has made sure that they end.
func (n node) child(i int) node {
	c := n.Content[i]
	for c.Kind == yaml.AliasNode {
		c = c.Alias
	}
	return node{c, n.file}
}

// isNull reports an absent or explicitly null value.
func (n node) isNull() bool { return n.Kind == yaml.ScalarNode && n.Tag == "!!null" }

// get returns the value of a key and whether it is there.
func (n node) get(key string) (node, bool) {
	if n.Kind != yaml.MappingNode {
		return node{}, false
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.child(i + 1), true
		}
	}
	return node{}, false
}

// load reads a file and its imports into r.files; it returns the file's root mapping, or nil if there is none.
func (r *reader) load(file string, from Pos) *node {
	if r.seen == nil {
		r.seen = map[string]bool{}
	}
	if r.seen[file] {
		return nil
	}
	r.seen[file] = true
	data, err := r.open(file)
	if err != nil {
		r.diags.at(place{from, 1}, CodeImport, "cannot open %s: %v", file, err).
			hint("paths are relative to the file that names them and stay inside the template's folder")
		return nil
	}
	r.tmpl.Sources[file] = data
	root, ok := parseYAML(file, data, &r.diags)
	if !ok {
		return nil
	}
	r.files = append(r.files, &document{file, root})
	r.checkVersion(file, root)
	r.followImports(root)
	return &root
}

// parseYAML reads one file to a node tree fit to walk: a mapping, without duplicate keys, of bounded size.
func parseYAML(file string, data []byte, diags *Diagnostics) (node, bool) {
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		diags.at(syntaxPlace(file, err), CodeSyntax, "this is not YAML: %s", syntaxText(err))
		return node{}, false
	}
	if len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		diags.at(place{Pos{file, 1, 1}, 1}, CodeShape, "a service template is a mapping of keynames to values")
		return node{}, false
	}
	root := node{doc.Content[0], file}
	w := &walker{diags: diags, onPath: map[*yaml.Node]bool{}}
	w.walk(root, 0)
	return root, !w.stopped
}

// walker checks a node tree once for duplicate keys, depth, and what its aliases expand to.
type walker struct {
	diags   *Diagnostics
	onPath  map[*yaml.Node]bool
	visited int
	stopped bool
}

func (w *walker) walk(n node, depth int) {
	w.visited++
	if w.stopped {
		return
	}
	if depth > maxDepth || w.visited > maxNodes || (n.Kind != yaml.ScalarNode && w.onPath[n.Node]) {
		w.stopped = true
		w.diags.at(n.place(), CodeTooLarge, "this nests deeper than %d levels, or its aliases expand without end", maxDepth).
			hint("write the repeated part out, or move it into a type")
		return
	}
	if n.Kind == yaml.ScalarNode {
		return
	}
	w.onPath[n.Node] = true
	if n.Kind == yaml.MappingNode {
		w.duplicates(n)
	}
	for i := range n.Content {
		w.walk(n.child(i), depth+1)
	}
	delete(w.onPath, n.Node)
}

func (w *walker) duplicates(n node) {
	if len(n.Content) < 4 {
		return
	}
	first := make(map[string]Pos, len(n.Content)/2)
	for _, p := range n.pairs() {
		if at, twice := first[p.name]; twice && p.key.Kind == yaml.ScalarNode {
			w.diags.at(p.key.place(), CodeDuplicateKey, "%q stands here twice; the first is at line %d", p.name, at.Line).
				see(at).hint("remove or rename one of them")
			continue
		}
		first[p.name] = p.key.place().Pos
	}
}

var lineInError = regexp.MustCompile(`line (\d+)(?:[:,] column (\d+))?`)

// syntaxPlace finds the place in the YAML library's error, which is line 1 where it gives none.
func syntaxPlace(file string, err error) place {
	p := place{Pos{file, 1, 1}, 1}
	if m := lineInError.FindStringSubmatch(err.Error()); m != nil {
		p.Line, _ = strconv.Atoi(m[1])
		if m[2] != "" {
			p.Col, _ = strconv.Atoi(m[2])
		}
	}
	return p
}

func syntaxText(err error) string {
	text := strings.TrimPrefix(err.Error(), "yaml: ")
	var list *yaml.LoadErrors
	if errors.As(err, &list) && len(list.Errors) > 0 {
		text = list.Errors[0].Error()
	}
	if i := strings.LastIndex(text, ": "); i >= 0 && lineInError.MatchString(text[:i]) {
		text = text[i+2:]
	}
	return text
}

func (r *reader) checkVersion(file string, root node) {
	v, ok := root.get("tosca_definitions_version")
	switch {
	case !ok:
		r.diags.at(place{Pos{file, 1, 1}, 1}, CodeVersion, "tosca_definitions_version is missing").
			hint("begin the file with: tosca_definitions_version: %s", definitionsVersion)
	case v.Value != definitionsVersion:
		r.diags.at(v.place(), CodeVersion, "this version of the language is not read: %s", v.Value).
			hint("Andamio reads %s", definitionsVersion)
	}
}

// followImports loads what a file imports (section 3.6.8), relative to that file.
func (r *reader) followImports(root node) {
	list, ok := root.get("imports")
	if !ok {
		return
	}
	if list.Kind != yaml.SequenceNode {
		r.diags.at(list.place(), CodeShape, "imports is a list")
		return
	}
	for _, item := range list.items() {
		name := item
		if item.Kind == yaml.MappingNode {
			r.keys(item, "an import", []string{"file"}, "file", "repository", "namespace_prefix", "namespace_uri")
			for _, k := range []string{"repository", "namespace_prefix"} {
				if v, ok := item.get(k); ok {
					r.diags.at(v.place(), CodeUnsupported, "imports with %s are not read yet", k)
				}
			}
			if name, ok = item.get("file"); !ok {
				continue
			}
		}
		r.importFile(root.file, name)
	}
}

func (r *reader) importFile(from string, name node) {
	target, ok := within(from, name.Value)
	switch {
	case name.Kind != yaml.ScalarNode || !ok:
		r.diags.at(name.place(), CodeImport, "this path leads out of the template's folder: %s", name.Value)
	case len(r.seen) > maxImports:
		r.diags.at(name.place(), CodeTooLarge, "more than %d files are imported", maxImports)
	default:
		r.load(target, name.place().Pos)
	}
}

// within joins a path to the folder of the file that names it and says whether the result stays below the root.
func within(from, name string) (string, bool) {
	if name == "" || path.IsAbs(name) || strings.ContainsAny(name, "\\\x00") || strings.Contains(name, "://") {
		return "", false
	}
	joined := path.Join(path.Dir(from), name)
	return joined, joined != ".." && !strings.HasPrefix(joined, "../")
}
