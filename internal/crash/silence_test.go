package crash

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/engine"
	"andamio/internal/names"
	"andamio/internal/notice"
	"andamio/internal/remote"
	"andamio/internal/sandbox"
	"andamio/internal/service/templates"
	"andamio/internal/site"
	"andamio/internal/site/occi"
	"andamio/internal/web"
)

// silencer passes on what two say to each other, up to a byte in one direction: from then on it passes on nothing, and
// keeps every connection open.
type silencer struct {
	l      net.Listener
	to     string
	silent chan struct{}
	once   sync.Once
	// left is how many bytes may pass in a direction, up and down; passed is how many did.
	left, passed [2]atomic.Int64
	mu           sync.Mutex
	conns        []net.Conn
	// pieces are the sizes of what is passed on at once, in turn; none passes on what came. flip damages a byte.
	pieces []byte
	flip   int64
}

const without = int64(1) << 40

func silence(t testing.TB, to string, direction int, after int64) *silencer {
	s := silencerOf(t, to, direction, after)
	go s.serve()
	return s
}

func silencerOf(t testing.TB, to string, direction int, after int64) *silencer {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &silencer{l: l, to: to, silent: make(chan struct{}), flip: -1}
	s.left[0].Store(without)
	s.left[1].Store(without)
	s.left[direction].Store(after)
	if after == 0 {
		s.hush()
	}
	return s
}

func (s *silencer) hush() { s.once.Do(func() { close(s.silent) }) }

func (s *silencer) serve() {
	for {
		from, err := s.l.Accept()
		if err != nil {
			return
		}
		s.keep(from)
		go func() {
			to, err := net.DialTimeout("tcp", s.to, 10*time.Second)
			if err != nil {
				from.Close()
				return
			}
			s.keep(to)
			go s.pass(to, from, 0)
			s.pass(from, to, 1)
		}()
	}
}

func (s *silencer) keep(c net.Conn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.conns = append(s.conns, c)
}

// pass passes on what comes, as far as it may.
func (s *silencer) pass(to, from net.Conn, direction int) {
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		select {
		case <-s.silent:
			if err == nil {
				continue // it is taken and goes nowhere
			}
			return // and nobody is told that somebody hung up
		default:
		}
		may := min(int64(n), s.left[direction].Load())
		if at := s.flip - s.passed[direction].Load(); direction == 1 && s.flip >= 0 && at >= 0 && at < may {
			buf[at] ^= 0x40
		}
		if werr := s.inPieces(to, buf[:may]); werr != nil {
			from.Close()
			return
		}
		s.passed[direction].Add(may)
		if s.left[direction].Add(-may) <= 0 {
			s.hush()
			continue
		}
		if err != nil {
			if half, ok := to.(*net.TCPConn); ok {
				_ = half.CloseWrite()
			}
			return
		}
	}
}

// inPieces passes something on in pieces.
func (s *silencer) inPieces(to net.Conn, data []byte) error {
	for i := 0; len(data) > 0; i++ {
		n := len(data)
		if len(s.pieces) > 0 {
			n = min(n, int(s.pieces[i%len(s.pieces)])+1)
		}
		if _, err := to.Write(data[:n]); err != nil {
			return err
		}
		data = data[n:]
	}
	return nil
}

func (s *silencer) close() {
	s.l.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.conns {
		c.Close()
	}
}

// talk is one conversation over a protocol that we speak.
type talk struct {
	name string
	// with is whom it is held with; say holds it.
	with string
	say  func(ctx context.Context, at string) error
	// own says that it ends by itself soon after the other side is silent; others are held for as long as the context lasts.
	own bool
}

// quick is the patience of these conversations.
var quick = remote.Patience{Begin: 400 * time.Millisecond, Answer: 400 * time.Millisecond, Every: 150 * time.Millisecond, Grace: 20 * time.Millisecond}

