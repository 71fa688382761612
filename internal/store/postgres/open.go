// Package postgres is the store in a database of PostgreSQL, which several machines may use at once: what it has beside what any relational
// database has, which is how it is reached, that two who meet are told so and try again, that whoever waits for a change is told of it, and the
// files of a workspace.
//
// One database holds a workspace in each of its schemas; search_path in the address names which, and the database's own is meant otherwise.
package postgres

import (
	"cmp"
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"golang.org/x/sys/unix"

	"andamio/internal/core/fault"
	"andamio/internal/store"
	"andamio/internal/store/relational"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the store in a database.
type Store struct {
	*relational.Store
	db      *database
	changes *changes
	files   files
}

var _ store.Store = (*Store)(nil)

// Is reports that an address is one of a database of PostgreSQL.
func Is(address string) bool {
	return strings.HasPrefix(address, "postgres://") || strings.HasPrefix(address, "postgresql://")
}

// Named is an address as it is told and kept: whose password is in it is told so, since others would read it there.
func Named(address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil || !Is(address) || u.Host == "" && u.Query().Get("host") == "" {
		return "", fault.Invalidf("%q is no address of a database: write postgres://USER@HOST:PORT/DATABASE, with ?search_path=NAME where it holds several workspaces", printed(address))
	}
	if _, has := u.User.Password(); has || u.Query().Has("password") || u.Query().Has("sslpassword") {
		return "", fault.Invalidf("the address of the database holds a password, which others could read: leave it out, and keep it with andamio workspace password, in the file ~/.pgpass, or use a certificate (sslcert, sslkey)")
	}
	return u.String(), nil
}

// printed is an address that cannot be read, without what could be a password.
func printed(address string) string {
	if i := strings.LastIndex(address, "@"); i >= 0 {
		return "…" + address[i:]
	}
	return address
}

// How many connections one process has at most to read, and to write.
const (
	mostReading = 6
	mostWriting = 4
)

// connectPatience is how long a connection may take, lostAfter how long one may be silent before it is given up for lost.
const (
	connectPatience = 10 * time.Second
	lostAfter       = 20 * time.Second
	lockPatience    = 15 * time.Second
)

// Open opens the database at an address, making what a workspace needs in it, or bringing it up to date. The password is that of the
// address's user; "" leaves it to the file ~/.pgpass and the environment (PostgreSQL 15, sections 34.15 and 34.16).
func Open(ctx context.Context, address, password string) (*Store, error) {
	if _, err := Named(address); err != nil {
		return nil, err
	}
	config, err := pgx.ParseConfig(address)
	if err != nil {
		return nil, fault.Invalidf("the address of the database cannot be read: %w", err)
	}
	if password != "" {
		config.Password = password
	}
	config.ConnectTimeout = connectPatience
	config.DialFunc = (&net.Dialer{Timeout: connectPatience, KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: lostAfter / 2, Interval: lostAfter / 4, Count: 2}, Control: givenUp}).DialContext
	config.RuntimeParams["application_name"] = cmp.Or(config.RuntimeParams["application_name"], "andamio")
	config.RuntimeParams["lock_timeout"] = fmt.Sprint(lockPatience.Milliseconds())
	config.RuntimeParams["idle_in_transaction_session_timeout"] = "60000"
	d := &database{name: nameOf(config), plain: pool(config, "read committed", mostReading), serial: pool(config, "serializable", mostWriting)}
	schema, err := d.upToDate(ctx, config.RuntimeParams["search_path"])
	if err != nil {
		return nil, errors.Join(explained(d.name, err), d.Close())
	}
	return &Store{Store: relational.On(d, schema), db: d, changes: &changes{config: config, waiting: map[store.Topic]chan struct{}{}}}, nil
}

// givenUp has what was sent and is not acknowledged be given up in time (tcp(7), TCP_USER_TIMEOUT).
func givenUp(_, _ string, c syscall.RawConn) error {
	var failed error
	err := c.Control(func(fd uintptr) {
		failed = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(lostAfter.Milliseconds()))
	})
	if errors.Is(failed, unix.EOPNOTSUPP) || errors.Is(failed, unix.ENOPROTOOPT) { // a socket of this machine
		failed = nil
	}
	return errors.Join(err, failed)
}

// pool is connections of an isolation.
func pool(config *pgx.ConnConfig, isolation string, most int) *sql.DB {
	c := config.Copy()
	c.RuntimeParams["default_transaction_isolation"] = isolation
	db := stdlib.OpenDB(*c)
	db.SetMaxOpenConns(most)
	db.SetMaxIdleConns(most)
	db.SetConnMaxIdleTime(time.Minute)
	return db
}

