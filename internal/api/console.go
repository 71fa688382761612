package api

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/coder/websocket"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/upgrade"
)

// protocolConsole is what consoles are spoken in: messages of bytes, of which each is as many as there were (RFC 6455).
const protocolConsole = "websocket"

// consoleOf is the instance whose console a request is for.
func consoleOf(r *http.Request) (instance string, is bool) {
	rest, is := strings.CutPrefix(r.URL.EscapedPath(), "/"+Version+"/instances/")
	name, is2 := strings.CutSuffix(rest, "/console")
	if !is || !is2 || strings.Contains(name, "/") {
		return "", false
	}
	instance, err := url.PathUnescape(name)
	return instance, err == nil
}

// consoleOperations describe the console: whoever asks for it otherwise than by a web socket is told.
func consoleOperations(s *Server) {
	does(s, operation{id: "openConsole", method: http.MethodGet, path: "/instances/{instance}/console", summary: "Open the serial console of an instance, as a web socket (RFC 6455) of what is typed and shown", tag: "instances", status: http.StatusSwitchingProtocols,
		twins: []string{"console"}}, func(context.Context, *app.App, *OfInstance) (*gone, error) {
		return nil, withStatus(http.StatusUpgradeRequired, problem(fault.Invalid, "consoles are spoken to by HTTP/1.1 with Upgrade: "+protocolConsole))
	})
}

// asksConsole reports that a request is for a console, by the protocol that consoles are spoken in.
func asksConsole(r *http.Request) bool {
	_, is := consoleOf(r)
	return is && upgrade.Asks(r, protocolConsole)
}

// console joins whoever shows a token that holds with the serial console of an instance, until either ends or the token does.
func (s *Server) console(w http.ResponseWriter, r *http.Request) {
	ctx, v, leave := s.seat(w, r, guard.API)
	if leave == nil {
		return
	}
	defer leave()
	instance, _ := consoleOf(r)
	h, err := v.app.FindHost(ctx, instance)
	if err != nil {
		writeProblem(w, problemOf(err))
		return
	}
	serial, err := v.app.OpenConsole(ctx, h)
	if err != nil {
		writeProblem(w, problemOf(err))
		return
	}
	defer serial.In.Close()
	c, err := websocket.Accept(w, r, nil)
	if err != nil {
		s.app.Log.Info("a console was not taken over", "err", err)
		return
	}
	join(ctx, c, serial.In, serial.Out)
}

// typedWithin is how long what a console shows may take to be sent.
const typedWithin = 15 * time.Second

// join passes on what is typed and what is shown, until either side ends.
func join(ctx context.Context, c *websocket.Conn, in io.WriteCloser, out io.Reader) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer in.Close() // by which what is shown ends
	defer context.AfterFunc(ctx, func() { _ = in.Close() })()
	go func() {
		defer cancel()
		_, _ = io.Copy(&showing{ctx, c}, out)
		_ = c.Close(websocket.StatusNormalClosure, "the console ended")
	}()
	for {
		_, typed, err := c.Read(ctx)
		if err == nil {
			_, err = in.Write(typed)
		}
		if err != nil {
			_ = c.Close(websocket.StatusNormalClosure, "")
			return
		}
	}
}

// showing sends what is written to it as messages.
type showing struct {
	ctx context.Context
	c   *websocket.Conn
}

func (s *showing) Write(p []byte) (int, error) {
	ctx, cancel := context.WithTimeout(s.ctx, typedWithin)
	defer cancel()
	return len(p), s.c.Write(ctx, websocket.MessageBinary, p)
}