// TestNothingThatFallsSilentIsWaitedForForEver has the other side of every protocol that we speak fall silent at every byte,
// in either direction: by itself, or with its context, everything ends. ANDAMIO_EVERY_BYTE=1 leaves out none; else every
// so many are tried, others each time.
func TestNothingThatFallsSilentIsWaitedForForEver(t *testing.T) {
	step := int64(11)
	if os.Getenv("ANDAMIO_EVERY_BYTE") != "" {
		step = 1
	}
	for _, x := range talks(t) {
		t.Run(x.name, func(t *testing.T) {
			dry := silence(t, x.with, 0, without)
			require.NoError(t, x.say(t.Context(), dry.l.Addr().String()), "it goes well when nobody is silent")
			totals := [2]int64{dry.passed[0].Load(), dry.passed[1].Load()}
			dry.close()
			turn := make(chan struct{}, 96)
			var group sync.WaitGroup
			var tried atomic.Int64
			for direction, total := range totals {
				for after := rand.Int64N(step); after < total; after += step {
					turn <- struct{}{}
					group.Go(func() {
						defer func() { <-turn }()
						tried.Add(1)
						x.ends(t, direction, after)
					})
				}
			}
			group.Wait()
			t.Logf("%d and %d bytes, silent at %d of them", totals[0], totals[1], tried.Load())
		})
	}
}

// mostWaiting is after what time a conversation that did not end is waited for for ever, beside other load.
const mostWaiting = 20 * time.Second

func (x talk) ends(t *testing.T, direction int, after int64) {
	s := silence(t, x.with, direction, after)
	defer s.close()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = x.say(ctx, s.l.Addr().String())
	}()
	if !x.own {
		select {
		case <-ended:
		case <-s.silent:
			cancel()
		}
	}
	select {
	case <-ended:
	case <-time.After(mostWaiting):
		assert.Fail(t, "it waits for ever", "%s, silent in direction %d after %d bytes", x.name, direction, after)
	}
}

// talks are conversations over all protocols, with real peers.
func talks(t *testing.T) []talk {
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: 0.002, Zone: "ribera.test"})
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	at := box.Endpoints[0]
	d := occi.New(at.Site, at.URL, at.Token)
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	volume, nic := machineOf(t, d, signer)
	shell, login := loginTo(t, nic, signer)
	heard := httptest.NewServer(&notice.Receiver{Secret: "s", Hear: func(event.Event) {}, Now: time.Now})
	t.Cleanup(heard.Close)
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, strings.Repeat("level ", 60)) }))
	t.Cleanup(page.Close)
	driver := func(where string) *occi.Driver {
		d := occi.New(at.Site, "http://"+where, at.Token)
		d.Patience(400 * time.Millisecond)
		return d
	}
	zone := names.Zone{Name: strings.TrimSuffix(box.Names.Zone, "."), Key: box.Names.Key, Secret: box.Names.Secret, Algorithm: "hmac-sha256", TTL: 1, Owner: "silence"}
	host := strings.TrimPrefix(at.URL, "http://")
	return []talk{
		{name: "site", with: host, own: true, say: func(ctx context.Context, where string) error {
			d := driver(where)
			if _, err := d.Access(ctx); err != nil {
				return err
			}
			if _, err := d.Describe(ctx); err != nil {
				return err
			}
			_, err := d.List(ctx, kinds.Volume)
			return err
		}},
		{name: "disk", with: host, say: func(ctx context.Context, where string) error {
			d := driver(where)
			if _, err := d.Changes(ctx, volume, "", 0); err != nil {
				return err
			}
			_, err := d.ReadDisk(ctx, volume, site.Extent{Length: 1000})
			return err
		}},
		{name: "script", with: shell, own: true, say: func(ctx context.Context, where string) error { return script(ctx, where, login) }},
		{name: "script with its context", with: shell, say: func(ctx context.Context, where string) error { return script(ctx, where, login) }},
		{name: "file", with: shell, own: true, say: func(ctx context.Context, where string) error { return file(ctx, where, login) }},
		{name: "name", with: box.Names.Address, own: true, say: func(ctx context.Context, where string) error {
			z := zone
			z.Server = where
			return z.Publish(ctx, "silence", names.Target{Address: "127.0.0.1"})
		}},
		{name: "notice", with: strings.TrimPrefix(heard.URL, "http://"), own: true, say: func(ctx context.Context, where string) error {
			e, err := notice.New(notice.TypeChanged, "https://sites.andamio.example/vega", "compute/x", time.Now(), notice.Changed{Kind: "compute", ID: "x"})
			if err != nil {
				return err
			}
			return notice.Send(ctx, web.Client(400*time.Millisecond, nil), "http://"+where+"/", "s", e, time.Now())
		}},
		{name: "probe", with: strings.TrimPrefix(page.URL, "http://"), own: true, say: func(ctx context.Context, where string) error {
			if said, good := engine.Ask(ctx, plan.Condition{Kind: plan.CheckHTTP, Path: "/"}, where); !good {
				return fmt.Errorf("%s", said)
			}
			return nil
		}},
	}
}

