package editor

import (
	"context"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf16"

	"github.com/sourcegraph/jsonrpc2"
	"go.lsp.dev/protocol"

	"andamio/internal/core/estate"
	"andamio/internal/core/tosca"
	"andamio/internal/service/templates"
)

func pathOf(of protocol.DocumentURI) (string, bool) {
	u, err := url.Parse(string(of))
	if err != nil || u.Scheme != "file" {
		return "", false
	}
	return filepath.Clean(u.Path), true
}

func uriOf(path string) protocol.DocumentURI {
	return protocol.DocumentURI((&url.URL{Scheme: "file", Path: path}).String())
}

// parents is how far above a file its template's folder is looked for.
const parents = 4

// templateOf finds the folder and file of the template that a file belongs to: the nearest folder with a template in it,
// else the file itself.
func templateOf(path string) (dir, root string) {
	at := filepath.Dir(path)
	for range parents {
		if found, err := templates.FindTemplate(os.DirFS(at)); err == nil {
			return at, found
		}
		if filepath.Dir(at) == at {
			break
		}
		at = filepath.Dir(at)
	}
	return filepath.Dir(path), filepath.Base(path)
}

// check checks the template that a file belongs to, and tells of all of its files. One that was wrong before and is not
// any more is told of with nothing.
func (s *server) check(ctx context.Context, conn *jsonrpc2.Conn, path string) {
	t, dir := s.template(path)
	if t == nil {
		return // no template yet: nothing to tell
	}
	diags, err := t.Check("", estateIn(s.files(dir)), nil)
	if err != nil {
		return
	}
	now := map[string][]protocol.Diagnostic{}
	for _, d := range diags {
		file := filepath.Join(dir, d.File)
		now[file] = append(now[file], s.render(t, dir, d))
	}
	for file := range s.told[dir] {
		if _, still := now[file]; !still {
			now[file] = []protocol.Diagnostic{}
		}
	}
	if now[path] == nil {
		now[path] = []protocol.Diagnostic{}
	}
	s.told[dir] = map[string]bool{}
	for file, ds := range now {
		s.told[dir][file] = true
		s.found[file] = ds
		told := protocol.PublishDiagnosticsParams{URI: uriOf(file), Diagnostics: ds}
		if f, open := s.open[file]; open {
			told.Version = uint32(f.version)
		}
		_ = conn.Notify(ctx, protocol.MethodTextDocumentPublishDiagnostics, told)
	}
}

// template is the template that a file belongs to, with its folder; nil if there is none yet.
func (s *server) template(path string) (*templates.Template, string) {
	dir, root := templateOf(path)
	t, err := templates.ReadTemplate(s.files(dir), dir, root)
	if err != nil {
		return nil, dir
	}
	if len(t.Nodes) > 0 {
		s.good[dir] = t
	}
	return t, dir
}

// files are a folder's files, with what is open in the editor in place of what lies on disk.
func (s *server) files(dir string) fs.FS {
	over := map[string][]byte{}
	for path, f := range s.open {
		if rel, err := filepath.Rel(dir, path); err == nil && fs.ValidPath(filepath.ToSlash(rel)) {
			over[filepath.ToSlash(rel)] = []byte(f.text)
		}
	}
	return templates.Overlaid(dir, over)
}

func estateIn(files fs.FS) *estate.Estate {
	data, err := fs.ReadFile(files, "estate.json")
	if err != nil {
		return nil
	}
	e, err := estate.Read(data)
	if err != nil {
		return nil
	}
	return e
}

func (s *server) render(t *templates.Template, dir string, d tosca.Diagnostic) protocol.Diagnostic {
	out := protocol.Diagnostic{Range: spanOf(t, d.Pos, d.Width), Severity: protocol.DiagnosticSeverityError, Code: string(d.Code), Source: "andamio", Message: d.Message}
	if d.Severity == tosca.Doubt {
		out.Severity = protocol.DiagnosticSeverityWarning
	}
	if d.Hint != "" {
		out.Message += "\n" + d.Hint
	}
	if d.Related != nil && t.Text(d.Related.File) != nil {
		at := protocol.Location{URI: uriOf(filepath.Join(dir, d.Related.File)), Range: spanOf(t, *d.Related, 1)}
		out.RelatedInformation = []protocol.DiagnosticRelatedInformation{{Location: at, Message: "see here"}}
	}
	return out
}

// spanOf turns a place in characters into one in UTF-16 units.
func spanOf(t *templates.Template, at tosca.Pos, width int) protocol.Range {
	line := ""
	if lines := strings.Split(string(t.Text(at.File)), "\n"); at.Line <= len(lines) {
		line = lines[at.Line-1]
	}
	units := func(chars int) int {
		r := []rune(line)
		return len(utf16.Encode(r[:min(max(chars, 0), len(r))]))
	}
	from := units(at.Col - 1)
	return between(at.Line-1, from, max(units(at.Col-1+width), from+1))
}

// between is a part of a line.
func between(line, from, to int) protocol.Range {
	at := func(units int) protocol.Position {
		return protocol.Position{Line: uint32(max(line, 0)), Character: uint32(units)}
	}
	return protocol.Range{Start: at(from), End: at(to)}
}
