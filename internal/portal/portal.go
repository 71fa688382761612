// Package portal serves the screens over SSH: people are known by their keys, and each has the views of their role. There is no shell behind
// it, nothing is forwarded, and nobody who is not in the directory of teams gets in.
package portal

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/ssh"
	"charm.land/wish/v2"
	"charm.land/wish/v2/bubbletea"
	gossh "golang.org/x/crypto/ssh"

	"andamio/internal/app"
	"andamio/internal/core/guard"
	"andamio/internal/tui"
)

// Limits of the portal.
type Limits struct {
	// Sessions is how many there are at once, of everybody and of each person; Idle ends one in which nothing is pressed.
	Sessions, OfEach int
	Idle             time.Duration
	// Tries is how many connections an address may begin in a minute.
	Tries int
}

// Usual are the limits where nobody says otherwise.
var Usual = Limits{Sessions: 64, OfEach: 4, Idle: 30 * time.Minute, Tries: 30}

// Portal serves the screens of a workspace over SSH.
type Portal struct {
	app    *app.App
	limits Limits
	server *ssh.Server
	listen net.Listener

	mu    sync.Mutex
	open  map[string]int
	tries map[string][]time.Time
}

// hostKey is where the portal's own key is kept in the workspace: who comes again knows it.
const hostKey = app.FilePortalKey

// Open listens at an address.
func Open(a *app.App, address string, limits Limits) (*Portal, error) {
	p := &Portal{app: a, limits: limits, open: map[string]int{}, tries: map[string][]time.Time{}}
	pem, err := a.PortalKey(hostKey)
	if err != nil {
		return nil, err
	}
	p.server, err = wish.NewServer(wish.WithAddress(address), wish.WithHostKeyPEM(pem), wish.WithPublicKeyAuth(p.knows), wish.WithIdleTimeout(limits.Idle),
		wish.WithVersion("Andamio"), wish.WithMiddleware(bubbletea.Middleware(p.screens), p.admit))
	if err != nil {
		return nil, err
	}
	// Nothing but a session with a terminal: no forwarding, no files, no agent.
	p.server.ChannelHandlers = map[string]ssh.ChannelHandler{"session": ssh.DefaultSessionHandler}
	p.server.RequestHandlers = map[string]ssh.RequestHandler{}
	p.server.SubsystemHandlers = map[string]ssh.SubsystemHandler{}
	p.server.ConnCallback = p.throttle
	if p.listen, err = net.Listen("tcp", address); err != nil {
		return nil, err
	}
	return p, nil
}

// Address is where it listens.
func (p *Portal) Address() string { return p.listen.Addr().String() }

// Serve goes on until the context ends.
func (p *Portal) Serve(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() { _ = p.server.Close() })
	defer stop()
	if err := p.server.Serve(p.listen); !errors.Is(err, ssh.ErrServerClosed) && ctx.Err() == nil {
		return err
	}
	return nil
}

// throttle closes connections of an address that begins too many.
func (p *Portal) throttle(_ ssh.Context, c net.Conn) net.Conn {
	host, _, _ := net.SplitHostPort(c.RemoteAddr().String())
	now := time.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.forget(now)
	if len(p.tries[host]) >= p.limits.Tries {
		_ = c.Close()
		return c
	}
	p.tries[host] = append(p.tries[host], now)
	return c
}

// forget drops what began more than a minute ago: who comes once from each of many addresses does not fill the memory.
func (p *Portal) forget(now time.Time) {
	for host, all := range p.tries {
		late := slices.DeleteFunc(all, func(t time.Time) bool { return now.Sub(t) >= time.Minute })
		if p.tries[host] = late; len(late) == 0 {
			delete(p.tries, host)
		}
	}
}

// person is who has a key, by the directory of teams; "" if nobody has.
func (p *Portal) person(key ssh.PublicKey) string {
	if key == nil {
		return ""
	}
	return p.app.WhoHas(strings.TrimSpace(string(gossh.MarshalAuthorizedKey(key))))
}

// knows lets those in who are known by their key.
func (p *Portal) knows(_ ssh.Context, key ssh.PublicKey) bool { return p.person(key) != "" }

// admit refuses what is no screen, and more sessions than there may be; who comes and goes is noted.
func (p *Portal) admit(next ssh.Handler) ssh.Handler {
	return func(s ssh.Session) {
		who := p.person(s.PublicKey())
		switch _, _, terminal := s.Pty(); {
		case who == "":
			wish.Fatalln(s, "nobody knows this key")
			return
		case len(s.Command()) > 0 || s.Subsystem() != "":
			wish.Fatalln(s, "there are screens here, and no commands")
			return
		case !terminal:
			wish.Fatalln(s, "there are screens here: come with a terminal (ssh -t)")
			return
		}
		if !p.enter(who) {
			wish.Fatalln(s, "too many sessions are open; close one, or come again later")
			return
		}
		defer p.leave(who)
		if err := p.as(who).Entered(s.Context(), s.RemoteAddr().String()); err != nil {
			wish.Fatalln(s, err.Error())
			return
		}
		stop := p.heed(s, who)
		defer stop()
		next(s)
	}
}

// heedEvery is how often it is looked whether whoever is there may be there still.
const heedEvery = time.Second

// heed ends a session as soon as the directory knows the key no more, or whoever has it may see more or less than when they came: the screens
// that they have are of then.
func (p *Portal) heed(s ssh.Session, who string) (stop func()) {
	saw := p.as(who).MayRead()
	ctx, stop := context.WithCancel(s.Context())
	go func() {
		tick := time.NewTicker(heedEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			if p.person(s.PublicKey()) == who && p.as(who).MayRead() == saw {
				continue
			}
			if conn, is := s.Context().Value(ssh.ContextKeyConn).(*gossh.ServerConn); is {
				_ = conn.Close()
			}
			_ = s.Close()
			return
		}
	}()
	return stop
}

func (p *Portal) enter(who string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	all := 0
	for _, n := range p.open {
		all += n
	}
	if all >= p.limits.Sessions || p.open[who] >= p.limits.OfEach {
		return false
	}
	p.open[who]++
	return true
}

func (p *Portal) leave(who string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.open[who]--; p.open[who] <= 0 {
		delete(p.open, who)
	}
}

// as is the workspace for somebody who looks at screens.
func (p *Portal) as(who string) *app.App { return p.app.As(guard.Actor{Name: who, Way: guard.Screen}) }

// screens are the screens of whoever came.
func (p *Portal) screens(s ssh.Session) (tea.Model, []tea.ProgramOption) {
	pty, _, _ := s.Pty()
	return tui.New(s.Context(), p.as(p.person(s.PublicKey())), tui.Options{W: pty.Window.Width, H: pty.Window.Height, Remote: true})
}

// Says says where it is reached.
func (p *Portal) Says() string {
	host, port, _ := net.SplitHostPort(p.Address())
	return fmt.Sprintf("screens over SSH at %s: ssh -p %s %s", p.Address(), port, host)
}
