package tosca

import (
	"errors"
	"path"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Limits on hostile input: far above what templates need, far below what would hurt.
const (
	maxDepth   = 80
	maxNodes   = 4_000_000
	maxImports = 500
)

// definitionsVersion is the only version of the language that is read, and definitionsURI the standard's other name for it (section 3.1).
const (
	definitionsVersion = "tosca_simple_yaml_1_3"
	definitionsURI     = "http://docs.oasis-open.org/tosca/ns/simple/yaml/1.3"
)

// document is one source file as a tree. A file imported under a namespace prefix is a document of its own.
type document struct {
	file string
	// space is the prefix under which the types defined here are known, "" for none.
	space string
	root  node
}

// docKey tells documents apart.
type docKey struct{ file, space string }

// load reads a file and its imports; it returns the document, or nil if it cannot be read.
func (r *reader) load(file, space string, from Pos) *document {
	key := docKey{file, space}
	if d, seen := r.seen[key]; seen {
		return d
	}
	r.seen[key] = nil
	data, err := r.open(file)
	if err != nil {
		r.diags.at(place{from, 1}, CodeImport, "cannot open %s: %v", file, err).
			hint("paths are relative to the file that names them and stay inside the template's folder")
		return nil
	}
	r.sources[file] = data
	doc := &document{file: file, space: space}
	if !doc.parse(data, &r.diags) {
		return nil
	}
	r.seen[key] = doc
	r.docs = append(r.docs, doc)
	r.checkVersion(doc)
	r.readRepositories(doc)
	r.followImports(doc)
	return doc
}

// parse reads a file to a tree fit to walk: a mapping, without duplicate keys, of bounded size.
func (doc *document) parse(data []byte, diags *Diagnostics) bool {
	data = withoutDirective(data)
	if line, more := another(data); more {
		diags.at(place{Pos{doc.file, line, 1}, 3}, CodeSyntax, "a second document begins here: a template is one").
			hint("move it into a file of its own, and import that")
		return false
	}
	root := &tree{}
	doc.root = node{tree: root, doc: doc}
	if p, ok := plantPieces(doc, data, root); ok {
		*diags = append(*diags, *p.diags...)
		return true
	}
	*root = tree{}
	var y yaml.Node
	if err := yaml.Unmarshal(data, &y); err != nil {
		at := syntaxPlace(doc.file, err)
		if line, col, width, why, hint, ok := wrong(data, at.Line, err.Error()); ok {
			d := diags.at(place{Pos{doc.file, line, col}, width}, CodeSyntax, "%s", why)
			if hint != "" {
				d.hint("%s", hint)
			}
			return false
		}
		diags.at(at, CodeSyntax, "this is not YAML: %s", syntaxText(err))
		return false
	}
	if len(y.Content) == 0 || y.Content[0].Kind != yaml.MappingNode {
		diags.at(place{Pos{doc.file, 1, 1}, 1}, CodeShape, "a service template is a mapping of keynames to values")
		return false
	}
	p := newPlanter(doc, diags)
	p.plant(y.Content[0], root, 0)
	return !p.stopped
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
	p.Line, p.Col = max(p.Line, 1), max(p.Col, 1)
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

func (r *reader) checkVersion(doc *document) {
	v, ok := doc.root.get("tosca_definitions_version")
	switch {
	case !ok:
		r.diags.at(place{Pos{doc.file, 1, 1}, 1}, CodeVersion, "tosca_definitions_version is missing").
			hint("begin the file with: tosca_definitions_version: %s", definitionsVersion)
	case v.value != definitionsVersion && v.value != definitionsURI:
		r.diags.at(v.place(), CodeVersion, "this version of the language is not read: %s", v.value).
			hint("Andamio reads %s", definitionsVersion)
	}
}

// readRepositories reads the repositories that a document names (section 3.6.6). A repository is a folder beside the
// template, or an address that only says where its files came from: nothing is fetched while a template is read.
func (r *reader) readRepositories(doc *document) {
	for _, p := range r.mapping(doc.root, "repositories") {
		url := p.value
		if url.form == mapping {
			r.keys(url, "a repository", []string{"url"}, "description", "url", "credential")
			url, _ = p.value.get("url")
		}
		if url.tree == nil || url.form != scalar {
			continue
		}
		if _, twice := r.repositories[p.name]; twice && r.repositories[p.name] != url.value {
			r.diags.at(p.key.place(), CodeTypeRedefined, "the repository %s has another url elsewhere", p.name)
		}
		r.repositories[p.name] = url.value
	}
}

// followImports loads what a document imports (section 3.6.8), relative to it.
func (r *reader) followImports(doc *document) {
	for _, item := range r.list(doc.root, "imports") {
		name, space, base := item, doc.space, doc.file
		if item.form == mapping && len(item.content) == 2 && item.content[1].form == mapping {
			item = item.child(1) // older templates give every import a name of its own
		} else if item.form == mapping && len(item.content) == 2 && item.content[1].form == scalar && item.content[0].value != "file" {
			item, name = item.child(1), item.child(1) // and write its file in one line
		}
		if item.form == mapping {
			r.keys(item, "an import", []string{"file"}, "file", "repository", "namespace_prefix", "namespace_uri")
			if prefix := r.prefix(item); prefix != "" {
				space = joinSpace(doc.space, prefix)
			}
			var ok bool
			if name, ok = item.get("file"); !ok {
				continue
			}
			if repo, given := item.get("repository"); given {
				if base, ok = r.repositoryBase(repo, doc); !ok {
					continue
				}
			}
		}
		r.importFile(base, space, name)
	}
}

// prefix reads the prefix that an import's types are known by.
func (r *reader) prefix(item node) string {
	prefix := r.text(item, "namespace_prefix")
	if strings.ContainsAny(prefix, ": \t") || prefix == "tosca" {
		v, _ := item.get("namespace_prefix")
		r.diags.at(v.place(), CodeName, "%q cannot be a namespace prefix: it stands before a colon, and tosca: is the standard's", prefix)
		return ""
	}
	return prefix
}

func joinSpace(outer, inner string) string {
	if outer == "" {
		return inner
	}
	return outer + ":" + inner
}

// repositoryBase is the file relative to which a repository's files are found.
func (r *reader) repositoryBase(repo node, doc *document) (string, bool) {
	dir, ok := r.shelf(repo.value, doc.file, repo.place(), CodeImport)
	return path.Join(dir, "x"), ok
}

// shelf is the folder of a repository that a file names. One that is unknown, or elsewhere, is reported.
func (r *reader) shelf(name, from string, at place, code Code) (string, bool) {
	url, known := r.repositories[name]
	if !known {
		r.diags.at(at, code, "there is no repository %q", name).suggest(name, sortedKeys(r.repositories))
		return "", false
	}
	dir, ok := within(from, url)
	if !ok {
		r.diags.at(at, code, "the repository %s is at %s, and nothing is fetched while a template is read", name, url).
			hint("put its files into the template's folder and make the url the path to them")
	}
	return dir, ok
}

func (r *reader) importFile(from, space string, name node) {
	target, ok := "", false
	if name.form == scalar {
		target, ok = within(from, name.value)
	}
	switch {
	case !ok:
		r.diags.at(name.place(), CodeImport, "this path leads out of the template's folder: %s", name.value)
	case len(r.seen) > maxImports:
		r.diags.at(name.place(), CodeTooLarge, "more than %d files are imported", maxImports)
	default:
		r.load(target, space, name.pos())
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
