package sqlite

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/run"
	"andamio/internal/core/trail"
	"andamio/internal/store/relational"
)

// trouble has one call to the database files of a folder fail: the at-th, where at is not 0.
type trouble struct{ at, calls atomic.Int64 }

var (
	errTrouble = errors.New("disk I/O error of a test")
	// troubles are those that tests make, by folder.
	troubles sync.Map
)

func init() {
	open := opens
	opens = func(dsn string) (driver.Conn, error) {
		c, err := open(dsn)
		if err != nil {
			return nil, err
		}
		path, _, _ := strings.Cut(strings.TrimPrefix(dsn, "file:"), "?")
		if path, err = url.PathUnescape(path); err != nil {
			return nil, err
		}
		for dir := filepath.Dir(path); len(dir) > 1; dir = filepath.Dir(dir) {
			if t, found := troubles.Load(dir); found {
				return troubledConn{c, t.(*trouble)}, nil
			}
		}
		return c, nil
	}
}

// troubled is a folder whose databases fail when they are to.
func troubled(t *testing.T) (string, *trouble) {
	t.Helper()
	dir, x := t.TempDir(), &trouble{}
	troubles.Store(dir, x)
	t.Cleanup(func() { troubles.Delete(dir) })
	return dir, x
}

// fails has the at-th call from now on fail; 0 is none.
func (x *trouble) fails(at int) {
	x.calls.Store(0)
	x.at.Store(int64(at))
}

func (x *trouble) call() error {
	if x.calls.Add(1) == x.at.Load() {
		return errTrouble
	}
	return nil
}

type troubledConn struct {
	driver.Conn
	x *trouble
}

func (c troubledConn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	s, err := c.Conn.(driver.ConnPrepareContext).PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	return troubledStmt{s, c.x, query}, nil // that parsing fails says whoever asks then
}

func (c troubledConn) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	if err := c.x.call(); err != nil {
		return nil, err
	}
	tx, err := c.Conn.(driver.ConnBeginTx).BeginTx(ctx, o)
	return troubledTx{tx, c.x}, err
}

func (c troubledConn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	if err := c.x.call(); err != nil {
		return nil, err
	}
	return c.Conn.(driver.ExecerContext).ExecContext(ctx, query, args)
}

func (c troubledConn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	if err := c.x.call(); err != nil {
		return nil, err
	}
	rows, err := c.Conn.(driver.QueryerContext).QueryContext(ctx, query, args)
	return c.x.rows(query, rows), err
}

type troubledStmt struct {
	driver.Stmt
	x     *trouble
	query string
}

func (s troubledStmt) ExecContext(ctx context.Context, args []driver.NamedValue) (driver.Result, error) {
	if err := s.x.call(); err != nil {
		return nil, err
	}
	return s.Stmt.(driver.StmtExecContext).ExecContext(ctx, args)
}

func (s troubledStmt) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	if err := s.x.call(); err != nil {
		return nil, err
	}
	rows, err := s.Stmt.(driver.StmtQueryContext).QueryContext(ctx, args)
	return s.x.rows(s.query, rows), err
}

type troubledTx struct {
	driver.Tx
	x *trouble
}

// Commit fails as a disk does that is full: what was to be written is not.
func (t troubledTx) Commit() error {
	if err := t.x.call(); err != nil {
		return errors.Join(err, t.Tx.Rollback())
	}
	return t.Tx.Commit()
}

type troubledRows struct {
	driver.Rows
	x *trouble
}

// rows are those of a question, each of which may fail; what a statement that writes tells of itself comes when it is done.
func (x *trouble) rows(query string, rows driver.Rows) driver.Rows {
	if verb, _, _ := strings.Cut(strings.TrimSpace(query), " "); rows == nil || verb == "INSERT" || verb == "UPDATE" || verb == "DELETE" {
		return rows
	}
	return troubledRows{rows, x}
}