// nameOf says where a workspace is, without who asks.
func nameOf(c *pgx.ConnConfig) string {
	name := fmt.Sprintf("the database %s at %s", c.Database, net.JoinHostPort(c.Host, fmt.Sprint(c.Port)))
	if schema := c.RuntimeParams["search_path"]; schema != "" {
		name += " (" + schema + ")"
	}
	return name
}

// explained says of a database that cannot be opened what can be done.
func explained(name string, err error) error {
	if errors.Is(err, store.ErrNewer) || fault.CodeOf(err) == fault.Refused {
		return fmt.Errorf("%s: %w", name, err)
	}
	return fault.Unavailablef("%s cannot be used: see that it runs, that this machine may reach it, and that the user may make tables in it: %w", name, err)
}

// openPatience is for how long a database that is not there is waited for by whoever opens it, who is told then.
const openPatience = 5 * time.Second

// first is the first connection.
func (d *database) first(ctx context.Context) (c *sql.Conn, err error) {
	wait, cancel := context.WithTimeout(ctx, openPatience)
	defer cancel()
	err = again(wait, absent, func() error { c, err = d.plain.Conn(wait); return err })
	return c, err
}

// mostApart is how far the clocks of this machine and of the database may be apart: who has shown of late that they live is told by them.
const mostApart = 2 * time.Second

// sameTime refuses a machine whose clock is another than the database's.
func (d *database) sameTime(ctx context.Context, c *sql.Conn) error {
	asked := time.Now()
	var nanos int64
	if err := c.QueryRowContext(ctx, `SELECT CAST(extract(epoch FROM clock_timestamp()) * 1000000000 AS bigint)`).Scan(&nanos); err != nil {
		return err
	}
	took := time.Since(asked)
	return apart(time.Unix(0, nanos).Sub(asked.Add(took/2)), took)
}

// apart says that clocks are too far apart, as far as can be said of an answer that took a while.
func apart(by, took time.Duration) error {
	if by.Abs() <= mostApart+took/2 {
		return nil
	}
	words := "behind"
	if by < 0 {
		words = "ahead of"
	}
	return fault.Refusedf("the clock of this machine is %s %s that of the database: machines that share a workspace know by their clocks who lives; set it (NTP) and try again", by.Abs().Round(100*time.Millisecond), words)
}

// lockUpToDate is held by whoever brings a database up to date, of those that begin at once.
const lockUpToDate = 0x616e6461

// upToDate makes or changes the tables, and returns which version the schema is.
func (d *database) upToDate(ctx context.Context, schema string) (int64, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	alone, err := d.first(ctx)
	if err != nil {
		return 0, err
	}
	defer alone.Close()
	if err := d.sameTime(ctx, alone); err != nil {
		return 0, err
	}
	if _, err := alone.ExecContext(ctx, `SELECT pg_advisory_lock($1)`, lockUpToDate); err != nil {
		return 0, err
	}
	defer func() {
		_, _ = alone.ExecContext(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock($1)`, lockUpToDate)
	}()
	if schema != "" {
		if _, err := alone.ExecContext(ctx, `CREATE SCHEMA IF NOT EXISTS `+pgx.Identifier{schema}.Sanitize()); err != nil {
			return 0, err
		}
	}
	p, err := goose.NewProvider(goose.DialectPostgres, d.plain, files, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return 0, err
	}
	now, ours, err := p.GetVersions(ctx)
	if err == nil && now > ours {
		err = fmt.Errorf("its schema is %d, and this program knows %d: %w", now, ours, store.ErrNewer)
	}
	if err == nil && now < ours {
		_, err = p.Up(ctx)
	}
	return ours, err
}

// Close closes the database.
func (s *Store) Close() error {
	s.changes.close()
	return s.Store.Close()
}

// Busy reports that nobody can write at this moment: here several may.
func (s *Store) Busy(context.Context) bool { return false }

// CopiedTo is no copy: the database's own backups are what one goes back to.
func (s *Store) CopiedTo() string { return "" }

// Name says where the workspace is.
func (s *Store) Name() string { return s.db.name }

// Measures are what was measured, which is beside all else.
func (s *Store) Measures() store.MeasuresStore {
	return measures{relational.MeasuresIn(s.db, s.measured)}
}

// measures are closed with the store that they are in.
type measures struct{ *relational.Measures }

func (measures) Close() error { return nil }

// measured is how many bytes what was measured takes.
func (s *Store) measured(ctx context.Context) (size int64, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT pg_total_relation_size('things') + pg_total_relation_size('measured') + pg_total_relation_size('tails')`).Scan(&size)
	return size, err
}
