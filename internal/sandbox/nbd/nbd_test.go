package nbd

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// memory is a disk of bytes.
type memory struct {
	data  []byte
	zeros int
	fails bool
}

func (m *memory) Size() int64 { return int64(len(m.data)) }

func (m *memory) ReadAt(p []byte, off int64) (int, error) {
	if m.fails {
		return 0, errors.New("it is broken")
	}
	return copy(p, m.data[off:]), nil
}

func (m *memory) WriteAt(p []byte, off int64) (int, error) { return copy(m.data[off:], p), nil }

func (m *memory) Zero(off, n int64) error {
	clear(m.data[off : off+n])
	m.zeros++
	return nil
}

// served serves disks at a socket.
func served(t *testing.T, s *Server) string {
	t.Helper()
	at := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", at)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close(); s.Close() })
	go s.Serve(l)
	return at
}

// TestQEMUReadsAndWrites has QEMU's own programs use disks.
func TestQEMUReadsAndWrites(t *testing.T) {
	qemuIO, err := exec.LookPath("qemu-io")
	require.NoError(t, err, "qemu-utils has it")
	s, plain, fixed := &Server{}, &memory{data: make([]byte, 1<<20)}, &memory{data: bytes.Repeat([]byte{7}, 1<<16)}
	s.Add("plain", plain, false)
	s.Add("fixed", fixed, true)
	at := served(t, s)
	run := func(name string, args ...string) (string, error) {
		out, err := exec.CommandContext(t.Context(), qemuIO, append([]string{"-f", "raw", "nbd+unix:///" + name + "?socket=" + at}, args...)...).CombinedOutput()
		return string(out), err
	}
	out, err := run("plain", "-c", "write -P 0x41 1000 9000", "-c", "write -P 0x42 65536 65536", "-c", "discard 65536 8192", "-c", "write -z 73000 9000", "-c", "flush", "-c", "read -P 0x41 1000 9000")
	require.NoError(t, err, out)
	want := make([]byte, 1<<20)
	copy(want[1000:], bytes.Repeat([]byte{0x41}, 9000))
	copy(want[65536:], bytes.Repeat([]byte{0x42}, 65536))
	clear(want[65536:73728])
	clear(want[73000:82000])
	assert.True(t, bytes.Equal(want, plain.data))
	assert.GreaterOrEqual(t, plain.zeros, 2, "what holds nothing is said to")

	out, _ = run("fixed", "-c", "write -P 1 0 512")
	assert.Contains(t, out, "Permission denied", "it cannot be written")
	out, err = run("fixed", "-r", "-c", "read -P 7 0 65536")
	require.NoError(t, err, out)
	out, err = run("other", "-c", "read 0 512")
	require.Error(t, err, out)
	assert.Contains(t, out, "Requested export not available")
	fixed.fails = true
	out, _ = run("fixed", "-r", "-c", "read 0 512")
	assert.Contains(t, out, "Input/output error")
	copied := filepath.Join(t.TempDir(), "copy")
	said, err := exec.CommandContext(t.Context(), "qemu-img", "convert", "-f", "raw", "-O", "raw", "nbd+unix:///plain?socket="+at, copied).CombinedOutput()
	require.NoError(t, err, string(said))
	got, err := os.ReadFile(copied)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))
	s.Drop("plain")
	out, err = run("plain", "-c", "read 0 512")
	require.Error(t, err, out)
}

// be writes numbers, most significant first.
func be(all ...any) []byte {
	var b bytes.Buffer
	for _, x := range all {
		_ = binary.Write(&b, binary.BigEndian, x)
	}
	return b.Bytes()
}

func option(kind uint32, data ...any) []byte {
	body := be(data...)
	return append(be(uint64(magicOption), kind, uint32(len(body))), body...)
}

func ask(kind uint16, off uint64, n uint32) []byte {
	return be(uint32(magicRequest), uint16(0), kind, uint64(9), off, n)
}

