package session

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/fault"
)

// two are the ends of a connection.
func two(t testing.TB) (here, there net.Conn) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	accepted := make(chan net.Conn, 1)
	go func() {
		c, err := l.Accept()
		if err == nil {
			accepted <- c
		}
	}()
	here, err = net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	return here, <-accepted
}

// outcome is what came of something that was asked for.
type outcome struct {
	status   int
	err      error
	out, bad string
}

// run has something run at the other end of a connection by what is given.
func run(t testing.TB, ctx context.Context, asked Asked, here Here, do func(v *Visit) int) (got outcome, accepted error) {
	at, there := two(t)
	served := make(chan error, 1)
	go func() {
		v, err := Accept(t.Context(), there, 1<<20)
		if err != nil {
			served <- err
			return
		}
		served <- v.End(do(v))
	}()
	var out, bad bytes.Buffer
	here.Out, here.Err = &out, &bad
	got.status, got.err = Ask(ctx, at, asked, here)
	got.out, got.bad = out.String(), bad.String()
	return got, <-served
}

func named(t testing.TB, word string, use Use) File {
	f, err := Named(word, use)
	require.NoError(t, err)
	return f
}

func write(t testing.TB, name, text string) string {
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(t, os.WriteFile(name, []byte(text), 0o640))
	return name
}

func read(t testing.TB, name string) string {
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(text)
}

// TestWhatIsReadComesAlongAndWhatIsWrittenGoesBack runs something on files and a folder, which it reads, changes and makes.
func TestWhatIsReadComesAlongAndWhatIsWrittenGoesBack(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	plan, folder := write(t, dir+"/plan.json", "a plan"), dir+"/weir"
	write(t, folder+"/template.yaml", "a template")
	write(t, folder+"/scripts/start.sh", "true")
	write(t, folder+"/.git/config", "not sent")
	out, made := dir+"/out.json", dir+"/made/deep"
	asked := Asked{Words: []string{"go"}, Files: []File{named(t, out, Writes), named(t, plan, Reads), named(t, made, WritesNew), named(t, folder, Works)},
		Environment: map[string]string{"TERM": "xterm"}, Terminal: Terminal{Out: true, Size: Size{100, 30}}}
	var kept string
	got, err := run(t, t.Context(), asked, Here{In: strings.NewReader("typed")}, func(v *Visit) int {
		at := func(word string) string {
			name, came := v.File(word)
			assert.True(t, came, word)
			return name
		}
		kept = v.dir
		assert.Equal(t, []string{"go"}, v.Asked.Words)
		assert.Equal(t, "a plan", read(t, at(plan)))
		info, err := os.Stat(at(plan))
		assert.NoError(t, err)
		assert.Equal(t, os.FileMode(0o640), info.Mode())
		assert.Equal(t, "true", read(t, at(folder)+"/scripts/start.sh"))
		assert.NoDirExists(t, at(folder)+"/.git")
		assert.NoFileExists(t, at(out))
		write(t, at(folder)+"/presets/small.yaml", "a preset")
		write(t, at(out), "what came of it")
		write(t, at(plan), "which does not go back")
		write(t, at(made)+"/of/it.txt", "more")
		_, came := v.File("/etc/passwd")
		assert.False(t, came)
		typed, err := io.ReadAll(v.In)
		assert.NoError(t, err)
		assert.Equal(t, "typed", string(typed))
		assert.Equal(t, []bool{false, true, false}, []bool{v.In.IsTerminal(), v.Out.IsTerminal(), v.Err.IsTerminal()})
		assert.Equal(t, Size{100, 30}, v.Size())
		assert.Equal(t, []string{"xterm", ""}, []string{v.Env("TERM"), v.Env("HOME")})
		_, err = io.WriteString(v.Out, "written: "+at(out)+"\n")
		assert.NoError(t, err)
		_, err = io.WriteString(v.Err, "no such file: "+at(plan))
		assert.NoError(t, err)
		return 4
	})
	require.NoError(t, err)
	require.NoError(t, got.err)
	assert.Equal(t, 4, got.status)
	assert.Equal(t, "written: "+out+"\n", got.out, "files go by the words that named them")
	assert.Equal(t, "no such file: "+plan, got.bad)
	assert.Equal(t, "what came of it", read(t, out))
	assert.Equal(t, "more", read(t, made+"/of/it.txt"))
	assert.Equal(t, "a preset", read(t, folder+"/presets/small.yaml"))
	assert.Equal(t, "a plan", read(t, plan))
	assert.NoDirExists(t, kept, "nothing of it stays")
}

