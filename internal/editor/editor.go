// Package editor is a language server: it tells an editor, while a template is written, what andamio check would say, and what may be written there.
//
// In go messages of the Language Server Protocol 3.17 (JSON-RPC 2.0 with Content-Length headers), out come diagnostics for
// every file of the template that an open file belongs to; what may stand at a place, what a name means and where it is defined; and the edits that
// give a node another name. What is open in the editor counts instead of what lies on disk.
package editor

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"strconv"
	"strings"
	"sync"

	"github.com/sourcegraph/jsonrpc2"
	"go.lsp.dev/protocol"

	"andamio/internal/service/templates"
)

// Serve answers messages until the editor ends the session, the input ends, or the context does. It is an error if it ends without having been
// shut down.
func Serve(ctx context.Context, in io.Reader, out io.Writer) error {
	s := &server{open: map[string]file{}, told: map[string]map[string]bool{}, found: map[string][]protocol.Diagnostic{}, good: map[string]*templates.Template{}}
	messages := &stream{in: bufio.NewReader(in), out: out}
	conn := jsonrpc2.NewConn(ctx, messages, s, jsonrpc2.SetLogger(log.New(io.Discard, "", 0)))
	select {
	case <-conn.DisconnectNotify():
	case <-ctx.Done(): // whoever reads the input may wait for ever
		return errors.Join(errors.New("the session was broken off"), conn.Close())
	}
	if s.exited && !s.ended {
		return errors.New("the editor left without shutting the session down")
	}
	return messages.wrong
}

// maxMessage bounds what is read of one message.
const maxMessage = 64 << 20

// stream reads and writes messages with their headers. A body that is no message is answered as such, and the next is read.
type stream struct {
	in  *bufio.Reader
	mu  sync.Mutex
	out io.Writer
	// wrong is why no more messages can be read; nil at the end of the input.
	wrong error
}

// ReadObject implements jsonrpc2.ObjectStream.
func (s *stream) ReadObject(v any) error {
	for {
		body, err := s.body()
		if err != nil {
			if !errors.Is(err, io.EOF) {
				s.wrong = err
			}
			return err
		}
		err = json.Unmarshal(body, v)
		if err == nil {
			return nil
		}
		wrong := &jsonrpc2.Error{Code: jsonrpc2.CodeParseError, Message: "this is no message: " + err.Error()}
		if json.Valid(body) {
			wrong.Code = jsonrpc2.CodeInvalidRequest
		}
		if err := s.WriteObject(map[string]any{"jsonrpc": "2.0", "id": nil, "error": wrong}); err != nil {
			return err
		}
	}
}

// body reads the body of a message. Where its length is not known there is no way on.
func (s *stream) body() ([]byte, error) {
	length := -1
	for {
		line, err := s.in.ReadString('\n')
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
	_, err := io.ReadFull(s.in, body)
	return body, err
}

// WriteObject implements jsonrpc2.ObjectStream.
func (s *stream) WriteObject(v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	_, err = fmt.Fprintf(s.out, "Content-Length: %d\r\n\r\n%s", len(body), body)
	return err
}

// Close implements jsonrpc2.ObjectStream.
func (s *stream) Close() error { return nil }

// file is an open file: its text and the editor's number of that.
type file struct {
	text    string
	version int32
}

// server is one session.
type server struct {
	// begun says that the session was initialized, ended that it was shut down, exited that the editor left.
	begun, ended, exited bool
	// open are open files by path; told which files were told of, by folder; found the last diagnostics.
	open  map[string]file
	told  map[string]map[string]bool
	found map[string][]protocol.Diagnostic
	// good are templates as they were when they could be read last, by folder.
	good map[string]*templates.Template
}

// params are what the messages that are heard may carry.
type params struct {
	TextDocument   protocol.TextDocumentItem                 `json:"textDocument"`
	ContentChanges []protocol.TextDocumentContentChangeEvent `json:"contentChanges"`
	Position       protocol.Position                         `json:"position"`
	NewName        string                                    `json:"newName"`
}

// codeNotInitialized is that of a request before the session begins (LSP 3.17, error codes).
const codeNotInitialized = -32002

// Handle implements jsonrpc2.Handler: one message after another.
func (s *server) Handle(ctx context.Context, conn *jsonrpc2.Conn, req *jsonrpc2.Request) {
	result, err := s.handle(ctx, conn, req)
	if s.exited {
		_ = conn.Close()
		return
	}
	if req.Notif {
		return
	}
	if err != nil {
		_ = conn.ReplyWithError(ctx, req.ID, err)
		return
	}
	_ = conn.Reply(ctx, req.ID, result)
}

// capabilities are what the server does.
var capabilities = protocol.ServerCapabilities{TextDocumentSync: protocol.TextDocumentSyncKindFull, HoverProvider: true, DefinitionProvider: true, RenameProvider: true,
	CompletionProvider: &protocol.CompletionOptions{TriggerCharacters: []string{":", " ", "[", "{"}}}

func refused(code int64, format string, args ...any) *jsonrpc2.Error {
	return &jsonrpc2.Error{Code: code, Message: fmt.Sprintf(format, args...)}
}

func (s *server) handle(ctx context.Context, conn *jsonrpc2.Conn, req *jsonrpc2.Request) (any, *jsonrpc2.Error) {
	switch {
	case req.Method == protocol.MethodExit:
		s.exited = true
		return nil, nil
	case s.ended:
		return nil, refused(jsonrpc2.CodeInvalidRequest, "the session was shut down")
	case req.Method == protocol.MethodInitialize && s.begun:
		return nil, refused(jsonrpc2.CodeInvalidRequest, "the session has begun already")
	case req.Method == protocol.MethodInitialize:
		s.begun = true
		return protocol.InitializeResult{Capabilities: capabilities, ServerInfo: &protocol.ServerInfo{Name: "andamio"}}, nil
	case !s.begun:
		return nil, refused(codeNotInitialized, "the session has not begun: initialize comes first")
	case req.Method == protocol.MethodShutdown:
		s.ended = true
		return nil, nil
	}
	var p params
	if req.Params != nil {
		if err := json.Unmarshal(*req.Params, &p); err != nil {
			return nil, refused(jsonrpc2.CodeInvalidParams, "%v", err)
		}
	}
	path, isFile := pathOf(p.TextDocument.URI)
	switch req.Method {
	case protocol.MethodTextDocumentHover:
		return s.hover(path, p.Position), nil
	case protocol.MethodTextDocumentCompletion:
		return s.complete(path, p.Position), nil
	case protocol.MethodTextDocumentDefinition:
		return s.definition(path, p.Position), nil
	case protocol.MethodTextDocumentRename:
		return s.rename(path, p.Position, p.NewName)
	case protocol.MethodTextDocumentDidOpen:
		s.open[path] = file{p.TextDocument.Text, p.TextDocument.Version}
	case protocol.MethodTextDocumentDidChange:
		if len(p.ContentChanges) == 0 {
			return nil, nil
		}
		s.open[path] = file{p.ContentChanges[len(p.ContentChanges)-1].Text, p.TextDocument.Version}
	case protocol.MethodTextDocumentDidClose:
		delete(s.open, path)
	case protocol.MethodTextDocumentDidSave:
	default:
		return nil, refused(jsonrpc2.CodeMethodNotFound, "not offered: %s", req.Method)
	}
	if isFile {
		s.check(ctx, conn, path)
	}
	return nil, nil
}