func (r troubledRows) Next(into []driver.Value) error {
	end := r.Rows.Next(into)
	if err := r.x.call(); err != nil {
		return err
	}
	return end
}

// allFail has each call that some work makes fail, one after another, and holds that the work says so; it returns how many there are.
func (x *trouble) allFail(t *testing.T, name string, work func() error) int {
	t.Helper()
	x.fails(0)
	require.NoError(t, work(), name)
	calls := int(x.calls.Load())
	for at := 1; at <= calls; at++ {
		x.fails(at)
		require.ErrorContains(t, work(), errTrouble.Error(), "%s: call %d of %d", name, at, calls)
	}
	x.fails(0)
	return calls
}

// arguments are what a method may be asked with: of each type something that is in the store.
func arguments(ctx context.Context, of reflect.Type, word string, number int64) ([]reflect.Value, bool) {
	var out []reflect.Value
	for i := range of.NumIn() {
		in := of.In(i)
		switch {
		case in == reflect.TypeFor[context.Context]():
			out = append(out, reflect.ValueOf(ctx))
		case in == reflect.TypeFor[time.Time]():
			out = append(out, reflect.ValueOf(midday))
		case in.Kind() == reflect.String:
			out = append(out, reflect.ValueOf(word).Convert(in))
		case in.Kind() == reflect.Int64, in.Kind() == reflect.Int, in.Kind() == reflect.Int32:
			out = append(out, reflect.ValueOf(number).Convert(in))
		case in.Kind() == reflect.Slice && in.Elem().Kind() == reflect.Int64:
			out = append(out, reflect.ValueOf([]int64{1, 2}).Convert(in))
		case in.Kind() == reflect.Slice && in.Elem().Kind() == reflect.String:
			out = append(out, reflect.ValueOf([]string{word, "a"}).Convert(in))
		case in.Kind() == reflect.Func:
			out = append(out, reflect.MakeFunc(in, func([]reflect.Value) []reflect.Value {
				var back []reflect.Value
				for i := range in.NumOut() {
					back = append(back, reflect.Zero(in.Out(i)))
				}
				return back
			}))
		case in.Kind() == reflect.Interface, in.Kind() == reflect.Pointer:
			return nil, false
		default:
			out = append(out, reflect.Zero(in))
		}
	}
	return out, true
}

// writes reports that a method does something each time: that it does it whole or not at all is held elsewhere.
func writes(name string) bool {
	for _, verb := range strings.Fields("Add Answer Beat Begin Busy Cancel Change Claim Close Copy Create Decide Drop End Enlist Fire Finish Forget Hold Keep Learn Leave Lock Note Observed Own Propose Publish Record Register " +
		"Release Resend Reserve Resume Return Revise Revoke Rotate Save Say Set Settle Snapshot Stage Take Touch Undo Unregister Use Void Withdraw") {
		rest, is := strings.CutPrefix(name, verb)
		if is && (rest == "" || rest[0] >= 'A' && rest[0] <= 'Z') { // Record, but not Records
			return true
		}
	}
	return name == "LeaseAddress"
}

