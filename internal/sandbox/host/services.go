package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/afero"
)

// httpd serves a folder: httpd -p PORT [-h DIR].
func httpd(c *call) error {
	port, err := c.port("-p")
	if err != nil {
		return err
	}
	return c.h.start(Program{Kind: "httpd", At: abs(c.dir, c.option("-h", ".")), Port: port})
}

// serving is a program with what it listens with, and the name it goes by.
func (h *Host) serving(p Program) *service {
	s := &service{port: p.Port, program: p}
	switch p.Kind {
	case "nc":
		s.command, s.serve = "nc "+p.At, func(l net.Listener) { h.answering(l, p) }
	case "haproxy":
		s.balancer = h.balancing(p)
		s.command, s.serve, s.quit = "haproxy", s.balancer.serve, s.balancer.server.Close
	default:
		root := afero.NewBasePathFs(h.fs, p.At)
		server := &http.Server{Handler: http.FileServer(afero.NewHttpFs(root)), ReadHeaderTimeout: 10 * time.Second}
		s.command, s.serve, s.quit = "httpd", func(l net.Listener) { _ = server.Serve(l) }, server.Close
	}
	return s
}

// answering gives each connection to a program as its standard input and output. The program is read when it is started,
// or when the machine goes on elsewhere.
func (h *Host) answering(l net.Listener, p Program) {
	script, err := afero.ReadFile(h.fs, p.At)
	if err != nil {
		return
	}
	accept(l, func(conn net.Conn) {
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(time.Minute))
		h.Run(h.ctx, string(script), p.Env, conn, conn, io.Discard)
	})
}

// option is the word after a flag.
func (c *call) option(flag, fallback string) string {
	if i := slices.Index(c.args, flag); i >= 0 && i+1 < len(c.args) {
		return c.args[i+1]
	}
	return fallback
}

func (c *call) port(flag string) (int, error) {
	return parsePort(c.option(flag, ""))
}

func parsePort(text string) (int, error) {
	port, err := strconv.Atoi(text)
	if err != nil || port < 1 || port > 65535 {
		return 0, fmt.Errorf("%q is no port", text)
	}
	return port, nil
}

// nc listens and answers with a program, nc -lk -p PORT -e PROGRAM; or connects, nc [-z] HOST PORT.
func nc(c *call) error {
	flags, operands := c.split()
	if strings.Contains(flags, "l") {
		return c.answer()
	}
	if len(operands) < 2 {
		return errors.New("takes a host and a port")
	}
	conn, err := c.h.dial(c.ctx, "tcp", net.JoinHostPort(operands[0], operands[1]))
	if err != nil {
		return err
	}
	defer conn.Close()
	if strings.Contains(flags, "z") {
		return nil
	}
	go func() {
		_, _ = io.Copy(conn, c.in)
		if half, ok := conn.(interface{ CloseWrite() error }); ok {
			_ = half.CloseWrite()
		}
	}()
	_, err = io.Copy(c.out, conn)
	return err
}

// answer listens and answers with a program.
func (c *call) answer() error {
	port, err := c.port("-p")
	if err != nil {
		return err
	}
	at := abs(c.dir, c.option("-e", ""))
	if there, _ := afero.Exists(c.h.fs, at); !there {
		return fmt.Errorf("%s: no such program", at)
	}
	return c.h.start(Program{Kind: "nc", At: at, Env: environ(c.env), Port: port})
}

// accept serves connections until the listener is closed.
func accept(l net.Listener, serve func(net.Conn)) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go serve(conn)
	}
}

// dial connects within loopback only: a stand-in must not reach anything outside this machine.
func dial(ctx context.Context, network, address string) (net.Conn, error) {
	hostname, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	if ip := net.ParseIP(hostname); ip == nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("%s: network is unreachable", hostname)
	}
	d := net.Dialer{Timeout: 5 * time.Second}
	return d.DialContext(ctx, network, address)
}

// dial connects and notes with whom, as a machine's table of connections does.
func (h *Host) dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := dial(ctx, network, address)
	if err == nil {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.peers == nil {
			h.peers = map[string]bool{}
		}
		if len(h.peers) < maxPeers {
			h.peers[address] = true
		}
	}
	return conn, err
}

// maxPeers bounds the table of connections.
const maxPeers = 1000

// wget fetches a page: wget [-q] [-O FILE] URL, where FILE "-" is standard output.
func wget(c *call) error {
	target := ""
	for i, a := range c.args {
		if strings.HasPrefix(a, "http://") && (i == 0 || c.args[i-1] != "-O") {
			target = a
		}
	}
	req, err := http.NewRequestWithContext(c.ctx, http.MethodGet, target, nil)
	if err != nil {
		return err
	}
	web := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DialContext: c.h.dial, DisableKeepAlives: true}}
	resp, err := web.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: server answered %s", target, resp.Status)
	}
	body := io.LimitReader(resp.Body, 16<<20)
	if file := c.option("-O", "index.html"); file != "-" {
		return afero.WriteReader(c.h.fs, abs(c.dir, file), body)
	}
	_, err = io.Copy(c.out, body)
	return err
}

// fuser stops what listens on a port: fuser -k PORT/tcp.
func fuser(c *call) error {
	flags, operands := c.split()
	if !strings.Contains(flags, "k") || len(operands) != 1 {
		return errors.New("takes -k PORT/tcp")
	}
	port, err := parsePort(strings.TrimSuffix(operands[0], "/tcp"))
	if err != nil {
		return err
	}
	return c.h.stop(port)
}