// TestWhoeverComesIsAnswered has peers speak as no program of others does.
func TestWhoeverComesIsAnswered(t *testing.T) {
	plain := option(optName, []byte("plain"))
	for name, x := range map[string]struct {
		says []byte
		want []byte // the end of what is answered
	}{
		"an older client reads":     {append(append(be(uint32(0)), plain...), ask(cmdRead, 0, 4)...), be(uint32(magicReply), uint32(0), uint64(9), uint32(0))},
		"past the end":              {append(append(be(uint32(3)), plain...), ask(cmdRead, 1<<20-2, 4)...), be(uint32(magicReply), uint32(errInvalid), uint64(9))},
		"before the beginning":      {append(append(be(uint32(3)), plain...), ask(cmdRead, 1<<63, 4)...), be(uint32(magicReply), uint32(errInvalid), uint64(9))},
		"a command that is none":    {append(append(be(uint32(3)), plain...), ask(77, 0, 4)...), be(uint32(magicReply), uint32(errNotSupported), uint64(9))},
		"an option that is unknown": {append(be(uint32(3)), option(5)...), be(uint64(magicAnswer), uint32(5), uint32(repUnsupported), uint32(0))},
		"a list":                    {append(be(uint32(3)), option(optList)...), be(uint64(magicAnswer), uint32(optList), uint32(repAck), uint32(0))},
		"a name longer than it is":  {append(be(uint32(3)), option(optGo, uint32(900), []byte("ab"))...), be(uint64(magicAnswer), uint32(optGo), uint32(repInvalid), uint32(0))},
		"a disk that is not there":  {append(be(uint32(3)), option(optInfo, uint32(2), []byte("ab"), uint16(0))...), be(uint64(magicAnswer), uint32(optInfo), uint32(repUnknown), uint32(0))},
		"another by its name":       {append(be(uint32(3)), option(optName, []byte("ab"))...), be(uint16(flagsServer))},
		"an end":                    {append(be(uint32(3)), option(optAbort)...), be(uint64(magicAnswer), uint32(optAbort), uint32(repAck), uint32(0))},
		"an option of gigabytes":    {append(be(uint32(3)), be(uint64(magicOption), uint32(optGo), uint32(1<<31))...), be(uint16(flagsServer))},
		"no option at all":          {append(be(uint32(3)), bytes.Repeat([]byte("GET / HTTP/1.1\r\n"), 3)...), be(uint16(flagsServer))},
		"gigabytes at once":         {append(append(be(uint32(3)), plain...), ask(cmdRead, 0, 1<<31)...), be(uint64(1<<20), uint16(hasFlags|hasFlush|hasTrim|hasZ))},
		"no request":                {append(append(be(uint32(3)), plain...), bytes.Repeat([]byte{1}, 28)...), be(uint64(1<<20), uint16(hasFlags|hasFlush|hasTrim|hasZ))},
		"half a request":            {append(append(be(uint32(3)), plain...), 0x25), be(uint64(1<<20), uint16(hasFlags|hasFlush|hasTrim|hasZ))},
	} {
		t.Run(name, func(t *testing.T) {
			s := &Server{}
			s.Add("plain", &memory{data: make([]byte, 1<<20)}, false)
			conn, err := net.DialTimeout("unix", served(t, s), 10*time.Second)
			require.NoError(t, err)
			require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
			_, err = conn.Write(x.says)
			require.NoError(t, err)
			require.NoError(t, conn.(*net.UnixConn).CloseWrite())
			got, _ := io.ReadAll(conn)
			assert.True(t, bytes.HasSuffix(got, x.want), "% x\nends with\n% x", got, x.want)
		})
	}
}

func FuzzServer(f *testing.F) {
	f.Add(append(append(be(uint32(3)), option(optGo, uint32(5), []byte("plain"), uint16(0))...), ask(cmdZero, 4000, 9000)...))
	f.Fuzz(func(t *testing.T, says []byte) {
		s := &Server{}
		s.Add("plain", &memory{data: make([]byte, 1<<16)}, false)
		here, there := net.Pipe()
		go func() { _, _ = io.Copy(io.Discard, here) }()
		go func() {
			_, _ = here.Write(says)
			here.Close()
		}()
		_ = s.serve(there)
	})
}