// TestNoReadingIsCutShortUnsaid asks everything that can be asked of a store, has each call to the database fail that it makes, each row included, and holds that nobody is told
// less than there is without an error.
func TestNoReadingIsCutShortUnsaid(t *testing.T) {
	t.Parallel()
	dir, x := troubled(t)
	path := filepath.Join(dir, "andamio.db")
	peopledAgain := peopled(t, path)
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	defer s.Close()
	does := peopledAgain(s)
	for _, name := range slices.Sorted(maps.Keys(does)) {
		_ = does[name](t.Context()) // some cannot be after others
	}
	asked, calls := 0, 0
	for i := range reflect.TypeOf(s).NumMethod() {
		m := reflect.TypeOf(s).Method(i)
		f := reflect.ValueOf(s).Method(i)
		if writes(m.Name) || f.Type().NumOut() == 0 || !f.Type().Out(f.Type().NumOut()-1).Implements(reflect.TypeFor[error]()) {
			continue
		}
		most := 0
		for _, word := range []string{"vega", "basin", "trial", "a", "r", "serve", "survey", ""} {
			for _, number := range []int64{1, 2} {
				args, can := arguments(t.Context(), f.Type(), word, number)
				if !can {
					continue
				}
				ask := func() error {
					out := f.Call(args)
					err, _ := out[len(out)-1].Interface().(error)
					return err
				}
				if x.fails(0); ask() != nil {
					continue // there is no such thing
				}
				most = max(most, x.allFail(t, m.Name+" "+word, ask))
			}
		}
		if most == 0 {
			t.Logf("not asked: %s", m.Name)
			continue
		}
		asked, calls = asked+1, calls+most
	}
	t.Logf("%d are asked, with %d calls", asked, calls)
	assert.Greater(t, asked, 50)
}

// TestWhatCannotBeReadIsSaid puts something that cannot be read into each text of the database that is written as JSON: whoever reads it says so, and nobody tells anything else for it.
func TestWhatCannotBeReadIsSaid(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "andamio.db")
	peopled(t, path)
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	defer s.Close()
	readings := func() map[string]string {
		out := map[string]string{}
		for i := range reflect.TypeOf(s).NumMethod() {
			name, f := reflect.TypeOf(s).Method(i).Name, reflect.ValueOf(s).Method(i)
			if writes(name) || f.Type().NumOut() < 2 {
				continue
			}
			for _, word := range []string{"vega", "basin", "trial", "t1", "r", "serve", ""} {
				if args, can := arguments(t.Context(), f.Type(), word, 1); can {
					told := f.Call(args)
					out[name+" "+word] = fmt.Sprintf("%+v", told[0])
					if err, failed := told[len(told)-1].Interface().(error); failed {
						out[name+" "+word] = "! " + err.Error()
					}
				}
			}
		}
		return out
	}
	texts, err := s.db.QueryContext(t.Context(), `SELECT m.name, c.name FROM sqlite_master m, pragma_table_info(m.name) c WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite%' AND m.name NOT LIKE 'goose%'`)
	require.NoError(t, err)
	var columns [][2]string
	for texts.Next() {
		var c [2]string
		require.NoError(t, texts.Scan(&c[0], &c[1]))
		columns = append(columns, c)
	}
	require.NoError(t, texts.Close())
	before, spoilt := readings(), 0
	for _, c := range columns {
		had := fmt.Sprintf(`SELECT count(*) FROM %q WHERE typeof(%q) <> 'integer' AND (substr(%q, 1, 1) IN ('{', '[') OR substr(%q, 1, 1) IN (x'7b', x'5b'))`, c[0], c[1], c[1], c[1])
		var rows int
		require.NoError(t, s.db.QueryRowContext(t.Context(), had).Scan(&rows))
		if rows == 0 {
			continue
		}
		tx, err := s.db.BeginTx(t.Context(), nil)
		require.NoError(t, err)
		require.NoError(t, tx.Rollback())
		was := filepath.Join(t.TempDir(), "was.db")
		require.NoError(t, s.CopyTo(t.Context(), was))
		_, err = s.db.ExecContext(t.Context(), fmt.Sprintf(`UPDATE %q SET %q = '{"'`, c[0], c[1]))
		require.NoError(t, err)
		said := false
		for name, now := range readings() {
			switch {
			case now == before[name]:
			case strings.HasPrefix(now, "! "):
				said = true
			default:
				assert.NotContains(t, now, "\"", "%s.%s is told as it is not by %s", c[0], c[1], name)
			}
		}
		if said {
			spoilt++
		} else {
			t.Logf("nobody reads %s.%s", c[0], c[1])
		}
		require.NoError(t, s.Close())
		text, err := os.ReadFile(was)
		require.NoError(t, err)
		for _, beside := range []string{"-wal", "-shm"} {
			_ = os.Remove(path + beside)
		}
		require.NoError(t, os.WriteFile(path, text, 0o600))
		s, err = Open(t.Context(), path)
		require.NoError(t, err)
	}
	assert.Greater(t, spoilt, 15)
}