// TestATemplateThatIsAFileComesWithWhatLiesBesideIt names a template by its file.
func TestATemplateThatIsAFileComesWithWhatLiesBesideIt(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := write(t, dir+"/weir/other.yaml", "a template")
	write(t, dir+"/weir/types.yaml", "types")
	got, err := run(t, t.Context(), Asked{Files: []File{named(t, file, Template)}}, Here{}, func(v *Visit) int {
		at, _ := v.File(file)
		assert.Equal(t, "a template", read(t, at))
		assert.Equal(t, "types", read(t, filepath.Dir(at)+"/types.yaml"))
		return 0
	})
	assert.NoError(t, errors.Join(err, got.err))
}

// TestWhatCannotComeAlongIsSaid names what is no file, too much, or leads elsewhere.
func TestWhatCannotComeAlongIsSaid(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir+"/full/a", "a")
	write(t, dir+"/big/a", strings.Repeat("a", 2<<20))
	write(t, dir+"/led/a", "a")
	require.NoError(t, os.Symlink("/etc/hostname", dir+"/led/b"))
	require.NoError(t, os.Mkdir(dir+"/wide", 0o755))
	large, err := os.Create(dir + "/wide/template.yaml")
	require.NoError(t, err)
	require.NoError(t, errors.Join(large.Truncate(mostTemplate+1), large.Close()))
	for word, x := range map[string]struct {
		use  Use
		says string
	}{"/": {Reads, "is all that there is"}, "/dev/null": {Reads, "is neither a file nor a folder"}, dir + "/full": {WritesNew, "is not empty"}, dir + "/full/a": {WritesNew, "is there already, and is no folder"}} {
		_, err := Named(word, x.use)
		assert.ErrorContains(t, err, x.says, word)
	}
	for word, x := range map[string]struct {
		use  Use
		says string
	}{dir + "/big": {Reads, "the files are too large"}, dir + "/led": {Reads, "cannot be sent whole"}, dir + "/wide/template.yaml": {Template, "too much lies in"}} {
		got, err := run(t, t.Context(), Asked{Files: []File{named(t, word, x.use)}}, Here{}, func(*Visit) int { t.Error("it was run"); return 0 })
		assert.Error(t, err, word)
		assert.ErrorContains(t, got.err, x.says, word)
		assert.Equal(t, fault.Invalid, fault.CodeOf(got.err), word)
	}
}

// TestTheTerminalIsHeeded changes its size, has keys come as they are typed, and has had enough.
func TestTheTerminalIsHeeded(t *testing.T) {
	t.Parallel()
	ctx, enough := context.WithCancel(t.Context())
	sizes, raw := make(chan Size, 1), make(chan bool, 2)
	sizes <- Size{120, -1}
	got, err := run(t, ctx, Asked{}, Here{Resized: sizes, Raw: func(on bool) error { raw <- on; return nil }}, func(v *Visit) int {
		<-v.Resized()
		assert.Equal(t, Size{80, 24}, v.Size(), "as if nothing had been said")
		sizes <- Size{5000, 40}
		<-v.Resized()
		assert.Equal(t, Size{mostCells, 40}, v.Size())
		assert.NoError(t, v.Raw(true))
		assert.True(t, <-raw)
		assert.NoError(t, v.Raw(false))
		assert.False(t, <-raw)
		assert.NoError(t, v.Context().Err())
		enough()
		<-v.Context().Done()
		return 130
	})
	assert.NoError(t, errors.Join(err, got.err))
	assert.Equal(t, 130, got.status)
}

// TestATemplateOfManyFilesIsBoundedAsAWhole packs a template of which no file is too large.
func TestATemplateOfManyFilesIsBoundedAsAWhole(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, name := range []string{"template.yaml", "a", "b"} {
		f, err := os.Create(filepath.Join(dir, name))
		require.NoError(t, err)
		require.NoError(t, errors.Join(f.Truncate(mostTemplate/2), f.Close()))
	}
	assert.ErrorContains(t, send(io.Discard, []File{named(t, dir, Template)}), "too much lies in "+dir)
	require.NoError(t, os.Remove(dir+"/b"))
	assert.NoError(t, send(io.Discard, []File{named(t, dir, Template)}))
	assert.NoError(t, send(io.Discard, []File{named(t, dir, Reads)}))
}

