package tosca

import (
	"bytes"
	"runtime"
	"sync"

	"go.yaml.in/yaml/v4"
)

// Large templates are read in pieces: the entries of node_templates are cut apart where a line begins one, decoded side
// by side on all cores, and put together again. That is as exact as reading the whole, since the pieces are cut only
// where nothing can reach across:
//
//   - a file with anchors, aliases, tabs, document markers or directives is read whole;
//   - entries of a block mapping begin at one indentation, and everything that belongs to one is indented deeper, save
//     what stands in quotes or brackets over several lines; cutting through these leaves a piece that is no YAML by
//     itself or no mapping, and then the file is read whole after all, which also words the error for the whole file.

// piecesFrom is the size from which cutting pays; pieceSize is about how large a piece becomes. Small pieces keep little
// of the library's tree in memory at a time.
const (
	piecesFrom = 128 << 10
	pieceSize  = 48 << 10
)

// reaches reports whether something in the text may reach across pieces: an anchor or alias, a tab, a carriage return, a
// document marker or a directive.
func reaches(data []byte) bool {
	if bytes.IndexByte(data, '\t') >= 0 || bytes.IndexByte(data, '\r') >= 0 || bytes.Contains(data, []byte("<<:")) {
		return true
	}
	for _, marker := range []string{"\n---", "\n...", "\n%"} {
		if bytes.Contains(data, []byte(marker)) {
			return true
		}
	}
	for _, sigil := range []byte{'&', '*'} {
		for rest := data; ; {
			i := bytes.IndexByte(rest, sigil)
			if i < 0 {
				break
			}
			if i == 0 || bytes.IndexByte([]byte(" \n[{,:-"), rest[i-1]) >= 0 {
				return true
			}
			rest = rest[i+1:]
		}
	}
	return data[0] == '%' || bytes.HasPrefix(data, []byte("---"))
}

// piece is a range of lines of a file: bytes from and to, the first line's number less one.
type piece struct {
	from, to int
	line     int
}

// cut finds the entries of topology_template / node_templates. It returns nil if the file cannot be cut.
func cut(data []byte) []piece {
	if len(data) < piecesFrom || reaches(data) {
		return nil
	}
	var path [2]struct {
		found  bool
		indent int
	}
	want := [2]string{"topology_template:", "node_templates:"}
	entry := -1
	var out []piece
	level, line := 0, 0
	for at := 0; at < len(data); line++ {
		end := len(data)
		if i := bytes.IndexByte(data[at:], '\n'); i >= 0 {
			end = at + i + 1
		}
		text := data[at:end]
		start := at
		at = end
		body := bytes.TrimLeft(text, " ")
		if len(bytes.TrimSpace(body)) == 0 || body[0] == '#' {
			continue
		}
		indent := len(text) - len(body)
		if level == 2 {
			if entry < 0 && indent > path[1].indent {
				entry = indent
				out = append(out, piece{from: start, line: line})
				continue
			}
			switch {
			case indent <= path[1].indent: // the section ends here
				out[len(out)-1].to = start
				return out
			case indent < entry:
				return nil
			case indent == entry && start-out[len(out)-1].from >= pieceSize:
				out[len(out)-1].to = start
				out = append(out, piece{from: start, line: line})
			}
			continue
		}
		key := bytes.TrimRight(body, " \n")
		switch {
		case level == 1 && indent <= path[0].indent:
			return nil // topology_template ended without node_templates
		case level == 0 && indent != 0, level == 1 && path[1].found && indent != path[1].indent:
			continue
		case level == 1 && !path[1].found:
			path[1].found, path[1].indent = true, indent
		}
		if string(key) == want[level] {
			path[level].found, path[level].indent = true, indent
			level++
		}
	}
	if entry < 0 {
		return nil
	}
	out[len(out)-1].to = len(data)
	return out
}

// plantPieces reads a large file in pieces. It reports false if the file has to be read whole.
func plantPieces(doc *document, data []byte, root *tree) (*planter, bool) {
	cuts := cut(data)
	if len(cuts) < 2 {
		return nil, false
	}
	parts := make([]tree, len(cuts))
	planters := make([]*planter, len(cuts))
	var group sync.WaitGroup
	next := make(chan int, len(cuts))
	for i := range cuts {
		next <- i
	}
	close(next)
	diags := make([]Diagnostics, len(cuts))
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for i := range next {
				p := newPlanter(doc, &diags[i])
				p.offset = int32(cuts[i].line)
				if plantText(p, data[cuts[i].from:cuts[i].to], &parts[i]) {
					planters[i] = p
				}
			}
		})
	}
	group.Wait()
	for _, p := range planters {
		if p == nil || p.stopped {
			return nil, false
		}
	}
	return assemble(doc, data, cuts, parts, diags, root)
}

// plantText decodes a text that is one mapping.
func plantText(p *planter, data []byte, t *tree) bool {
	var y yaml.Node
	if yaml.Unmarshal(data, &y) != nil || len(y.Content) != 1 || y.Content[0].Kind != yaml.MappingNode {
		return false
	}
	p.plant(y.Content[0], t, 3)
	return true
}

// assemble decodes what is around the pieces and puts them in.
func assemble(doc *document, data []byte, cuts []piece, parts []tree, diags []Diagnostics, root *tree) (*planter, bool) {
	first, last := cuts[0].from, cuts[len(cuts)-1].to
	var frame []byte
	frame = append(frame, data[:first]...)
	frame = append(frame, data[last:]...)
	var found Diagnostics
	p := newPlanter(doc, &found)
	if !plantText(p, frame, root) || p.stopped {
		return nil, false
	}
	gap := int32(bytes.Count(data[first:last], []byte{'\n'}))
	root.shift(int32(cuts[0].line), gap)
	for i := range found {
		if found[i].Line > cuts[0].line {
			found[i].Line += int(gap)
		}
	}
	topo, ok := node{tree: root, doc: doc}.get("topology_template")
	if !ok {
		return nil, false
	}
	nodes, ok := topo.get("node_templates")
	if !ok || !nodes.isNull() {
		return nil, false
	}
	n := 0
	for i := range parts {
		n += len(parts[i].content)
	}
	nodes.form, nodes.tag = mapping, tagText
	nodes.value, nodes.line, nodes.col = "", parts[0].line, parts[0].col
	nodes.content = make([]tree, 0, n)
	for i := range parts {
		nodes.content = append(nodes.content, parts[i].content...)
		found = append(found, diags[i]...)
	}
	p.diags = &found
	p.duplicates(nodes.tree)
	return p, true
}

// shift moves what stands below a line down.
func (t *tree) shift(after, by int32) {
	if t.line > after {
		t.line += by
	}
	for i := range t.content {
		t.content[i].shift(after, by)
	}
}