// TestEveryWriteThatFailsHasWrittenNothing has each call to the database fail that each write makes, which the database itself may do, and not only whoever asked give up.
func TestEveryWriteThatFailsHasWrittenNothing(t *testing.T) {
	t.Parallel()
	dir, x := troubled(t)
	like := filepath.Join(dir, "like.db")
	all := peopled(t, like)
	whole, err := os.ReadFile(like)
	require.NoError(t, err)
	fresh := func(name string) *Store {
		path := filepath.Join(dir, strings.ReplaceAll(name, " ", "-")+".db")
		require.NoError(t, os.WriteFile(path, whole, 0o600))
		s, err := Open(t.Context(), path)
		require.NoError(t, err)
		return s
	}
	x.fails(0)
	before := contents(t, like)
	for _, name := range slices.Sorted(maps.Keys(all(nil))) {
		tried := fresh(name + " tried")
		x.fails(0)
		require.NoError(t, all(tried)[name](t.Context()), name)
		calls := int(x.calls.Load())
		require.NoError(t, tried.Close())
		require.Positive(t, calls, name)
		s := fresh(name)
		for at := 1; at <= calls; at++ {
			x.fails(at)
			err := all(s)[name](t.Context())
			x.fails(0)
			require.ErrorContains(t, err, errTrouble.Error(), "%s: call %d of %d", name, at, calls)
			if name != "beat" { // that somebody lives is true, whatever is asked after it
				assert.Equal(t, before, contents(t, s.db.name), "%s: call %d of %d", name, at, calls)
			}
		}
		require.NoError(t, s.Close())
	}
}

// TestWhatIsDoneWithTheFileSaysWhatFailed has each call fail that opening, looking through and copying a database makes, and what is appended to a journal.
func TestWhatIsDoneWithTheFileSaysWhatFailed(t *testing.T) {
	t.Parallel()
	dir, x := troubled(t)
	path := filepath.Join(dir, "andamio.db")
	peopled(t, path)
	ctx := t.Context()
	s, err := Open(ctx, path)
	require.NoError(t, err)
	defer s.Close()
	n := 0
	next := func() string { n++; return filepath.Join(dir, fmt.Sprint(n)) }
	for name, work := range map[string]func() error{
		"verify":   func() error { _, err := Verify(ctx, path); return err },
		"copy":     func() error { return s.CopyTo(ctx, next()) },
		"snapshot": func() error { return s.Snapshot(ctx, func(relational.Asked) error { return nil }) },
	} {
		assert.Positive(t, x.allFail(t, name, work), name)
		left, err := filepath.Glob(filepath.Join(dir, ".snapshot-*"))
		require.NoError(t, err)
		assert.Empty(t, left, name)
	}
	every := map[string]int{"make": 9, "open": 1}                                                           // to make one is many calls, one like another
	for name, path := range map[string]func() string{"make": next, "open": func() string { return path }} { // some of their questions are only whether there is something
		for at := 1; ; at += every[name] {
			x.fails(at)
			got, err := Open(ctx, path())
			over := x.calls.Load() < int64(at)
			x.fails(0)
			if err == nil {
				require.NoError(t, got.Close())
				_, err = Verify(ctx, got.db.name)
				require.NoError(t, err, "%s, call %d: what is there is whole", name, at)
				assert.Empty(t, got.CopiedTo(), "nothing was brought up to date")
			} else {
				require.ErrorContains(t, err, errTrouble.Error(), "%s, call %d", name, at)
			}
			if over {
				break
			}
		}
	}
	runID, epoch := aRun(t, s)
	a, err := s.db.Appender(ctx, runID, epoch)
	require.NoError(t, err)
	events := []run.Event{{Seq: 1, Kind: run.Logged, Text: "one"}, {Seq: 2, Kind: run.Logged, Text: "two"}}
	assert.Positive(t, x.allFail(t, "append", func() error {
		err := a.Append(events, false)
		if err == nil {
			events[0].Seq, events[1].Seq = events[0].Seq+2, events[1].Seq+2
		}
		return err
	}))
	require.NoError(t, a.Append(events, false), "what failed has written nothing: the same may be written")
	kept, err := s.Events(ctx, runID, 0, 100)
	require.NoError(t, err)
	assert.Len(t, kept, 4)
}

