package names_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/names"
	"andamio/internal/sandbox/nameserver"
)

const secret = "c2VjcmV0IG9mIHRoZSB0ZXN0IGZvciBzaWduaW5nIGl0"

// servers are what the tests are run against: the stand-in, and a real named.
func servers(t *testing.T, run func(t *testing.T, z names.Zone)) {
	t.Run("stand-in", func(t *testing.T) {
		s, err := nameserver.Start("ribera.test", "127.0.0.1", "", nil)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		run(t, names.Zone{Name: "ribera.test", Server: s.Address, Resolvers: []string{s.Resolver}, Key: s.Key, Secret: s.Secret, Algorithm: "hmac-sha256", TTL: 2, Owner: "d1-17"})
	})
	t.Run("named", func(t *testing.T) { run(t, realNamed(t)) })
}

// freePort is a port that is free for UDP and TCP.
func freePort(t *testing.T) int {
	t.Helper()
	for range 50 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		port := l.Addr().(*net.TCPAddr).Port
		p, err := net.ListenPacket("udp", l.Addr().String())
		l.Close()
		if err == nil {
			p.Close()
			return port
		}
	}
	t.Fatal("no port is free")
	return 0
}

// realNamed starts two of Debian's name servers: one has the zone, the other resolves and keeps answers.
func realNamed(t *testing.T) names.Zone {
	t.Helper()
	path, err := exec.LookPath("named")
	require.NoError(t, err, "make tools installs it")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "zone"), []byte(`$TTL 2
@ IN SOA ns.ribera.test. names.ribera.test. 1 60 10 3600 1
@ IN NS ns.ribera.test.
ns IN A 127.0.0.1
`), 0o600))
	primary, resolver := freePort(t), freePort(t)
	common := `options { directory %q; listen-on port %d { 127.0.0.1; }; listen-on-v6 { none; }; pid-file none; session-keyfile none;
 dnssec-validation no; recursion %s; allow-query { any; }; };
controls { };
`
	start(t, path, filepath.Join(dir, "primary"), fmt.Sprintf(common, dir, primary, "no")+fmt.Sprintf(`key "andamio-update" { algorithm hmac-sha256; secret %q; };
zone "ribera.test" { type primary; file "zone"; allow-update { key "andamio-update"; }; };
`, secret))
	start(t, path, filepath.Join(dir, "resolver"), fmt.Sprintf(common, dir, resolver, "yes")+fmt.Sprintf(`zone "ribera.test" { type forward; forward only; forwarders { 127.0.0.1 port %d; }; };
`, primary))
	z := names.Zone{Name: "ribera.test", Server: fmt.Sprintf("127.0.0.1:%d", primary), Resolvers: []string{fmt.Sprintf("127.0.0.1:%d", resolver)},
		Key: "andamio-update", Secret: secret, Algorithm: "hmac-sha256", TTL: 2, Owner: "d1-17"}
	require.Eventually(t, func() bool {
		for _, s := range z.Servers() {
			if _, _, _, err := z.Ask(t.Context(), s, "ns", ""); err != nil {
				return false
			}
		}
		return true
	}, 2*time.Minute, 50*time.Millisecond)
	return z
}

func start(t *testing.T, path, file, config string) {
	t.Helper()
	require.NoError(t, os.WriteFile(file, []byte(config), 0o600))
	cmd := exec.Command(path, "-g", "-c", file, "-n", "1")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
}

func TestANameStandsForWhatItWasGivenLast(t *testing.T) {
	servers(t, func(t *testing.T, z names.Zone) {
		ctx := t.Context()
		require.NoError(t, z.Check())
		_, _, _, err := z.Ask(ctx, z.Server, "contacts", "")
		require.ErrorIs(t, err, names.ErrUnanswered)

		first := names.Target{Address: "127.8.1.4", Ports: map[string]int{"p5432": 5432}}
		require.NoError(t, z.Publish(ctx, "contacts", first))
		require.Empty(t, waitAgreed(t, z, first))
		address, port, _, err := z.Ask(ctx, z.Resolvers[0], "contacts", "p5432")
		require.NoError(t, err)
		assert.Equal(t, "127.8.1.4:5432", fmt.Sprintf("%s:%d", address, port))

		second := names.Target{Address: "127.9.2.14", Ports: map[string]int{"p5432": 20777}}
		require.NoError(t, z.Publish(ctx, "contacts", second))
		stale := z.Disagree(ctx, "contacts", second)
		require.Len(t, stale, 1, "the server knows, the resolver keeps what it was told")
		assert.Equal(t, z.Resolvers[0], stale[0].Server)
		assert.LessOrEqual(t, stale[0].Left, 2*time.Second)
		assert.Contains(t, stale[0].String(), "127.8.1.4")
		require.Empty(t, waitAgreed(t, z, second), "when its time is over it asks again")

		require.NoError(t, z.Withdraw(ctx, "contacts", []string{"p5432"}))
		_, _, _, err = z.Ask(ctx, z.Server, "contacts", "p5432")
		require.ErrorIs(t, err, names.ErrUnanswered)
		require.NoError(t, z.Withdraw(ctx, "contacts", []string{"p5432"}), "twice does no harm")
	})
}

