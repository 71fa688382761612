package nameserver

import (
	"context"
	"fmt"
	"net"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tool runs one of the programs that come with a name server, or skips the test where there is none.
func tool(t *testing.T, in, name string, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skipf("there is no %s here", name)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin = strings.NewReader(in)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	return string(out)
}

// TestPublicToolsReadAndChangeTheZone has others' programs update the zone, ask for names of every sort, and copy it.
func TestPublicToolsReadAndChangeTheZone(t *testing.T) {
	s := started(t)
	host, port, err := net.SplitHostPort(s.Address)
	require.NoError(t, err)
	key := "hmac-sha256:" + strings.TrimSuffix(s.Key, ".") + ":" + s.Secret
	tool(t, fmt.Sprintf("server %s %s\nzone ribera.test\nupdate add gauge.ribera.test 30 A 127.0.7.1\nupdate add gauge.ribera.test 30 AAAA fd00::7\nupdate add _gauge._tcp.gauge.ribera.test 30 SRV 0 0 8081 gauge.ribera.test\nsend\n", host, port),
		"nsupdate", "-y", key)
	dig := func(args ...string) string {
		return tool(t, "", "dig", append([]string{"@" + host, "-p", port}, args...)...)
	}
	assert.Equal(t, "127.0.7.1\n", dig("+short", "gauge.ribera.test", "A"))
	assert.Equal(t, "fd00::7\n", dig("+short", "gauge.ribera.test", "AAAA"))
	assert.Equal(t, "127.0.0.1\n", dig("+short", "ns.ribera.test", "A"), "the name server's own name has an address")
	assert.Contains(t, dig("ns.ribera.test", "AAAA"), "status: NOERROR")
	assert.Contains(t, dig("ribera.test", "NS"), "ns.ribera.test.\t\t5\tIN\tA\t127.0.0.1")
	signed := dig("-y", key, "gauge.ribera.test", "A")
	assert.Contains(t, signed, "TSIG PSEUDOSECTION")
	assert.NotContains(t, signed, "could not be validated")
	assert.Contains(t, dig("-y", "hmac-sha256:other:"+s.Secret, "gauge.ribera.test", "A"), "status: NOTAUTH")
	zone := dig("-y", key, "ribera.test", "AXFR")
	assert.Equal(t, 2, strings.Count(zone, "\tSOA\t"), zone)
	for _, want := range []string{"\tNS\t", "127.0.7.1", "fd00::7", "8081 gauge.ribera.test."} {
		assert.Contains(t, zone, want)
	}
	assert.Contains(t, dig("ribera.test", "AXFR"), "Transfer failed", "nobody has it without the key")
}

// TestOtherMessagesAreAnswered notifies, and asks for what no name server of this sort does.
func TestOtherMessagesAreAnswered(t *testing.T) {
	s := started(t)
	send := func(change func(m *dns.Msg)) *dns.Msg {
		m := new(dns.Msg)
		change(m)
		out, _, err := new(dns.Client).Exchange(m, s.Address)
		require.NoError(t, err)
		return out
	}
	got := send(func(m *dns.Msg) { m.SetNotify("ribera.test.") })
	assert.Equal(t, []any{dns.RcodeSuccess, true, dns.OpcodeNotify}, []any{got.Rcode, got.Authoritative, got.Opcode})
	assert.Equal(t, dns.RcodeRefused, send(func(m *dns.Msg) { m.SetAxfr("ribera.test.") }).Rcode, "a zone is copied over TCP")
	assert.Equal(t, dns.RcodeNotAuth, send(func(m *dns.Msg) { m.SetNotify("other.test.") }).Rcode)
}