// TestACopyIsWholeOrNone copies a workspace to an empty one and has each call fail that this makes: nothing is there then; what is copied in the end is all there was, and nothing of it is
// overwritten.
func TestACopyIsWholeOrNone(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	dir, x := troubled(t)
	had := filepath.Join(dir, "had.db")
	peopled(t, had)
	from, err := Open(ctx, had)
	require.NoError(t, err)
	defer from.Close()
	first, err := from.Note(ctx, trail.Entry{At: midday, Act: "a", On: "b"})
	require.NoError(t, err)
	to, err := Open(ctx, filepath.Join(dir, "has.db"))
	require.NoError(t, err)
	defer to.Close()
	empty := contents(t, to.db.name)
	copied := func() (relational.Copied, error) {
		return relational.Copy(ctx, from.db, to.Database(), relational.Tables)
	}
	failed := 0
	for at := 1; ; at += 7 {
		x.fails(at)
		_, err := copied()
		over := x.calls.Load() < int64(at)
		x.fails(0)
		if over {
			require.NoError(t, err)
			break
		}
		failed++
		require.ErrorContains(t, err, errTrouble.Error(), "call %d", at)
		require.Equal(t, empty, contents(t, to.db.name), "call %d", at)
	}
	assert.Greater(t, failed, 20)
	want, got := contents(t, had), contents(t, to.db.name)
	for _, table := range relational.NotCopied {
		delete(want, table)
		delete(got, table)
	}
	assert.Equal(t, want, got)
	_, err = copied()
	assert.ErrorContains(t, err, "plans: there are 2 rows already, and nothing is overwritten")
	second, err := to.Note(ctx, trail.Entry{At: midday, Act: "a", On: "b"})
	require.NoError(t, err)
	assert.Equal(t, first.Seq+1, second.Seq, "the trail goes on where it was")
}

// TestACopyThatIsNotWhatWasCopiedIsNone copies to databases that keep something else than they are given, or not all of it.
func TestACopyThatIsNotWhatWasCopiedIsNone(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	dir := t.TempDir()
	had := filepath.Join(dir, "had.db")
	peopled(t, had)
	from, err := Open(ctx, had)
	require.NoError(t, err)
	defer from.Close()
	for i, does := range []string{`UPDATE deployments SET name = name || '.' WHERE id = NEW.id`, `UPDATE deployments SET id = id + 1 WHERE id = NEW.id`, `DELETE FROM deployments WHERE id = NEW.id`} {
		to, err := Open(ctx, filepath.Join(dir, fmt.Sprint(i)))
		require.NoError(t, err)
		_, err = to.db.ExecContext(ctx, `CREATE TRIGGER other AFTER INSERT ON deployments BEGIN `+does+`; END`)
		require.NoError(t, err)
		_, err = relational.Copy(ctx, from.db, to.Database(), relational.Tables)
		require.ErrorContains(t, err, "deployments: ", does)
		assert.ErrorContains(t, err, "are not what the 1 that were copied are", does)
		assert.Empty(t, contents(t, to.db.name)["plans"], "nothing is copied then")
		require.NoError(t, to.Close())
	}
}
