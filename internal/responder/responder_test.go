package responder

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/front"
)

const fronts = `version: andamio.fronts/1
zone: near.ribera.test
servers: [ns1.ribera.test, ns2.ribera.test]
ttl: 5s
regions:
- { name: upper basin, networks: [10.1.0.0/16], near: presa }
- { name: harbour, networks: [10.2.0.0/16], near: alisio }
fronts:
- { name: map, endpoint: river-map, answers: 1 }
- { name: warn, endpoint: alert-dispatch }
`

func table(t testing.TB) *front.Table {
	f, err := front.Read([]byte(fronts))
	require.NoError(t, err)
	at := func(name, site, address string, up bool) front.Member {
		return front.Member{Name: name, Deployment: 1, Site: site, Address: netip.MustParseAddr(address), Port: 8080, Up: up}
	}
	return &front.Table{File: f, Members: map[string][]front.Member{"map": {at("river-map-1.http", "presa", "10.9.0.1", true), at("river-map-2.http", "alisio", "10.9.0.2", true), at("river-map-3.http", "vega", "2001:db8::3", false)}},
		Between: map[string]map[string]float64{"presa": {"alisio": 20}}}
}

func ask(name string, kind uint16, with ...func(*dns.Msg)) *dns.Msg {
	m := new(dns.Msg)
	m.SetQuestion(name, kind)
	for _, w := range with {
		w(m)
	}
	return m
}

// from has a question tell the network of its client.
func from(address string, bits uint8) func(*dns.Msg) {
	return func(m *dns.Msg) {
		m.SetEdns0(1232, false)
		family, ip := uint16(1), net.ParseIP(address).To4()
		if ip == nil {
			family, ip = 2, net.ParseIP(address)
		}
		m.IsEdns0().Option = append(m.IsEdns0().Option, &dns.EDNS0_SUBNET{Code: dns.EDNS0SUBNET, Family: family, SourceNetmask: bits, Address: ip})
	}
}

func rows(all []dns.RR) string {
	var out []string
	for _, rr := range all {
		out = append(out, strings.Join(strings.Fields(rr.String()), " "))
	}
	return strings.Join(out, "\n")
}

var resolver = netip.MustParseAddr("10.2.3.4")