// script runs a script that prints and ends.
func script(ctx context.Context, where string, login *ssh.ClientConfig) error {
	c, err := quick.Dial(ctx, where, login)
	if err != nil {
		return err
	}
	defer c.Close()
	status, err := c.Run(ctx, "sh -s", func(s *ssh.Session) {
		s.Stdin, s.Stdout, s.Stderr = strings.NewReader("echo begun; ls /etc; echo done\n"), io.Discard, io.Discard
	})
	if err == nil && status != 0 {
		err = fmt.Errorf("status %d", status)
	}
	return err
}

// file writes a file.
func file(ctx context.Context, where string, login *ssh.ClientConfig) error {
	c, err := quick.Dial(ctx, where, login)
	if err != nil {
		return err
	}
	defer c.Close()
	stop := c.Within(ctx, nil)
	defer stop()
	files, err := sftp.NewClient(c.Client)
	if err != nil {
		return err
	}
	defer files.Close()
	f, err := files.Create("/srv/level")
	if err != nil {
		return err
	}
	if _, err := f.Write([]byte(strings.Repeat("x", 2000))); err != nil {
		return err
	}
	return f.Close()
}

// machineOf builds an instance with an interface, and a volume.
func machineOf(t testing.TB, d *occi.Driver, signer ssh.Signer) (volume string, nic site.Resource) {
	t.Helper()
	facts, err := d.Describe(t.Context())
	require.NoError(t, err)
	built := func(r site.Request) site.Resource {
		got, err := d.Create(t.Context(), r)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			got, err = d.Read(t.Context(), r.Kind, got.ID)
			return err == nil && got.State == site.Active
		}, 2*time.Minute, 2*time.Millisecond)
		return got
	}
	network := built(site.Request{Kind: kinds.Network, Name: "lan", CIDR: "10.0.0.0/24"})
	host := built(site.Request{Kind: kinds.Instance, Name: "node", Hostname: "node", Cores: 1, MemoryGiB: 1, Image: facts.Images[0].Name,
		PublicKey: string(ssh.MarshalAuthorizedKey(signer.PublicKey()))})
	nic = built(site.Request{Kind: kinds.Interface, Name: "nic", Source: host.ID, Target: network.ID})
	return built(site.Request{Kind: kinds.Volume, Name: "v", DiskGiB: 1}).ID, nic
}

// FuzzConversationsOverABadLineEnd cuts what is said over SSH into pieces, damages a byte of it and falls silent, as the
// fuzzer will have it: a script's conversation ends, and well if nothing of it was touched.
func FuzzConversationsOverABadLineEnd(f *testing.F) {
	host, login := shellHost(f)
	f.Add(false, uint16(0), uint16(0), []byte{})
	f.Add(true, uint16(700), uint16(0), []byte{0, 3, 200})
	f.Add(false, uint16(3000), uint16(900), []byte{15})
	f.Fuzz(func(t *testing.T, up bool, after, flip uint16, pieces []byte) {
		direction, left := 1, without
		if up {
			direction = 0
		}
		if after > 0 {
			left = int64(after)
		}
		s := silencerOf(t, host, direction, left)
		s.pieces = pieces
		if flip > 0 {
			s.flip = int64(flip)
		}
		go s.serve()
		defer s.close()
		ended := make(chan error, 1)
		go func() { ended <- script(t.Context(), s.l.Addr().String(), login) }()
		select {
		case err := <-ended:
			whole := s.passed[1].Load() <= s.flip || flip == 0
			if after == 0 && whole {
				require.NoError(t, err)
			}
		case <-time.After(mostWaiting):
			t.Fatal("it waits for ever")
		}
	})
}

// shellHost is an instance with a shell, and how one logs in.
func shellHost(t testing.TB) (string, *ssh.ClientConfig) {
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: 0.002})
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	_, nic := machineOf(t, occi.New(box.Endpoints[0].Site, box.Endpoints[0].URL, box.Endpoints[0].Token), signer)
	return loginTo(t, nic, signer)
}

func loginTo(t testing.TB, nic site.Resource, signer ssh.Signer) (string, *ssh.ClientConfig) {
	hostKey, _, _, _, err := ssh.ParseAuthorizedKey([]byte(nic.Attributes[site.AttrHostKey]))
	require.NoError(t, err)
	return net.JoinHostPort(nic.Attributes["address"], nic.Attributes["ssh.port"]),
		&ssh.ClientConfig{User: nic.Attributes["ssh.user"], Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.FixedHostKey(hostKey)}
}
