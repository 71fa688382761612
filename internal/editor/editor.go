// Package editor is a language server: it tells an editor, while a template is written, what andamio check would say.
//
// In go messages of the Language Server Protocol 3.17 (JSON-RPC 2.0 with Content-Length headers), out come diagnostics for
// every file of the template that an open file belongs to, and on hover what the code of a diagnostic means. What is open
// in the editor counts instead of what lies on disk.
package editor

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Serve answers messages until the editor ends the session or the input ends.
func Serve(in io.Reader, out io.Writer) error {
	s := &server{out: out, open: map[string]string{}, told: map[string]map[string]bool{}, found: map[string][]diagnostic{}}
	r := bufio.NewReader(in)
	for {
		m, err := receive(r)
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case m.Method == "exit":
			return nil
		}
		if err := s.handle(m); err != nil {
			return err
		}
	}
}

// message is a request (with an id) or a notification.
type message struct {
	ID     *json.RawMessage `json:"id"`
	Method string           `json:"method"`
	Params json.RawMessage  `json:"params"`
}

// maxMessage bounds what is read of one message.
const maxMessage = 64 << 20

// receive reads a message with its headers.
func receive(r *bufio.Reader) (*message, error) {
	length := -1
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return nil, err
		}
		line = strings.TrimSpace(line)
		if line == "" {
			break
		}
		if name, value, ok := strings.Cut(line, ":"); ok && strings.EqualFold(name, "Content-Length") {
			if length, err = strconv.Atoi(strings.TrimSpace(value)); err != nil {
				return nil, fmt.Errorf("this is no length of a message: %q", value)
			}
		}
	}
	if length < 0 || length > maxMessage {
		return nil, fmt.Errorf("a message of %d bytes is not read", length)
	}
	body := make([]byte, length)
	if _, err := io.ReadFull(r, body); err != nil {
		return nil, err
	}
	var m message
	if err := json.Unmarshal(body, &m); err != nil {
		return nil, fmt.Errorf("this is no message: %w", err)
	}
	return &m, nil
}

// server is one session.
type server struct {
	out io.Writer
	// open are the texts of open files by path; told which files were told of, by folder; found the last diagnostics.
	open  map[string]string
	told  map[string]map[string]bool
	found map[string][]diagnostic
}

func (s *server) send(v map[string]any) error {
	v["jsonrpc"] = "2.0"
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(s.out, "Content-Length: %d\r\n\r\n%s", len(body), body)
	return err
}

func (s *server) reply(m *message, result any) error {
	return s.send(map[string]any{"id": m.ID, "result": result})
}

// params are what the messages that are heard may carry.
type params struct {
	TextDocument struct {
		URI  string `json:"uri"`
		Text string `json:"text"`
	} `json:"textDocument"`
	ContentChanges []struct {
		Text string `json:"text"`
	} `json:"contentChanges"`
	Position position `json:"position"`
}

func (s *server) handle(m *message) error {
	var p params
	if len(m.Params) > 0 && m.Method != "initialize" {
		if err := json.Unmarshal(m.Params, &p); err != nil && m.ID != nil {
			return s.send(map[string]any{"id": m.ID, "error": map[string]any{"code": -32602, "message": err.Error()}})
		}
	}
	path, isFile := pathOf(p.TextDocument.URI)
	switch m.Method {
	case "initialize":
		return s.reply(m, map[string]any{"serverInfo": map[string]any{"name": "andamio"},
			"capabilities": map[string]any{"textDocumentSync": 1, "hoverProvider": true}})
	case "shutdown":
		return s.reply(m, nil)
	case "textDocument/hover":
		return s.reply(m, s.hover(path, p.Position))
	case "textDocument/didOpen":
		s.open[path] = p.TextDocument.Text
	case "textDocument/didChange":
		if len(p.ContentChanges) == 0 {
			return nil
		}
		s.open[path] = p.ContentChanges[len(p.ContentChanges)-1].Text
	case "textDocument/didClose":
		delete(s.open, path)
	case "textDocument/didSave":
	default:
		if m.ID != nil {
			return s.send(map[string]any{"id": m.ID, "error": map[string]any{"code": -32601, "message": "not offered: " + m.Method}})
		}
		return nil
	}
	if !isFile {
		return nil
	}
	return s.check(path)
}
