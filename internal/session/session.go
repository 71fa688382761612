// Package session has a command, or the screens, run where a workspace is for somebody who is elsewhere: what they type and see goes between the two, and the files that the
// command names; nothing else does. In goes a connection; [Accept] makes a [Visit] of it where the workspace is, and [Ask] joins a terminal to it at the other end.
//
// The connection carries several streams (the yamux protocol): what is asked for and what comes of it as lines of JSON, the three streams that every command has, and files as
// archives (tar, as in pax of POSIX.1-2024).
package session

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"github.com/libp2p/go-yamux/v5"

	"andamio/internal/core/fault"
)

// Protocol is what is asked for by the Upgrade of a request (RFC 9110, section 7.8).
const Protocol = "andamio-session/1"

// Asked is what somebody has run.
type Asked struct {
	// Words are those that follow the program's name.
	Words []string `json:"words"`
	// Files are those that words name.
	Files []File `json:"files,omitempty"`
	// Terminal is what they sit at.
	Terminal Terminal `json:"terminal"`
	// Environment are variables that the command reads.
	Environment map[string]string `json:"environment,omitempty"`
}

// Terminal says which streams are a terminal's, and how large that is.
type Terminal struct {
	In  bool `json:"in,omitempty"`
	Out bool `json:"out,omitempty"`
	Err bool `json:"err,omitempty"`
	Size
}

// Size is that of a terminal, in cells.
type Size struct {
	W int `json:"w,omitempty"`
	H int `json:"h,omitempty"`
}

// mostCells bounds either side of a terminal.
const mostCells = 1000

// bounded is a size that there may be; what nobody can have is as if it had not been said.
func (s Size) bounded() Size {
	if s.W < 1 || s.H < 1 {
		return Size{80, 24}
	}
	return Size{min(s.W, mostCells), min(s.H, mostCells)}
}

// How long either side waits for the other: for what begins a session, for the next part of files, for what is written to be read, for its end, and for why it does not begin.
const (
	beginWithin = 15 * time.Second
	partWithin  = time.Minute
	readWithin  = 10 * time.Minute
	endWithin   = 10 * time.Second
	hearWithin  = 3 * time.Second
	aliveEvery  = 5 * time.Second
)

// mostLine bounds a line of what is asked for.
const mostLine = 1 << 20

// The streams of a session, by the letter that each begins with.
const (
	streamControl = 'c'
	streamFiles   = 'f'
	streamIn      = 'i'
	streamOut     = 'o'
	streamErr     = 'e'
)

// streams are all of them, in the order in which they are begun.
const streams = string(streamControl) + string(streamFiles) + string(streamIn) + string(streamOut) + string(streamErr)

// said is a line that one side says to the other.
type said struct {
	// Size and Interrupt are said to where the command runs: the terminal has another size, or somebody has had enough.
	Size      *Size `json:"size,omitempty"`
	Interrupt bool  `json:"interrupt,omitempty"`
	// Raw is said to who asked: keys go through as they are typed, or by lines again.
	Raw *bool `json:"raw,omitempty"`
	// Refused is why a session does not begin, with the code of the error.
	Refused string     `json:"refused,omitempty"`
	Code    fault.Code `json:"code,omitempty"`
	// Ended is the status of the command, once all that it wrote was sent.
	Ended *int `json:"ended,omitempty"`
}

// control is the stream of what is said.
type control struct {
	mu   sync.Mutex
	conn net.Conn
	from *bufio.Scanner
}

func newControl(c net.Conn) *control {
	from := bufio.NewScanner(c)
	from.Buffer(nil, mostLine)
	return &control{conn: c, from: from}
}

// say says a value to the other side.
func (c *control) say(v any) error {
	line, err := json.Marshal(v)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := c.conn.SetWriteDeadline(time.Now().Add(beginWithin)); err != nil {
		return err
	}
	_, err = c.conn.Write(append(line, '\n'))
	return err
}

// hear hears the next value.
func (c *control) hear(v any) error {
	if !c.from.Scan() {
		if err := c.from.Err(); err != nil {
			return err
		}
		return io.EOF
	}
	return json.Unmarshal(c.from.Bytes(), v)
}

func config() *yamux.Config {
	c := yamux.DefaultConfig()
	c.KeepAliveInterval, c.ConnectionWriteTimeout, c.LogOutput = aliveEvery, 2*aliveEvery, io.Discard
	return c
}

// patient writes to a stream for as long as somebody reads there.
type patient struct{ net.Conn }

func (p patient) Write(b []byte) (int, error) {
	if err := p.SetWriteDeadline(time.Now().Add(readWithin)); err != nil {
		return 0, err
	}
	return p.Conn.Write(b)
}

// prompt reads a stream on which the next part is there soon.
type prompt struct{ net.Conn }

func (p prompt) Read(b []byte) (int, error) {
	if err := p.SetReadDeadline(time.Now().Add(partWithin)); err != nil {
		return 0, err
	}
	return p.Conn.Read(b)
}

// closeWrite says that nothing more is written to a stream.
func closeWrite(c net.Conn) error {
	if half, can := c.(interface{ CloseWrite() error }); can {
		return half.CloseWrite()
	}
	return c.Close()
}

var errNonsense = errors.New("what a session begins with cannot be read")

// begin accepts the streams of a session.
func begin(mux *yamux.Session) (map[byte]net.Conn, error) {
	timer := time.AfterFunc(beginWithin, func() { mux.Close() })
	defer timer.Stop()
	all := map[byte]net.Conn{}
	for range streams {
		c, err := mux.Accept()
		if err != nil {
			return nil, fmt.Errorf("%w: %w", errNonsense, err)
		}
		letter := make([]byte, 1)
		if _, err := io.ReadFull(c, letter); err != nil {
			return nil, fmt.Errorf("%w: %w", errNonsense, err)
		}
		all[letter[0]] = c
	}
	for _, letter := range []byte(streams) {
		if all[letter] == nil {
			return nil, errNonsense
		}
	}
	return all, nil
}