func TestEachQuestionIsAnsweredAsTheStandardsHaveIt(t *testing.T) {
	var r Responder
	q := func(m *dns.Msg) *dns.Msg { return r.Answer(m, resolver, time.Now(), func() float64 { return 0 }) }
	assert.Equal(t, dns.RcodeServerFailure, q(ask("map.near.ribera.test.", dns.TypeA)).Rcode, "nothing is known yet")
	r.Set(table(t))
	const soa = "near.ribera.test. 5 IN SOA ns1.ribera.test. hostmaster.near.ribera.test. 1 60 10 86400 5"
	for name, c := range map[string]struct {
		m      *dns.Msg
		rcode  int
		answer string
		ns     string
	}{
		"by who asks":               {ask("map.near.ribera.test.", dns.TypeA), 0, "map.near.ribera.test. 5 IN A 10.9.0.2", ""},
		"by whom they ask for":      {ask("map.near.ribera.test.", dns.TypeA, from("10.1.2.0", 24)), 0, "map.near.ribera.test. 5 IN A 10.9.0.1", ""},
		"whatever its letters":      {ask("MAP.Near.ribera.TEST.", dns.TypeA), 0, "MAP.Near.ribera.TEST. 5 IN A 10.9.0.2", ""},
		"none of that sort":         {ask("map.near.ribera.test.", dns.TypeAAAA), 0, "", soa},
		"none of that type":         {ask("map.near.ribera.test.", dns.TypeMX), 0, "", soa},
		"whoever has none":          {ask("warn.near.ribera.test.", dns.TypeA), 0, "", soa},
		"not there":                 {ask("other.near.ribera.test.", dns.TypeA), dns.RcodeNameError, "", soa},
		"not there below a front":   {ask("a.b.map.near.ribera.test.", dns.TypeA), dns.RcodeNameError, "", soa},
		"a member":                  {ask("river-map-3-http-d1.map.near.ribera.test.", dns.TypeAAAA), 0, "river-map-3-http-d1.map.near.ribera.test. 5 IN AAAA 2001:db8::3", ""},
		"no such member":            {ask("river-map-9.map.near.ribera.test.", dns.TypeA), dns.RcodeNameError, "", soa},
		"something below it":        {ask("_tcp.map.near.ribera.test.", dns.TypeA), 0, "", soa},
		"its ports":                 {ask("_http._tcp.map.near.ribera.test.", dns.TypeSRV), 0, "_http._tcp.map.near.ribera.test. 5 IN SRV 0 1 8080 river-map-2-http-d1.map.near.ribera.test.", ""},
		"no address of its ports":   {ask("_http._tcp.map.near.ribera.test.", dns.TypeA), 0, "", soa},
		"the zone":                  {ask("near.ribera.test.", dns.TypeSOA), 0, soa, ""},
		"who answers for it":        {ask("near.ribera.test.", dns.TypeNS), 0, "near.ribera.test. 5 IN NS ns1.ribera.test.\nnear.ribera.test. 5 IN NS ns2.ribera.test.", ""},
		"an address of the zone":    {ask("near.ribera.test.", dns.TypeA), 0, "", soa},
		"anything":                  {ask("map.near.ribera.test.", dns.TypeANY), 0, `map.near.ribera.test. 5 IN HINFO "RFC8482" ""`, ""},
		"all of it":                 {ask("near.ribera.test.", dns.TypeAXFR), dns.RcodeRefused, "", ""},
		"another zone":              {ask("ribera.test.", dns.TypeA), dns.RcodeRefused, "", ""},
		"a zone that ends the same": {ask("unnear.ribera.test.", dns.TypeA), dns.RcodeRefused, "", ""},
		"another class":             {ask("version.bind.", dns.TypeTXT, func(m *dns.Msg) { m.Question[0].Qclass = dns.ClassCHAOS }), dns.RcodeRefused, "", ""},
		"an update":                 {ask("near.ribera.test.", dns.TypeSOA, func(m *dns.Msg) { m.Opcode = dns.OpcodeUpdate }), dns.RcodeNotImplemented, "", ""},
		"two questions":             {ask("map.near.ribera.test.", dns.TypeA, func(m *dns.Msg) { m.Question = append(m.Question, m.Question[0]) }), dns.RcodeFormatError, "", ""},
		"a later EDNS":              {ask("map.near.ribera.test.", dns.TypeA, func(m *dns.Msg) { m.SetEdns0(1232, false); m.IsEdns0().SetVersion(1) }), dns.RcodeBadVers, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			got := q(c.m)
			if c.rcode == dns.RcodeBadVers {
				assert.Equal(t, c.rcode, got.Rcode)
				return
			}
			assert.Equal(t, dns.RcodeToString[c.rcode], dns.RcodeToString[got.Rcode])
			assert.Equal(t, c.answer, rows(got.Answer))
			assert.Equal(t, c.ns, rows(got.Ns))
			assert.Equal(t, c.rcode == 0 || c.rcode == dns.RcodeNameError, got.Authoritative)
			_, err := got.Pack()
			require.NoError(t, err)
		})
	}
	srv := q(ask("_http._tcp.map.near.ribera.test.", dns.TypeSRV))
	assert.Equal(t, "river-map-2-http-d1.map.near.ribera.test. 5 IN A 10.9.0.2", rows(srv.Extra))
}

func TestTheScopeSaysForWhomAnAnswerIsSo(t *testing.T) {
	var r Responder
	r.Set(table(t))
	scope := func(with ...func(*dns.Msg)) any {
		o := r.Answer(ask("map.near.ribera.test.", dns.TypeA, with...), resolver, time.Now(), func() float64 { return 0 }).IsEdns0()
		if o == nil {
			return "no EDNS"
		}
		for _, x := range o.Option {
			if s, is := x.(*dns.EDNS0_SUBNET); is {
				return fmt.Sprintf("%s/%d/%d", s.Address, s.SourceNetmask, s.SourceScope)
			}
		}
		return "no subnet"
	}
	assert.Equal(t, "no EDNS", scope())
	assert.Equal(t, "no subnet", scope(func(m *dns.Msg) { m.SetEdns0(1232, false) }))
	assert.Equal(t, "10.1.2.0/24/16", scope(from("10.1.2.0", 24)))
	assert.Equal(t, "10.7.0.0/16/14", scope(from("10.7.0.0", 16)), "of those beside a region it is so as well")
	assert.Equal(t, "0.0.0.0/0/0", scope(from("0.0.0.0", 0)))
	assert.Equal(t, "2001:db8::/48/0", scope(from("2001:db8::", 48)))
}

