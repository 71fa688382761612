package bus

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"github.com/nats-io/nats-server/v2/server"
)

// Doorkeeper says who may listen at a server of this process.
type Doorkeeper interface {
	// Enter says whether whoever shows a secret may, and under which name they are known from then on.
	Enter(ctx context.Context, secret string, from netip.Addr) (name string, err error)
	// Stay says whether somebody who entered still may.
	Stay(ctx context.Context, name string, from netip.Addr) error
}

// Embedded is a server that runs in this process.
type Embedded struct {
	server *server.Server
	door   Doorkeeper
	own    string
	log    *slog.Logger
	scheme string
	ctx    context.Context // until it is closed
	stop   context.CancelFunc
	done   sync.WaitGroup
}

// Embedding says how a server of this process is run.
type Embedding struct {
	// Address is where it listens, as ADDRESS:PORT; 0 is any port that is free. Without TLS that is this machine alone.
	Address string
	TLS     *tls.Config
	// Dir is the folder of what its streams keep.
	Dir string
	// Subject is that under which whoever is let in may listen, Hears that under which they may publish.
	Subject, Hears string
	Door           Doorkeeper
	Log            *slog.Logger
}

// What a server of this process bears.
const (
	mostClients  = 2000
	mostSubs     = 1000
	mostStored   = 2 << 30
	staysEvery   = time.Second
	readyWithin  = 15 * time.Second
	enterPatient = 3 * time.Second
)

// Embed runs a server in this process until it is closed.
func Embed(ctx context.Context, c Embedding) (*Embedded, error) {
	host, port, err := net.SplitHostPort(c.Address)
	if err != nil {
		return nil, fmt.Errorf("%q is no ADDRESS:PORT: %w", c.Address, err)
	}
	number, err := strconv.Atoi(port)
	if err != nil || number < 0 || number > 65535 {
		return nil, fmt.Errorf("%q is no port", port)
	}
	if ip, err := netip.ParseAddr(host); c.TLS == nil && (err != nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("in clear a bus listens on this machine alone, and %s is not: say which certificate it has", host)
	}
	if err := free(c.Address); err != nil { // which the server would only say in its log
		return nil, err
	}
	if number == 0 {
		number = server.RANDOM_PORT
	}
	e := &Embedded{door: c.Door, own: rand.Text(), log: c.Log, scheme: "nats"}
	e.ctx, e.stop = context.WithCancel(context.WithoutCancel(ctx)) // ended by Close
	opts := &server.Options{ServerName: "andamio", Host: host, Port: number, JetStream: true, StoreDir: c.Dir, JetStreamMaxStore: mostStored, NoSigs: true, NoLog: true, MaxConn: mostClients, MaxSubs: mostSubs,
		TLSConfig: c.TLS, AuthTimeout: 2 * enterPatient.Seconds(), CustomClientAuthentication: &door{e, c.Subject, c.Hears}}
	if c.TLS != nil {
		e.scheme, opts.TLS, opts.TLSTimeout = "tls", true, enterPatient.Seconds()
	}
	if e.server, err = server.NewServer(opts); err != nil {
		return nil, err
	}
	e.server.SetLoggerV2(spoken{c.Log}, false, false, false)
	go e.server.Start()
	if !e.server.ReadyForConnections(readyWithin) {
		e.stop()
		e.server.Shutdown()
		return nil, fmt.Errorf("no bus could be begun at %s: the port may be another's", c.Address)
	}
	e.done.Go(func() { e.keepOut(e.ctx) })
	return e, nil
}

// free says why an address cannot be listened at.
func free(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("no bus can be at %s; name another address: %w", address, err)
	}
	return l.Close()
}

// Server is how this process is at it.
func (e *Embedded) Server() Server {
	return Server{URL: "nats://in-process", Secret: e.own, in: e.server}
}

// URL is where others come to.
func (e *Embedded) URL() string { return e.scheme + "://" + e.server.Addr().String() }

// Close ends it, and waits until it has ended.
func (e *Embedded) Close() {
	e.stop()
	e.server.Shutdown()
	e.server.WaitForShutdown()
	e.done.Wait()
}

