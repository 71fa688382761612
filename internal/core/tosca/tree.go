package tosca

import (
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// form is the YAML form of a tree: what it is made of.
type form uint8

const (
	scalar form = iota
	mapping
	sequence
)

// tag is how YAML resolved a plain scalar. What it leaves open is text.
type tag uint8

const (
	tagText tag = iota
	tagNull
	tagBool
	tagInt
	tagFloat
)

var tags = map[string]tag{"!!null": tagNull, "!!bool": tagBool, "!!int": tagInt, "!!float": tagFloat}

// tree is a YAML node as the reader keeps it: a third of the size of the library's, aliases and merge keys resolved.
// A mapping's content alternates between keys and values.
type tree struct {
	value     string
	content   []tree
	line, col int32
	form      form
	tag       tag
}

// node is a tree that knows the document it stands in.
type node struct {
	*tree
	doc *document
	// under is the key that the node is the value of, where it was found by that.
	under *tree
}

// place is where the node stands and how wide its scalar is.
func (n node) place() place {
	width := 1
	if n.form == scalar && !strings.Contains(n.value, "\n") {
		width = utf8.RuneCountInString(n.value)
	}
	return place{Pos{n.doc.file, int(n.line), int(n.col)}, width}
}

// pos is where the node stands.
func (n node) pos() Pos { return Pos{n.doc.file, int(n.line), int(n.col)} }

// written is a scalar or a list of scalars as it might have been written, for messages.
func (n node) written() string {
	if n.form != sequence {
		return n.value
	}
	parts := make([]string, len(n.content))
	for i := range n.content {
		parts[i] = n.content[i].value
	}
	return "[ " + strings.Join(parts, ", ") + " ]"
}

// pair is a key of a mapping with its value.
type pair struct {
	name       string
	key, value node
}

// pairs lists a mapping's keys in the order of the file.
func (n node) pairs() []pair {
	ps := make([]pair, 0, len(n.content)/2)
	for i := 0; i+1 < len(n.content); i += 2 {
		ps = append(ps, pair{n.content[i].value, n.child(i), n.valueAt(i)})
	}
	return ps
}

// items lists a sequence's entries.
func (n node) items() []node {
	out := make([]node, len(n.content))
	for i := range n.content {
		out[i] = n.child(i)
	}
	return out
}

func (n node) child(i int) node { return node{tree: &n.content[i], doc: n.doc} }

// valueAt is the value whose key is at a place of a mapping's content.
func (n node) valueAt(key int) node { return node{&n.content[key+1], n.doc, &n.content[key]} }

// named is where the node is named: its key, or where it has none the node.
func (n node) named() place {
	if n.under == nil {
		return n.place()
	}
	return node{tree: n.under, doc: n.doc}.place()
}

// isNull reports an absent or explicitly null value.
func (n node) isNull() bool { return n.form == scalar && n.tag == tagNull }

// get returns the value of a key and whether it is there.
func (n node) get(key string) (node, bool) {
	if n.tree == nil || n.form != mapping {
		return node{}, false
	}
	for i := 0; i+1 < len(n.content); i += 2 {
		if n.content[i].value == key {
			return n.valueAt(i), true
		}
	}
	return node{}, false
}

// planter turns the library's nodes into trees. It refuses what nests too deep or what aliases blow up, without ever
// walking an alias's expansion: the size and depth of what is anchored are known once it is planted.
type planter struct {
	doc     *document
	diags   *Diagnostics
	offset  int32
	planted map[*yaml.Node]*anchored
	stopped bool
	size    int
}

// anchored is a tree that aliases may stand for; open while it is being planted.
type anchored struct {
	tree  *tree
	size  int
	depth int
	open  bool
}

func newPlanter(doc *document, diags *Diagnostics) *planter {
	return &planter{doc: doc, diags: diags, planted: map[*yaml.Node]*anchored{}}
}

// plant fills t from y, which stands at the given depth, and returns how deep and how large it is.
func (p *planter) plant(y *yaml.Node, t *tree, depth int) (height, size int) {
	t.line, t.col = int32(y.Line)+p.offset, int32(y.Column)
	if p.stopped {
		return 0, 0
	}
	if y.Kind == yaml.AliasNode {
		return p.alias(y, t, depth)
	}
	if y.Kind == yaml.ScalarNode {
		t.value, t.tag = y.Value, tags[y.Tag]
		p.size++
		return 1, 1
	}
	if depth > maxDepth {
		p.refuse(t)
		return 0, 0
	}
	var a *anchored
	if y.Anchor != "" {
		a = &anchored{tree: t, open: true}
		p.planted[y] = a
	}
	t.form = sequence
	if y.Kind == yaml.MappingNode {
		t.form = mapping
	}
	height, size = p.children(y, t, depth)
	if a != nil {
		*a = anchored{tree: t, size: size, depth: height}
	}
	return height, size
}

func (p *planter) children(y *yaml.Node, t *tree, depth int) (height, size int) {
	t.content = make([]tree, len(y.Content))
	p.size++
	size = 1
	merge := false
	for i, c := range y.Content {
		h, s := p.plant(c, &t.content[i], depth+1)
		height, size = max(height, h), size+s
		merge = merge || t.form == mapping && i%2 == 0 && c.Tag == "!!merge"
		if p.size > maxNodes {
			p.refuse(t)
		}
		if p.stopped {
			return height + 1, size
		}
	}
	if merge {
		t.merge()
	}
	if t.form == mapping {
		p.duplicates(t)
	}
	return height + 1, size
}

// alias makes t what its anchor stands for; both share what is below them.
func (p *planter) alias(y *yaml.Node, t *tree, depth int) (int, int) {
	target := y.Alias
	if target.Kind == yaml.ScalarNode {
		line, col := t.line, t.col
		h, s := p.plant(target, t, depth)
		t.line, t.col = line, col
		return h, s
	}
	a := p.planted[target]
	if a == nil || a.open || depth+a.depth > maxDepth || p.size+a.size > maxNodes {
		p.refuse(t)
		return 0, 0
	}
	p.size += a.size
	*t = *a.tree
	return a.depth, a.size
}

func (p *planter) refuse(t *tree) {
	if !p.stopped {
		p.diags.at(node{tree: t, doc: p.doc}.place(), CodeTooLarge, "this nests deeper than %d levels, or its aliases expand without end", maxDepth).
			hint("write the repeated part out, or move it into a type")
	}
	p.stopped = true
}

// merge replaces "<<" by the keys it brings in; keys that stand in the mapping itself win.
func (t *tree) merge() {
	var own, brought []tree
	have := map[string]bool{}
	for i := 0; i+1 < len(t.content); i += 2 {
		if t.content[i].value != "<<" {
			own = append(own, t.content[i], t.content[i+1])
			have[t.content[i].value] = true
		}
	}
	for i := 0; i+1 < len(t.content); i += 2 {
		if t.content[i].value != "<<" {
			continue
		}
		sources := []tree{t.content[i+1]}
		if sources[0].form == sequence {
			sources = sources[0].content
		}
		for _, s := range sources {
			for k := 0; s.form == mapping && k+1 < len(s.content); k += 2 {
				if !have[s.content[k].value] {
					have[s.content[k].value] = true
					brought = append(brought, s.content[k], s.content[k+1])
				}
			}
		}
	}
	t.content = append(own, brought...)
}

// fewKeys is up to how many keys a mapping is searched rather than indexed.
const fewKeys = 16

func (p *planter) duplicates(t *tree) {
	if len(t.content) <= 2*fewKeys {
		for i := 2; i+1 < len(t.content); i += 2 {
			for k := 0; k < i; k += 2 {
				if t.content[k].value == t.content[i].value && t.content[i].form == scalar {
					p.twice(&t.content[i], &t.content[k])
					break
				}
			}
		}
		return
	}
	first := make(map[string]*tree, len(t.content)/2)
	for i := 0; i+1 < len(t.content); i += 2 {
		k := &t.content[i]
		if f := first[k.value]; f != nil && k.form == scalar {
			p.twice(k, f)
			continue
		}
		first[k.value] = k
	}
}

func (p *planter) twice(again, first *tree) {
	at := node{tree: first, doc: p.doc}.pos()
	p.diags.at(node{tree: again, doc: p.doc}.place(), CodeDuplicateKey, "%q stands here twice; the first is at line %d", again.value, at.Line).
		see(at).hint("remove or rename one of them")
}

// literal types a scalar by its resolved YAML tag; what YAML leaves open stays text.
func (t *tree) literal() any {
	switch t.tag {
	case tagNull:
		return nil
	case tagBool:
		return t.value == "true" || t.value == "True" || t.value == "TRUE"
	case tagInt:
		if i, err := strconv.ParseInt(t.value, 0, 64); err == nil {
			return i
		}
	case tagFloat:
		if f, ok := finite(t.value); ok {
			return f
		}
	}
	return t.value
}