// listening is a responder that answers at a free port of loopback.
func listening(t testing.TB, r *Responder) string {
	at, done, err := r.Listen(t.Context(), []string{"127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, done()) })
	return at[0]
}

func TestQuestionsAreAnsweredByBothProtocols(t *testing.T) {
	r := &Responder{}
	r.Set(table(t))
	at := listening(t, r)
	for _, protocol := range []string{"udp", "tcp"} {
		c := &dns.Client{Net: protocol, Timeout: 3 * time.Second}
		got, _, err := c.Exchange(ask("map.near.ribera.test.", dns.TypeA, from("10.1.2.0", 24)), at)
		require.NoError(t, err)
		assert.Equal(t, "map.near.ribera.test. 5 IN A 10.9.0.1", rows(got.Answer))
	}
	assert.EqualValues(t, 2, r.Answered.Load())
	_, _, err := (&Responder{}).Listen(t.Context(), []string{at})
	require.ErrorContains(t, err, "nothing can be answered at "+at)
	_, _, err = (&Responder{}).Listen(t.Context(), []string{"nowhere"})
	require.Error(t, err)
}

// TestWhatIsTooLongIsAskedAgainByTCP holds that an answer that fits no packet says so.
func TestWhatIsTooLongIsAskedAgainByTCP(t *testing.T) {
	long := table(t)
	long.File.Fronts[0].Answers = 8
	long.Members["map"] = nil
	for i := range 8 {
		long.Members["map"] = append(long.Members["map"], front.Member{Name: strings.Repeat("x", 45) + fmt.Sprint(i), Deployment: 1, Site: "vega", Address: netip.AddrFrom4([4]byte{10, 9, 1, byte(i)}), Port: 80, Up: true})
	}
	r := &Responder{}
	r.Set(long)
	at := listening(t, r)
	c := &dns.Client{Timeout: 3 * time.Second}
	got, _, err := c.Exchange(ask("_http._tcp.map.near.ribera.test.", dns.TypeSRV), at)
	require.NoError(t, err)
	assert.True(t, got.Truncated)
	c.Net = "tcp"
	got, _, err = c.Exchange(ask("_http._tcp.map.near.ribera.test.", dns.TypeSRV), at)
	require.NoError(t, err)
	assert.False(t, got.Truncated)
	assert.Len(t, got.Answer, 8)
}

// FuzzAnswer holds that whatever is asked is answered with something that can be sent.
func FuzzAnswer(f *testing.F) {
	var r Responder
	r.Set(table(f))
	for _, m := range []*dns.Msg{ask("map.near.ribera.test.", dns.TypeA, from("10.1.2.0", 24)), ask("_http._tcp.map.near.ribera.test.", dns.TypeSRV), ask(".", dns.TypeNS)} {
		data, err := m.Pack()
		require.NoError(f, err)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var q dns.Msg
		if q.Unpack(data) != nil {
			return
		}
		m := r.Answer(&q, resolver, time.Unix(1e9, 0), func() float64 { return 0.5 })
		m.Truncate(sizeOf(&q))
		if _, err := m.Pack(); err != nil {
			if _, same := q.Copy().Pack(); same == nil { // what can be sent can be answered
				t.Fatal(err)
			}
		}
	})
}

// program is the path of a program of the peers.
func program(t *testing.T, name string) string {
	path, err := exec.LookPath(name)
	require.NoError(t, err, "make tools installs it")
	return path
}

// TestDigUnderstandsTheAnswers asks with another's program.
func TestDigUnderstandsTheAnswers(t *testing.T) {
	dig := program(t, "dig")
	r := &Responder{}
	r.Set(table(t))
	host, port, err := net.SplitHostPort(listening(t, r))
	require.NoError(t, err)
	said := func(args ...string) string {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		out, err := exec.CommandContext(ctx, dig, append([]string{"@" + host, "-p", port, "+tries=2", "+time=3"}, args...)...).CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	near := said("+subnet=10.1.2.0/24", "map.near.ribera.test", "A")
	assert.Regexp(t, `flags: qr aa rd;`, near)
	assert.Regexp(t, `CLIENT-SUBNET: 10\.1\.2\.0/24/16`, near)
	assert.Regexp(t, `map\.near\.ribera\.test\.\s+5\s+IN\s+A\s+10\.9\.0\.1`, near)
	assert.Contains(t, said("+tcp", "nothing.near.ribera.test", "A"), "status: NXDOMAIN")
	assert.Regexp(t, `SRV\s+0 1 8080 river-map-\d-http-d1\.map\.near\.ribera\.test\.`, said("_http._tcp.map.near.ribera.test", "SRV"))
	assert.NotContains(t, near, "WARNING: Message parser reports malformed")
}

// TestAResolverKeepsAnswersForEachNetworkApart asks through a resolver that tells the networks of its clients, which keeps answers for as long as it may.
func TestAResolverKeepsAnswersForEachNetworkApart(t *testing.T) {
	dnsmasq := program(t, "dnsmasq")
	r := &Responder{}
	own := table(t)
	own.File, _ = front.Read([]byte(strings.NewReplacer("10.1.0.0/16", "127.71.0.0/16", "10.2.0.0/16", "127.72.0.0/16").Replace(fronts)))
	r.Set(own)
	host, port, err := net.SplitHostPort(listening(t, r))
	require.NoError(t, err)
	at := freePort(t)
	ctx, cancel := context.WithCancel(t.Context())
	cmd := exec.CommandContext(ctx, dnsmasq, "--keep-in-foreground", "--no-resolv", "--no-hosts", "--conf-file=/dev/null", "--pid-file="+filepath.Join(t.TempDir(), "pid"), "--user="+os.Getenv("USER"), "--port="+at, "--listen-address=127.0.0.1", "--bind-interfaces",
		"--add-subnet=24", "--server=/near.ribera.test/"+host+"#"+port)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cancel(); _ = cmd.Wait() })
	asked := func(client string) string {
		c := &dns.Client{Timeout: time.Second, Dialer: &net.Dialer{LocalAddr: &net.UDPAddr{IP: net.ParseIP(client)}, Timeout: time.Second}}
		got, _, err := c.Exchange(ask("map.near.ribera.test.", dns.TypeA), "127.0.0.1:"+at)
		if err != nil {
			return err.Error()
		}
		return rows(got.Answer)
	}
	require.Eventually(t, func() bool { return strings.Contains(asked("127.71.0.9"), "10.9.0.1") }, 10*time.Second, 20*time.Millisecond, "%s", asked("127.71.0.9"))
	assert.Contains(t, asked("127.72.0.9"), "10.9.0.2")
	assert.Contains(t, asked("127.71.0.9"), "10.9.0.1")
}

