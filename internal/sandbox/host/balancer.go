package host

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/afero"
)

// balancer hands out what it is asked to members that are well, as HAProxy does with the little of its configuration that is read here.
type balancer struct {
	ctx  context.Context
	dial func(ctx context.Context, network, address string) (net.Conn, error)
	// at is its configuration.
	at string
	// server answers where requests are balanced, and not connections.
	server *http.Server

	mu      sync.Mutex
	rules   balancing
	members []*member
	next    int
}

// balancing is a configuration.
type balancing struct {
	port            int
	http            bool
	algorithm, look string
	servers         map[string]string
	names           []string
}

// member is one that is asked.
type member struct {
	name, address string

	mu     sync.Mutex
	up     bool
	asked  time.Time
	active int
}

const (
	// verdictHolds is how long it is taken that a member is as it was when it was asked.
	verdictHolds = time.Second
	memberAnswer = time.Second
)

// readBalancing reads a configuration of HAProxy, of which it knows what one frontend and one backend need.
func readBalancing(data []byte) (balancing, error) {
	b := balancing{algorithm: "roundrobin", servers: map[string]string{}}
	for lines := bufio.NewScanner(bytes.NewReader(data)); lines.Scan(); {
		words := strings.Fields(lines.Text())
		switch {
		case len(words) < 2:
		case words[0] == "mode":
			b.http = words[1] == "http"
		case words[0] == "bind":
			port, err := parsePort(strings.TrimPrefix(words[1], "*:"))
			if err != nil {
				return b, err
			}
			b.port = port
		case words[0] == "balance":
			b.algorithm = words[1]
		case words[0] == "option" && words[1] == "httpchk" && len(words) == 4:
			b.look = words[3]
		case words[0] == "server":
			if len(words) < 3 {
				return b, fmt.Errorf("server %s: no address", words[1])
			}
			if _, _, err := net.SplitHostPort(words[2]); err != nil {
				return b, fmt.Errorf("server %s: %q is no address with a port", words[1], words[2])
			}
			if b.servers[words[1]] != "" {
				return b, fmt.Errorf("server %s is there twice", words[1])
			}
			b.servers[words[1]] = words[2]
			b.names = append(b.names, words[1])
		}
	}
	if b.port == 0 {
		return b, errors.New("nothing says where it listens")
	}
	return b, nil
}

// firstProcess is what the numbers of processes of balancers are above, by their port.
const firstProcess = 100_000

// haproxy checks a configuration, haproxy -c -f FILE; or goes on with it, haproxy -D -f FILE -p PIDFILE [-sf PID], in the place of the one before.
func haproxy(c *call) error {
	if len(c.args) == 1 && c.args[0] == "-v" {
		fmt.Fprintln(c.out, "HAProxy, a stand-in")
		return nil
	}
	at := abs(c.dir, c.option("-f", ""))
	data, err := afero.ReadFile(c.h.fs, at)
	if err != nil {
		return fmt.Errorf("%s: no such file", at)
	}
	rules, err := readBalancing(data)
	if err != nil {
		return fmt.Errorf("%s: %w", at, err)
	}
	for _, a := range c.args {
		if a == "-c" {
			return nil
		}
	}
	if before, err := strconv.Atoi(c.option("-sf", "")); err == nil && before-firstProcess != rules.port {
		_ = c.h.stop(before - firstProcess) // it may be gone
	}
	if !c.h.rebalance(rules, at) {
		if err := c.h.start(Program{Kind: "haproxy", At: at, Port: rules.port}); err != nil {
			return err
		}
	}
	if file := c.option("-p", ""); file != "" {
		return afero.WriteFile(c.h.fs, abs(c.dir, file), []byte(strconv.Itoa(firstProcess+rules.port)+"\n"), 0o644)
	}
	return nil
}

// rebalance has a balancer that runs go on with another configuration; false if none runs on its port.
func (h *Host) rebalance(rules balancing, at string) bool {
	h.mu.Lock()
	s := h.services[rules.port]
	h.mu.Unlock()
	if s == nil || s.balancer == nil {
		return false
	}
	s.balancer.at = at
	s.balancer.take(rules)
	return true
}

func newBalancer(ctx context.Context, dial func(ctx context.Context, network, address string) (net.Conn, error)) *balancer {
	b := &balancer{ctx: ctx, dial: dial}
	b.server = &http.Server{Handler: http.HandlerFunc(b.answer), ReadHeaderTimeout: 10 * time.Second}
	return b
}

// balancing makes what serves by a configuration.
func (h *Host) balancing(p Program) *balancer {
	b := newBalancer(h.ctx, h.dial)
	b.at = p.At
	if data, err := afero.ReadFile(h.fs, p.At); err == nil {
		if rules, err := readBalancing(data); err == nil {
			b.take(rules)
		}
	}
	return b
}

