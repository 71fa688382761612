package crash

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
	"modernc.org/libc"
	sqlite3 "modernc.org/sqlite/lib"

	"andamio/internal/app"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
	"andamio/internal/site/occi/wire"
	"andamio/internal/store/sqlite"
)

// written is one thing that SQLite did with a file: it wrote, cut it, had it put on the disk, or removed it.
type written struct {
	file string
	data []byte
	at   int64
	cut  bool
	sync bool
	gone bool
}

// power records what SQLite does with the files of a folder, between SQLite and the operating system, so that a disk can be
// made as it would be if the power had failed at any moment: what was not put on the disk yet may be there or not, in any
// order, and in parts.
type power struct {
	mu    sync.Mutex
	dir   string
	all   []written
	names map[uintptr]string
	// methods leads from the methods of ours to those they stand before.
	methods map[uintptr]uintptr
	ours    map[uintptr]uintptr
}

var shim = &power{names: map[uintptr]string{}, methods: map[uintptr]uintptr{}, ours: map[uintptr]uintptr{}}

// at is what a number points to.
func at[T any](p uintptr) *T { return *(**T)(unsafe.Pointer(&p)) }

// pointer is a function as C calls it, of the signature that the place it is put in has.
func pointer[F any](f F) uintptr {
	keptAlive = append(keptAlive, f)
	return *(*uintptr)(unsafe.Pointer(&f))
}

// called is a pointer of C as a function.
func called[F any](p uintptr) F { return *(*F)(unsafe.Pointer(&struct{ uintptr }{p})) }

type (
	openFunc   = func(tls *libc.TLS, vfs, name, file uintptr, flags int32, out uintptr) int32
	writeFunc  = func(tls *libc.TLS, file, data uintptr, n int32, off int64) int32
	cutFunc    = func(tls *libc.TLS, file uintptr, size int64) int32
	deleteFunc = func(tls *libc.TLS, vfs, name uintptr, folder int32) int32
	syncFunc   = func(tls *libc.TLS, file uintptr, flags int32) int32
)

var installed sync.Once

// between puts the shim before the operating system, for every database that is opened from then on.
func between(t *testing.T) {
	installed.Do(func() {
		tls := libc.NewTLS()
		real := sqlite3.Xsqlite3_vfs_find(tls, 0)
		require.NotZero(t, real)
		name, err := libc.CString("andamio-power")
		require.NoError(t, err)
		mine := libc.Xmalloc(tls, libc.Tsize_t(unsafe.Sizeof(sqlite3.Tsqlite3_vfs{})))
		*at[sqlite3.Tsqlite3_vfs](mine) = *at[sqlite3.Tsqlite3_vfs](real)
		v := at[sqlite3.Tsqlite3_vfs](mine)
		v.FzName = name
		opened := openFunc(func(tls *libc.TLS, _, name, file uintptr, flags int32, out uintptr) int32 {
			code := called[openFunc](at[sqlite3.Tsqlite3_vfs](real).FxOpen)(tls, real, name, file, flags, out)
			if code == sqlite3.SQLITE_OK && name != 0 {
				shim.opened(tls, file, libc.GoString(name))
			}
			return code
		})
		v.FxOpen = pointer(opened)
		v.FxDelete = pointer(deleteFunc(func(tls *libc.TLS, _, name uintptr, folder int32) int32 {
			code := called[deleteFunc](at[sqlite3.Tsqlite3_vfs](real).FxDelete)(tls, real, name, folder)
			if name != 0 {
				shim.removed(libc.GoString(name))
			}
			return code
		}))
		require.Zero(t, sqlite3.Xsqlite3_vfs_register(tls, mine, 1))
	})
}

// opened puts methods of ours before those of a file of the folder.
func (p *power) opened(tls *libc.TLS, file uintptr, name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.names, file) // it may have been another's
	if p.dir == "" || filepath.Dir(name) != p.dir {
		return
	}
	p.names[file] = filepath.Base(name)
	real := at[sqlite3.Tsqlite3_file](file).FpMethods
	if real == 0 {
		return
	}
	mine := p.ours[real]
	if mine == 0 {
		mine = libc.Xmalloc(tls, libc.Tsize_t(unsafe.Sizeof(sqlite3.Tsqlite3_io_methods{})))
		*at[sqlite3.Tsqlite3_io_methods](mine) = *at[sqlite3.Tsqlite3_io_methods](real)
		m, r := at[sqlite3.Tsqlite3_io_methods](mine), *at[sqlite3.Tsqlite3_io_methods](real)
		m.FxWrite = pointer(writeFunc(func(tls *libc.TLS, file, data uintptr, n int32, off int64) int32 {
			p.note(file, written{data: bytes.Clone(unsafe.Slice(at[byte](data), n)), at: off})
			return called[writeFunc](r.FxWrite)(tls, file, data, n, off)
		}))
		m.FxTruncate = pointer(cutFunc(func(tls *libc.TLS, file uintptr, size int64) int32 {
			p.note(file, written{cut: true, at: size})
			return called[cutFunc](r.FxTruncate)(tls, file, size)
		}))
		m.FxSync = pointer(syncFunc(func(tls *libc.TLS, file uintptr, flags int32) int32 {
			code := called[syncFunc](r.FxSync)(tls, file, flags)
			p.note(file, written{sync: true})
			return code
		}))
		p.ours[real] = mine
	}
	at[sqlite3.Tsqlite3_file](file).FpMethods = mine
}

// keptAlive are the functions that C knows, which nothing else may refer to.
var keptAlive []any

// removed notes that a file is gone, which SQLite has put on the disk at once.
func (p *power) removed(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.dir != "" && filepath.Dir(name) == p.dir {
		p.all = append(p.all, written{file: filepath.Base(name), gone: true})
	}
}