// TestWhatAServerSaysIsNotBelieved has it end with what no command ends with, and say what nobody asked for before.
func TestWhatAServerSaysIsNotBelieved(t *testing.T) {
	t.Parallel()
	for status, fine := range map[int]bool{0: true, 255: true, 256: false, -1: false} {
		got, _ := run(t, t.Context(), Asked{}, Here{}, func(v *Visit) int {
			assert.NoError(t, v.control.say(said{Interrupt: true}))
			assert.NoError(t, v.Raw(true), "nobody heeds it without a terminal")
			return status
		})
		if !fine {
			assert.ErrorContains(t, got.err, "the server says that it ended with")
			continue
		}
		assert.NoError(t, got.err)
		assert.Equal(t, status, got.status)
	}
	got, _ := run(t, t.Context(), Asked{}, Here{Raw: func(bool) error { return io.ErrNoProgress }}, func(v *Visit) int {
		assert.NoError(t, v.Raw(true))
		<-v.Context().Done()
		return 0
	})
	assert.ErrorIs(t, got.err, io.ErrNoProgress)
}

// TestWhoIsGoneIsNotWaitedFor loses either side in the middle.
func TestWhoIsGoneIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	got, _ := run(t, t.Context(), Asked{}, Here{}, func(v *Visit) int {
		assert.NoError(t, v.mux.Close())
		<-v.Context().Done()
		return 0
	})
	assert.ErrorContains(t, got.err, "the server is gone")
	assert.Equal(t, fault.Unavailable, fault.CodeOf(got.err))

	at, there := two(t)
	go func() {
		a, err := open(t.Context(), at)
		if assert.NoError(t, err) {
			assert.NoError(t, a.control.say(Asked{}))
			assert.NoError(t, errors.Join(send(a.streams[streamFiles], nil), closeWrite(a.streams[streamFiles])))
		}
		time.AfterFunc(50*time.Millisecond, func() { at.Close() })
	}()
	v, err := Accept(t.Context(), there, 1<<20)
	require.NoError(t, err)
	<-v.Context().Done()
	assert.Error(t, v.End(0))
	assert.NoDirExists(t, v.dir)
}

// TestNonsenseBeginsNothing has whoever comes say what nobody should.
func TestNonsenseBeginsNothing(t *testing.T) {
	t.Parallel()
	for name, says := range map[string]func(c net.Conn){
		"no mux": func(c net.Conn) { _, _ = io.WriteString(c, "GET / HTTP/1.1\r\n\r\n") },
		"other streams": func(c net.Conn) {
			mux, err := yamux.Client(c, config(), nil)
			if assert.NoError(t, err) {
				for range streams {
					s, err := mux.OpenStream(t.Context())
					if assert.NoError(t, err) {
						_, _ = s.Write([]byte("x"))
					}
				}
			}
		},
		"no question": func(c net.Conn) {
			a, err := open(t.Context(), c)
			if assert.NoError(t, err) {
				_, _ = io.WriteString(a.streams[streamControl], "how are you\n")
			}
		},
		"a question without end": func(c net.Conn) {
			a, err := open(t.Context(), c)
			if assert.NoError(t, err) {
				go func() { _, _ = io.WriteString(a.streams[streamControl], strings.Repeat("a", 2*mostLine)) }()
			}
		},
		"silence": func(c net.Conn) { c.Close() },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			at, there := two(t)
			defer at.Close()
			go says(at)
			v, err := Accept(t.Context(), there, 1<<20)
			assert.Error(t, err)
			if v.dir != "" {
				assert.NoDirExists(t, v.dir)
			}
		})
	}
}

// entry is one of an archive that nobody should send.
func entry(name string, kind byte) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	h := &tar.Header{Typeflag: kind, Name: name, Mode: 0o600, Linkname: "/etc/passwd"}
	if kind == tar.TypeReg {
		h.Size = 4
	}
	_ = w.WriteHeader(h)
	if kind == tar.TypeReg {
		_, _ = io.WriteString(w, "evil")
	}
	_ = w.Close()
	return b.Bytes()
}

// hostile are names that lead where nobody said.
var hostile = []string{"../evil", "0/../../evil", "/etc/evil", "1/x", "-1/x", "x", "0", "0/other", "0/a/../../b", "0/plan.json/../../../evil"}