func waitAgreed(t *testing.T, z names.Zone, want names.Target) (left []names.Disagreement) {
	t.Helper()
	assert.Eventually(t, func() bool {
		left = z.Disagree(t.Context(), "contacts", want)
		return len(left) == 0
	}, 2*time.Minute, 50*time.Millisecond)
	return left
}

func TestAWrongKeyChangesNothing(t *testing.T) {
	servers(t, func(t *testing.T, z names.Zone) {
		good := names.Target{Address: "127.8.1.4"}
		require.NoError(t, z.Publish(t.Context(), "contacts", good))
		for what, change := range map[string]func(*names.Zone){
			"another secret": func(z *names.Zone) { z.Secret = "d3JvbmcgZW50aXJlbHkgYW5kIGFsdG9nZXRoZXIhISEh" },
			"another key":    func(z *names.Zone) { z.Key = "somebody-else" },
		} {
			bad := z
			change(&bad)
			err := bad.Publish(t.Context(), "contacts", names.Target{Address: "127.66.6.6"})
			require.ErrorIs(t, err, names.ErrRefused, what)
			address, _, _, err := z.Ask(t.Context(), z.Server, "contacts", "")
			require.NoError(t, err)
			assert.Equal(t, "127.8.1.4", address)
		}
		outside := z
		outside.Name = "elsewhere.test"
		require.ErrorIs(t, outside.Publish(t.Context(), "contacts", good), names.ErrRefused, "a zone that it does not have")
	})
}

func TestASilentServerIsSaidToBe(t *testing.T) {
	z := names.Zone{Name: "ribera.test", Server: fmt.Sprintf("127.0.0.1:%d", freePort(t)), Key: "k", Secret: secret, Algorithm: "hmac-sha256"}
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	err := z.Publish(ctx, "contacts", names.Target{Address: "127.8.1.4"})
	require.ErrorContains(t, err, "does not answer")
	assert.False(t, errors.Is(err, names.ErrRefused))
	_, _, _, err = z.Ask(ctx, z.Server, "contacts", "")
	require.ErrorContains(t, err, "does not answer")
	require.Error(t, z.Publish(ctx, "contacts", names.Target{Address: "nowhere"}))
}

func TestWhatAZoneNeeds(t *testing.T) {
	good := names.Zone{Name: "ribera.test", Server: "127.0.0.1:53", Key: "k", Secret: secret, Algorithm: "hmac-sha256"}
	require.NoError(t, good.Check())
	for want, change := range map[string]func(*names.Zone){
		"no name of a zone":  func(z *names.Zone) { z.Name = "" },
		"no address":         func(z *names.Zone) { z.Server = "127.0.0.1" },
		"algorithm":          func(z *names.Zone) { z.Algorithm = "md5" },
		"a key and its":      func(z *names.Zone) { z.Secret = "" },
		"no address and por": func(z *names.Zone) { z.Resolvers = []string{"x"} },
	} {
		z := good
		change(&z)
		assert.ErrorContains(t, z.Check(), want)
	}
}

// TestANameHasAnAddressOfEitherSort publishes a name for an address of each version in turn: the other goes with it.
func TestANameHasAnAddressOfEitherSort(t *testing.T) {
	servers(t, func(t *testing.T, z names.Zone) {
		for _, address := range []string{"127.8.1.4", "fd00::7", "127.8.1.5"} {
			require.NoError(t, z.Publish(t.Context(), "gauge", names.Target{Address: address, Ports: map[string]int{"http": 8081}}))
			got, port, _, err := z.Ask(t.Context(), z.Server, "gauge", "http")
			require.NoError(t, err)
			assert.Equal(t, address, got)
			assert.Equal(t, 8081, port)
			_, taken, err := z.Taken(t.Context(), "gauge")
			require.NoError(t, err)
			assert.True(t, taken)
		}
		require.NoError(t, z.Publish(t.Context(), "gauge", names.Target{Address: "fd00::7", Ports: map[string]int{"http": 8081}}))
		require.NoError(t, z.Withdraw(t.Context(), "gauge", []string{"http"}))
		_, _, _, err := z.Ask(t.Context(), z.Server, "gauge", "")
		assert.ErrorIs(t, err, names.ErrUnanswered)
	})
}

// TestANameStandsForAllThatIsUp publishes a name for several addresses, of either sort, and others in their place; one that is another's is left as it is.
func TestANameStandsForAllThatIsUp(t *testing.T) {
	servers(t, func(t *testing.T, z names.Zone) {
		z.Owner = "front map"
		for _, want := range [][]string{{"127.8.1.4", "127.8.1.5", "fd00::7"}, {"127.8.1.5"}} {
			require.NoError(t, z.PublishAll(t.Context(), "map", want))
			var got []string
			for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
				m := new(dns.Msg)
				m.SetQuestion("map.ribera.test.", kind)
				c := &dns.Client{Timeout: 5 * time.Second}
				answer, _, err := c.ExchangeContext(t.Context(), m, z.Server)
				require.NoError(t, err)
				for _, rr := range answer.Answer {
					got = append(got, strings.TrimPrefix(rr.String(), rr.Header().String()))
				}
			}
			assert.ElementsMatch(t, want, got)
		}
		other := z
		other.Owner = "d1-17"
		require.ErrorIs(t, other.PublishAll(t.Context(), "map", []string{"127.66.6.6"}), names.ErrTaken)
		require.Error(t, z.PublishAll(t.Context(), "map", []string{"nowhere"}))
	})
}