// take goes on with another configuration: who was a member, and is where it was, is as well as it was.
func (b *balancer) take(rules balancing) {
	b.mu.Lock()
	defer b.mu.Unlock()
	known := map[string]*member{}
	for _, m := range b.members {
		known[m.name+" "+m.address] = m
	}
	b.rules, b.members = rules, nil
	for _, name := range rules.names {
		m := known[name+" "+rules.servers[name]]
		if m == nil {
			m = &member{name: name, address: rules.servers[name]}
		}
		b.members = append(b.members, m)
	}
}

// serve hands out what comes in.
func (b *balancer) serve(l net.Listener) {
	b.mu.Lock()
	asHTTP := b.rules.http
	b.mu.Unlock()
	if !asHTTP {
		accept(l, b.pass)
		return
	}
	_ = b.server.Serve(l)
}

// pass hands one connection on.
func (b *balancer) pass(conn net.Conn) {
	defer conn.Close()
	for _, m := range b.order(conn.RemoteAddr().String()) {
		to, err := b.dial(b.ctx, "tcp", m.address)
		if err != nil {
			m.fell()
			continue
		}
		m.count(1)
		defer m.count(-1)
		_ = conn.SetDeadline(time.Now().Add(time.Minute))
		_ = to.SetDeadline(time.Now().Add(time.Minute))
		go func() { _, _ = io.Copy(to, conn); to.Close() }()
		_, _ = io.Copy(conn, to)
		return
	}
}

// answer hands one request on.
func (b *balancer) answer(w http.ResponseWriter, r *http.Request) {
	order := b.order(r.RemoteAddr)
	if len(order) == 0 {
		http.Error(w, "no server is available to handle this request", http.StatusServiceUnavailable)
		return
	}
	m := order[0]
	m.count(1)
	defer m.count(-1)
	proxy := &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			p.Out.URL.Scheme, p.Out.URL.Host, p.Out.Host = "http", m.address, p.In.Host
			p.SetXForwarded()
		},
		Transport: &http.Transport{DialContext: b.dial, DisableKeepAlives: true, ResponseHeaderTimeout: time.Minute},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, _ error) {
			m.fell()
			http.Error(w, "the server did not answer", http.StatusBadGateway)
		},
	}
	proxy.ServeHTTP(w, r)
}

// order are the members that are well, in the order in which they are to be tried.
func (b *balancer) order(client string) []*member {
	b.mu.Lock()
	members, rules := b.members, b.rules
	b.next++
	from := b.next
	b.mu.Unlock()
	var up []*member
	for _, m := range members {
		if m.well(b, rules) {
			up = append(up, m)
		}
	}
	if len(up) == 0 {
		return nil
	}
	switch rules.algorithm {
	case "source":
		hostname, _, _ := net.SplitHostPort(client)
		sum := fnv.New32a()
		_, _ = sum.Write([]byte(hostname))
		from = int(sum.Sum32() % uint32(len(up)))
	case "leastconn":
		from = least(up)
	}
	first := from % len(up)
	return append(append([]*member{}, up[first:]...), up[:first]...)
}

// least is the one with the fewest connections.
func least(up []*member) int {
	at, fewest := 0, -1
	for i, m := range up {
		m.mu.Lock()
		if fewest < 0 || m.active < fewest {
			at, fewest = i, m.active
		}
		m.mu.Unlock()
	}
	return at
}

func (m *member) count(n int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.active += n
}

// fell notes that a member did not answer.
func (m *member) fell() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.up, m.asked = false, time.Now()
}

// well reports that a member answers, as it did a moment ago or is asked for now.
func (m *member) well(b *balancer, rules balancing) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if time.Since(m.asked) < verdictHolds {
		return m.up
	}
	ctx, cancel := context.WithTimeout(b.ctx, memberAnswer)
	defer cancel()
	m.up, m.asked = b.answers(ctx, m.address, rules.look), time.Now()
	return m.up
}

// answers asks a member: for a page where there is one to be looked at, for a connection else.
func (b *balancer) answers(ctx context.Context, address, look string) bool {
	if look == "" {
		conn, err := b.dial(ctx, "tcp", address)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+address+look, nil)
	if err != nil {
		return false
	}
	web := &http.Client{Timeout: memberAnswer, Transport: &http.Transport{DialContext: b.dial, DisableKeepAlives: true}}
	resp, err := web.Do(req)
	if err != nil {
		return false
	}
	resp.Body.Close()
	return resp.StatusCode < http.StatusBadRequest
}