func (p *power) note(file uintptr, w written) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if w.file = p.names[file]; w.file != "" {
		p.all = append(p.all, w)
	}
}

// moment is how much was done by now.
func (p *power) moment() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.all)
}

// sector is what a disk writes whole.
const sector = 512

// failAt makes the files as the disk has them if the power fails at a moment.
func (p *power) failAt(moment int, r *rand.Rand, dir string) error {
	files := map[string][]byte{}
	lastSync := map[string]int{}
	for i, w := range p.all[:moment] {
		if w.sync {
			lastSync[w.file] = i
		}
	}
	keep := []float64{0, 0.2, 0.5, 0.9, 1}[r.IntN(5)]
	for i, w := range p.all[:moment] {
		if w.gone {
			delete(files, w.file)
			continue
		}
		if w.sync || i > lastSync[w.file] && r.Float64() >= keep {
			continue
		}
		data := w.data
		if i > lastSync[w.file] && len(data) > sector && r.IntN(3) == 0 { // torn
			data = data[:sector*r.IntN(len(data)/sector)]
		}
		files[w.file] = applied(files[w.file], w, data)
	}
	for name, data := range files {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			return err
		}
	}
	return nil
}

func applied(to []byte, w written, data []byte) []byte {
	if w.cut {
		return to[:min(int64(len(to)), w.at)]
	}
	if end := int(w.at) + len(data); end > len(to) {
		to = append(to, make([]byte, end-len(to))...)
	}
	copy(to[w.at:], data)
	return to
}

// asked is a call that changed something at a site, and how much of the journal had been written when it came.
type asked struct {
	moment int
	step   string
}

// witness stands before a stand-in and notes when it is asked to make something, and for which step.
func witness(t *testing.T, to string, noted func(asked)) string {
	t.Helper()
	u, err := url.Parse(to)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(u)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if key := strings.Split(r.Header.Get(wire.HeaderKey), "/"); r.Method == http.MethodPost && len(key) > 2 {
			noted(asked{shim.moment(), strings.Join(key[1:len(key)-1], "/")})
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(s.Close)
	return s.URL
}

// TestWhatTheJournalSaysWasBegunWasBegun raises the scenario, and then has the power fail at 200 moments of that: whatever a
// site was asked to do by then, the journal has begun; what the store acknowledged is there, whole. POWER=N tries N.
func TestWhatTheJournalSaysWasBegunWasBegun(t *testing.T) {
	between(t)
	tries := 200
	if n, err := strconv.Atoi(os.Getenv("POWER")); err == nil {
		tries = n
	}
	ctx := context.Background()
	dir := filepath.Join(t.TempDir(), "ws")
	shim.mu.Lock()
	shim.dir = dir
	shim.mu.Unlock()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: 0.01, Seed: 1})
	require.NoError(t, err)
	defer box.Close()
	a, err := app.Open(ctx, dir, app.Idle())
	require.NoError(t, err)
	defer a.Close()
	require.NoError(t, a.ConnectSandbox(box))
	var mu sync.Mutex
	var all []asked
	connections, err := a.Connections()
	require.NoError(t, err)
	for i := range connections {
		require.NoError(t, connections[i].Tell(workspace.Values{"url": witness(t, connections[i].Address(), func(x asked) { mu.Lock(); all = append(all, x); mu.Unlock() })}))
	}
	require.NoError(t, workspace.New(a.Opened().Dir).SetConnections(connections))
	p, err := scenario(ctx, a)
	require.NoError(t, err)
	id, err := a.NewRun(ctx, deployments.Order{Plan: p})
	require.NoError(t, err)
	first := shim.moment()
	require.NoError(t, a.Work(ctx, id))
	last := shim.moment()
	shim.mu.Lock()
	shim.dir = ""
	shim.mu.Unlock()
	require.Greater(t, len(all), 30)
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 9))
	moments := make([]int, tries)
	for i := range moments {
		moments[i] = first + 1 + r.IntN(last-first)
		if i%2 == 0 { // right when a site is asked, which is when it counts
			moments[i] = max(all[r.IntN(len(all))].moment, first+1)
		}
	}
	turn := make(chan struct{}, 4)
	var group sync.WaitGroup
	for i, moment := range moments {
		turn <- struct{}{}
		group.Go(func() {
			defer func() { <-turn }()
			if err := failed(ctx, t.TempDir(), id, moment, rand.New(rand.NewPCG(uint64(i), uint64(moment))), all); err != nil {
				t.Errorf("the power failed at %d of %d to %d: %v", moment, first, last, err)
			}
		})
	}
	group.Wait()
	t.Logf("%d calls, %d writes, the power failed %d times", len(all), last-first, tries)
}

// failed looks at the store as it is after the power failed.
func failed(ctx context.Context, dir string, id int64, moment int, r *rand.Rand, all []asked) error {
	if err := shim.failAt(moment, r, dir); err != nil {
		return err
	}
	name := filepath.Join(dir, "andamio.db")
	s, err := sqlite.Open(ctx, name)
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := sqlite.Verify(ctx, name); err != nil {
		return err
	}
	begun := map[string]bool{}
	events, err := s.Events(ctx, id, 0, 1<<20)
	if err != nil {
		return err
	}
	for _, ev := range events {
		if ev.Kind == run.StepStarted {
			begun[ev.Step] = true
		}
	}
	var missing []string
	for _, x := range all {
		if x.moment <= moment && !begun[x.step] && !slices.Contains(missing, x.step) {
			missing = append(missing, x.step)
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("the journal of %d events has not begun %v, which sites were asked for", len(events), missing)
	}
	return nil
}
