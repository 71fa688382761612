// Package nbd serves disks as the Network Block Device protocol has it (doc/proto.md of the protocol's own project: the fixed newstyle
// handshake, simple replies), so that what is written to them passes through those who keep them.
package nbd

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"sync"
)

// Disk is what is served.
type Disk interface {
	io.ReaderAt
	io.WriterAt
	Size() int64
	// Zero makes whole pages hold nothing.
	Zero(off, n int64) error
}

// The numbers of the protocol.
const (
	magicInit    = 0x4e42444d41474943 // "NBDMAGIC"
	magicOption  = 0x49484156454F5054 // "IHAVEOPT"
	magicAnswer  = 0x3e889045565a9
	magicRequest = 0x25609513
	magicReply   = 0x67446698

	flagsServer = 1 | 2 // fixed newstyle, no zeroes

	optName, optAbort, optList, optInfo, optGo = 1, 2, 3, 6, 7

	repAck, repServer, repInfo                  = 1, 2, 3
	repUnsupported, repInvalid, repUnknown      = 1<<31 + 1, 1<<31 + 3, 1<<31 + 6
	infoExport, infoBlocks                      = 0, 3
	hasFlags, readOnly, hasFlush, hasTrim, hasZ = 1, 2, 4, 1 << 5, 1 << 6

	cmdRead, cmdWrite, cmdEnd, cmdFlush, cmdTrim, cmdZero = 0, 1, 2, 3, 4, 6

	errPermission, errIO, errInvalid, errNotSupported = 1, 5, 22, 95
)

// What a request and an option may be of at most, and the grain at which a disk says that it holds nothing.
const (
	mostBytes  = 32 << 20
	mostOption = 4 << 10
	page       = 4096
)

// Server serves disks by their names.
type Server struct {
	mu    sync.Mutex
	disks map[string]export
	conns map[net.Conn]struct{}
	ended bool
}

type export struct {
	Disk
	fixed bool
}

// Add has a disk be served under a name; fixed ones are only read.
func (s *Server) Add(name string, d Disk, fixed bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.disks == nil {
		s.disks = map[string]export{}
	}
	s.disks[name] = export{d, fixed}
}

// Drop has no more of the disk of a name be served to those who come from now on.
func (s *Server) Drop(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.disks, name)
}

// Serve serves whoever comes to a listener, until that is closed.
func (s *Server) Serve(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		if !s.hold(conn) {
			return
		}
		go func() {
			defer s.let(conn)
			_ = s.serve(conn) // whoever it is notices that the connection ends
		}()
	}
}

// Close ends all connections.
func (s *Server) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
	for c := range s.conns {
		c.Close()
	}
}

func (s *Server) hold(c net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended {
		c.Close()
		return false
	}
	if s.conns == nil {
		s.conns = map[net.Conn]struct{}{}
	}
	s.conns[c] = struct{}{}
	return true
}

func (s *Server) let(c net.Conn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.conns, c)
	c.Close()
}

// peer is one who is served.
type peer struct {
	r *bufio.Reader
	w *bufio.Writer
}

// say writes numbers and bytes, each as large as its type, most significant first.
func (p *peer) say(all ...any) error {
	for _, x := range all {
		if err := binary.Write(p.w, binary.BigEndian, x); err != nil {
			return err
		}
	}
	return nil
}

func (p *peer) hear(into any) error { return binary.Read(p.r, binary.BigEndian, into) }

func (s *Server) serve(conn net.Conn) error {
	p := &peer{bufio.NewReaderSize(conn, 64<<10), bufio.NewWriterSize(conn, 64<<10)}
	if err := p.say(uint64(magicInit), uint64(magicOption), uint16(flagsServer)); err != nil {
		return err
	}
	if err := p.w.Flush(); err != nil {
		return err
	}
	var flags uint32
	if err := p.hear(&flags); err != nil {
		return err
	}
	x, err := s.agree(p, flags&2 != 0)
	if err != nil {
		return err
	}
	return p.transmit(x)
}

// agree answers options until it is said which disk is meant.
func (s *Server) agree(p *peer, noZeroes bool) (export, error) {
	for {
		var head struct {
			Magic          uint64
			Option, Length uint32
		}
		if err := p.hear(&head); err != nil {
			return export{}, err
		}
		if head.Magic != magicOption || head.Length > mostOption {
			return export{}, fmt.Errorf("option %d of %d bytes is none", head.Option, head.Length)
		}
		data := make([]byte, head.Length)
		if _, err := io.ReadFull(p.r, data); err != nil {
			return export{}, err
		}
		x, done, err := s.option(p, head.Option, data, noZeroes)
		if err == nil {
			err = p.w.Flush()
		}
		if err != nil || done {
			return x, err
		}
	}
}