// TestFilesComeWhereTheyBelong has whoever asks send files that no word names, and the server send some that the command does not write.
func TestFilesComeWhereTheyBelong(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, name := range hostile {
		for _, kind := range []byte{tar.TypeReg, tar.TypeSymlink, tar.TypeLink, tar.TypeFifo, tar.TypeDir} {
			root, err := os.OpenRoot(t.TempDir())
			require.NoError(t, err)
			files := []File{{Word: "plan.json", Name: "plan.json", Sent: true, Written: true, at: dir + "/plan.json"}}
			err = unpack(bytes.NewReader(entry(name, kind)), root, 1<<20, func(name string) (string, error) {
				i, rest, err := below(name, files)
				if err == nil && !files[i].isOf(rest) {
					err = errNonsense
				}
				return rest, err
			})
			assert.Error(t, err, "%s %c", name, kind)
			_, err = take(bytes.NewReader(entry(name, kind)), files, 1<<20)
			assert.Error(t, err, "%s %c", name, kind)
			require.NoError(t, root.Close())
		}
	}
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, list)
	files := []File{{Word: "plan.json", Name: "plan.json", Sent: true, at: dir + "/plan.json"}}
	_, err = take(bytes.NewReader(entry("0/plan.json", tar.TypeReg)), files, 1<<20)
	assert.ErrorContains(t, err, "nothing that the command writes", "it is only read")
	files[0].Written = true
	_, err = take(bytes.NewReader(entry("0/plan.json", tar.TypeReg)), files, 3)
	assert.ErrorContains(t, err, "more than")
	_, err = take(bytes.NewReader(entry("0/plan.json", tar.TypeReg)[:600]), files, 1<<20)
	assert.NoError(t, err, "what fills an archive is of no interest")
	require.NoError(t, os.Remove(dir+"/plan.json"))
	_, err = take(bytes.NewReader(entry("0/plan.json", tar.TypeReg)[:514]), files, 1<<20)
	assert.Error(t, err)
	assert.NoFileExists(t, dir+"/plan.json", "half a file takes no name")
	assert.NoFileExists(t, dir+"/plan.json.part")
}

// TestWhatComesBackFollowsNoLink has a folder in which a link leads elsewhere be written to.
func TestWhatComesBackFollowsNoLink(t *testing.T) {
	t.Parallel()
	dir, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.Mkdir(dir+"/out", 0o755))
	require.NoError(t, os.Symlink(outside, dir+"/out/led"))
	f := named(t, dir+"/out", Writes)
	_, err := take(bytes.NewReader(entry("0/out/led/evil", tar.TypeReg)), []File{f}, 1<<20)
	assert.Error(t, err)
	list, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, list)
}

// TestNamesThatAreNoneAreRefused has whoever asks name files that lead elsewhere.
func TestNamesThatAreNoneAreRefused(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"", ".", "..", "/etc/passwd", "a/../..", "../x"} {
		got, err := run(t, t.Context(), Asked{Files: []File{{Word: "x", Name: name}}}, Here{}, func(*Visit) int { t.Error("it was run"); return 0 })
		assert.ErrorContains(t, got.err, "no name of a file", name)
		assert.Error(t, err)
	}
}

// TestPathsGoByTheirWordsHoweverTheyAreWritten cuts what is written anywhere: it is as if it had been written at once.
func TestPathsGoByTheirWordsHoweverTheyAreWritten(t *testing.T) {
	t.Parallel()
	names := map[string]string{"/tmp/visit-1/0/plan.json": "plan.json", "/tmp/visit-1/1/weir": "../weir", "/tmp/visit-1/10/weir": "w"}
	words := []string{"/tmp/visit-1/0/plan.json", "/tmp/visit-1/1/weir", "/tmp/visit-1/10/weir", "/tmp/visit-1/", "/", "/tmp", "a", "\n", "//tmp/visit-1/1", "é"}
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOf(rapid.SampledFrom(words)).Draw(t, "text"), "")
		want := strings.NewReplacer("/tmp/visit-1/0/plan.json", "plan.json", "/tmp/visit-1/10/weir", "w", "/tmp/visit-1/1/weir", "../weir").Replace(text)
		var got bytes.Buffer
		r := &renaming{to: &got, names: names}
		for rest := text; rest != ""; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "n")
			wrote, err := r.Write([]byte(rest[:n]))
			require.NoError(t, err)
			require.Equal(t, n, wrote)
			rest = rest[n:]
		}
		require.NoError(t, r.flush())
		require.Equal(t, want, got.String())
	})
}

// TestWhoMayNoMoreSendsNoMore ends whoever comes while their files are on the way.
func TestWhoMayNoMoreSendsNoMore(t *testing.T) {
	t.Parallel()
	ctx, end := context.WithCancel(t.Context())
	at, there := two(t)
	defer at.Close()
	go func() {
		a, err := open(t.Context(), at)
		if assert.NoError(t, err) {
			assert.NoError(t, a.control.say(Asked{}))
			_, _ = a.streams[streamFiles].Write([]byte("the beginning of an archive"))
			end()
		}
	}()
	began := time.Now()
	v, err := Accept(ctx, there, 1<<20)
	assert.Error(t, err)
	assert.Less(t, time.Since(began), partWithin/2)
	assert.NoDirExists(t, v.dir)
}