func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return port
}

// BenchmarkAnswer is what one answer takes from packet to packet, without the network.
func BenchmarkAnswer(b *testing.B) {
	var r Responder
	r.Set(table(b))
	data, err := ask("map.near.ribera.test.", dns.TypeA, from("10.1.2.0", 24)).Pack()
	require.NoError(b, err)
	for b.Loop() {
		var q dns.Msg
		if err := q.Unpack(data); err != nil {
			b.Fatal(err)
		}
		m := r.Answer(&q, resolver, time.Now(), func() float64 { return 0.5 })
		m.Truncate(sizeOf(&q))
		if _, err := m.Pack(); err != nil {
			b.Fatal(err)
		}
	}
}

// TestWhoSaysNothingOfTheirClientsIsAnsweredByTheirOwnAddress asks from addresses of two regions by both protocols, without a word of clients.
func TestWhoSaysNothingOfTheirClientsIsAnsweredByTheirOwnAddress(t *testing.T) {
	r := &Responder{}
	own := table(t)
	var err error
	own.File, err = front.Read([]byte(strings.NewReplacer("10.1.0.0/16", "127.71.0.0/16", "10.2.0.0/16", "127.72.0.0/16").Replace(fronts)))
	require.NoError(t, err)
	r.Set(own)
	at := listening(t, r)
	for client, want := range map[string]string{"127.71.0.9": "10.9.0.1", "127.72.0.9": "10.9.0.2"} {
		for protocol, local := range map[string]net.Addr{"udp": &net.UDPAddr{IP: net.ParseIP(client)}, "tcp": &net.TCPAddr{IP: net.ParseIP(client)}} {
			for range 8 {
				c := &dns.Client{Net: protocol, Timeout: 3 * time.Second, Dialer: &net.Dialer{LocalAddr: local, Timeout: 3 * time.Second}}
				got, _, err := c.Exchange(ask("map.near.ribera.test.", dns.TypeA), at)
				require.NoError(t, err)
				assert.Equal(t, "map.near.ribera.test. 5 IN A "+want, rows(got.Answer), "%s by %s", client, protocol)
			}
		}
	}
}