// option answers one option; done says that what follows are requests to the disk.
func (s *Server) option(p *peer, option uint32, data []byte, noZeroes bool) (x export, done bool, err error) {
	switch option {
	case optName: // there is no other answer than the disk itself, or the end
		x, known := s.named(string(data))
		if !known {
			return x, false, fmt.Errorf("there is no disk %q", data)
		}
		err := p.say(uint64(x.Size()), x.flags())
		if err == nil && !noZeroes {
			err = p.say(make([]byte, 124))
		}
		return x, true, err
	case optAbort:
		_ = errors.Join(p.answer(option, repAck, nil), p.w.Flush())
		return x, false, io.EOF
	case optList:
		return x, false, errors.Join(s.list(p), p.answer(option, repAck, nil))
	case optInfo, optGo:
		return s.chosen(p, option, data)
	}
	return x, false, p.answer(option, repUnsupported, nil)
}

// chosen answers what is asked about a disk.
func (s *Server) chosen(p *peer, option uint32, data []byte) (export, bool, error) {
	if len(data) < 6 || uint64(binary.BigEndian.Uint32(data)) > uint64(len(data)-6) {
		return export{}, false, p.answer(option, repInvalid, nil)
	}
	x, known := s.named(string(data[4 : 4+binary.BigEndian.Uint32(data)]))
	if !known {
		return x, false, p.answer(option, repUnknown, nil)
	}
	about := binary.BigEndian.AppendUint16(nil, infoExport)
	about = binary.BigEndian.AppendUint64(about, uint64(x.Size()))
	about = binary.BigEndian.AppendUint16(about, x.flags())
	blocks := binary.BigEndian.AppendUint16(nil, infoBlocks)
	for _, n := range []uint32{1, page, mostBytes} {
		blocks = binary.BigEndian.AppendUint32(blocks, n)
	}
	err := errors.Join(p.answer(option, repInfo, about), p.answer(option, repInfo, blocks), p.answer(option, repAck, nil))
	return x, option == optGo, err
}

func (s *Server) named(name string) (export, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	x, known := s.disks[name]
	return x, known
}

func (s *Server) list(p *peer) error {
	s.mu.Lock()
	names := slices.Sorted(maps.Keys(s.disks))
	s.mu.Unlock()
	for _, name := range names {
		if err := p.answer(optList, repServer, append(binary.BigEndian.AppendUint32(nil, uint32(len(name))), name...)); err != nil {
			return err
		}
	}
	return nil
}

func (p *peer) answer(option, kind uint32, data []byte) error {
	return p.say(uint64(magicAnswer), option, kind, uint32(len(data)), data)
}

func (x export) flags() uint16 {
	if x.fixed {
		return hasFlags | hasFlush | readOnly
	}
	return hasFlags | hasFlush | hasTrim | hasZ
}

// request is one to a disk.
type request struct {
	Magic       uint32
	Flags, Type uint16
	Handle      uint64
	Offset      uint64
	Length      uint32
}

// transmit does what is asked, one after the other.
func (p *peer) transmit(x export) error {
	for {
		if p.r.Buffered() == 0 { // nobody else waits to be heard
			if err := p.w.Flush(); err != nil {
				return err
			}
		}
		var q request
		if err := p.hear(&q); err != nil {
			return err
		}
		if q.Magic != magicRequest || q.Length > mostBytes && (q.Type == cmdRead || q.Type == cmdWrite) {
			return errors.New("that is no request")
		}
		if q.Type == cmdEnd {
			return nil
		}
		var sent []byte
		if q.Type == cmdWrite {
			sent = make([]byte, q.Length)
			if _, err := io.ReadFull(p.r, sent); err != nil {
				return err
			}
		}
		data, code := x.do(q, sent)
		if err := p.say(uint32(magicReply), code, q.Handle, data); err != nil {
			return err
		}
	}
}

// do does what is asked, and returns what is read and the number of an error; 0 is none.
func (x export) do(q request, sent []byte) ([]byte, uint32) {
	off, n := int64(q.Offset), int64(q.Length)
	if off < 0 || off > x.Size()-n {
		return nil, errInvalid
	}
	if x.fixed && q.Type != cmdRead && q.Type != cmdFlush {
		return nil, errPermission
	}
	var err error
	switch q.Type {
	case cmdRead:
		data := make([]byte, n)
		if _, err = x.ReadAt(data, off); err == nil {
			return data, 0
		}
	case cmdWrite:
		_, err = x.WriteAt(sent, off)
	case cmdFlush: // what was written is there
	case cmdTrim: // only whole pages hold nothing any more
		if from, to := (off+page-1)/page*page, (off+n)/page*page; from < to {
			err = x.Zero(from, to-from)
		}
	case cmdZero:
		err = x.zero(off, n)
	default:
		return nil, errNotSupported
	}
	if err != nil {
		return nil, errIO
	}
	return nil, 0
}

// zero has bytes be zeros, whole pages by holding nothing.
func (x export) zero(off, n int64) error {
	from, to := (off+page-1)/page*page, (off+n)/page*page
	if from >= to {
		_, err := x.WriteAt(make([]byte, n), off)
		return err
	}
	_, before := x.WriteAt(make([]byte, from-off), off)
	_, after := x.WriteAt(make([]byte, off+n-to), to)
	return errors.Join(before, x.Zero(from, to-from), after)
}