// keepOut ends the connections of those who may listen no more, until the context ends.
func (e *Embedded) keepOut(ctx context.Context) {
	tick := time.NewTicker(staysEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			e.look(ctx)
		}
	}
}

// look asks once of each who is there whether they may stay.
func (e *Embedded) look(ctx context.Context) {
	all, err := e.server.Connz(&server.ConnzOptions{Username: true, Limit: mostClients})
	if err != nil {
		e.log.Warn("who listens on the bus is not known", "err", err)
		return
	}
	type who struct{ name, from string }
	stays := map[who]bool{}
	for _, c := range all.Conns {
		if c.AuthorizedUser == "" || c.AuthorizedUser == ourselves {
			continue
		}
		at := who{c.AuthorizedUser, c.IP}
		may, asked := stays[at]
		if !asked {
			from, _ := netip.ParseAddr(c.IP)
			one, cancel := context.WithTimeout(ctx, enterPatient)
			err := e.door.Stay(one, at.name, from)
			cancel()
			may = err == nil
			stays[at] = may
		}
		if !may {
			_ = e.server.DisconnectClientByID(c.Cid) // which may be gone by itself
		}
	}
}

// ourselves is the name of this process at its own server.
const ourselves = "andamio"

// door is the server's way of asking who may enter.
type door struct {
	e              *Embedded
	subject, hears string
}

// Check lets whoever may enter in, to what they may do.
func (d *door) Check(c server.ClientAuthentication) bool {
	opts := c.GetOpts()
	secret := opts.Token
	if secret == "" {
		secret = opts.Password
	}
	if subtle.ConstantTimeCompare([]byte(secret), []byte(d.e.own)) == 1 {
		c.RegisterUser(&server.User{Username: ourselves})
		return true
	}
	from, err := netip.ParseAddrPort(c.RemoteAddress().String())
	if err != nil {
		return false
	}
	ctx, cancel := context.WithTimeout(d.e.ctx, enterPatient)
	defer cancel()
	name, err := d.e.door.Enter(ctx, secret, from.Addr().Unmap())
	if err != nil {
		d.e.log.Info("somebody is not let on the bus", "from", from, "err", err)
		return false
	}
	c.RegisterUser(&server.User{Username: name, Permissions: d.may()})
	return true
}

// may is what whoever is let in may do: read the stream, each with a place in it of their own, and publish what is heard of sites; nothing else of the server's.
func (d *door) may() *server.Permissions {
	stream := StreamOf(d.subject)
	api := func(what string) string { return "$JS.API." + what + "." + stream }
	return &server.Permissions{
		Publish: &server.SubjectPermission{Allow: []string{d.hears + ".*", "$JS.API.INFO", "$JS.API.STREAM.NAMES", api("STREAM.INFO"), api("STREAM.MSG.GET"), api("DIRECT.GET"), api("DIRECT.GET") + ".>",
			api("CONSUMER.CREATE"), api("CONSUMER.CREATE") + ".>", api("CONSUMER.DURABLE.CREATE") + ".>", api("CONSUMER.INFO") + ".>", api("CONSUMER.MSG.NEXT") + ".>", api("CONSUMER.DELETE") + ".>",
			api("CONSUMER.NAMES"), api("CONSUMER.LIST"), "$JS.ACK." + stream + ".>", "$JS.FC.>"}},
		Subscribe: &server.SubjectPermission{Allow: []string{d.subject + ".>", "_INBOX.>"}},
	}
}

// spoken has what the server says be in our log.
type spoken struct{ log *slog.Logger }

func (s spoken) Noticef(format string, args ...any) {
	s.log.Debug(busSays, "words", fmt.Sprintf(format, args...))
}
func (s spoken) Warnf(format string, args ...any) {
	s.log.Warn(busSays, "words", fmt.Sprintf(format, args...))
}
func (s spoken) Fatalf(format string, args ...any) {
	s.log.Error(busSays, "words", fmt.Sprintf(format, args...))
}
func (s spoken) Errorf(format string, args ...any) {
	s.log.Warn(busSays, "words", fmt.Sprintf(format, args...))
}
func (s spoken) Debugf(string, ...any) {}
func (s spoken) Tracef(string, ...any) {}

// busSays is before what the server says.
const busSays = "the bus says something"
