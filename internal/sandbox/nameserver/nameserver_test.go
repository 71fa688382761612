package nameserver

import (
	"fmt"
	"net"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const zone = "ribera.test."

func started(t *testing.T) *Server {
	t.Helper()
	s, err := Start("ribera.test", "127.0.0.1", "", nil)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func rr(t *testing.T, text string) dns.RR {
	t.Helper()
	out, err := dns.NewRR(text)
	require.NoError(t, err)
	return out
}

// ask sends a question and returns the answer.
func ask(t *testing.T, server, name string, kind uint16) *dns.Msg {
	t.Helper()
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	out, _, err := new(dns.Client).Exchange(m, server)
	require.NoError(t, err)
	return out
}

// update signs an update as it is and returns the answer's code.
func update(t *testing.T, s *Server, m *dns.Msg, keyName, secret string) int {
	t.Helper()
	c := &dns.Client{Net: "tcp", TsigSecret: map[string]string{keyName: secret}}
	if keyName != "" {
		m.SetTsig(keyName, dns.HmacSHA256, 300, time.Now().Unix())
	}
	out, _, err := c.Exchange(m, s.Address)
	if out == nil {
		require.NoError(t, err)
	}
	return out.Rcode
}

// TestAZoneIsChangedAsAWhole updates with every kind of prerequisite and change (RFC 2136, sections 2.4 and 2.5): what does
// not hold changes nothing, and what changes nothing leaves the serial as it is.
func TestAZoneIsChangedAsAWhole(t *testing.T) {
	s := started(t)
	change := func(make func(m *dns.Msg)) int {
		m := new(dns.Msg).SetUpdate(zone)
		make(m)
		return update(t, s, m, s.Key, s.Secret)
	}
	a := func(name, address string) dns.RR { return rr(t, fmt.Sprintf("%s.%s 5 IN A %s", name, zone, address)) }
	serial := s.Serial()
	for i, c := range []struct {
		says  string
		make  func(m *dns.Msg)
		code  int
		grows bool
	}{
		{"a name is made", func(m *dns.Msg) { m.Insert([]dns.RR{a("map", "127.0.0.2")}) }, dns.RcodeSuccess, true},
		{"it is in use", func(m *dns.Msg) {
			m.NameUsed([]dns.RR{a("map", "127.0.0.2")})
			m.Insert([]dns.RR{a("map", "127.0.0.3")})
		}, dns.RcodeSuccess, true},
		{"one that is not in use is demanded", func(m *dns.Msg) {
			m.NameUsed([]dns.RR{a("gauge", "127.0.0.2")})
			m.Insert([]dns.RR{a("gauge", "127.0.0.3")})
		}, dns.RcodeNameError, false},
		{"one that is in use must not be", func(m *dns.Msg) {
			m.NameNotUsed([]dns.RR{a("map", "127.0.0.2")})
			m.Insert([]dns.RR{a("map", "127.0.0.9")})
		}, dns.RcodeYXDomain, false},
		{"it has addresses", func(m *dns.Msg) { m.RRsetUsed([]dns.RR{a("map", "127.0.0.2")}) }, dns.RcodeSuccess, false},
		{"it must have none", func(m *dns.Msg) { m.RRsetNotUsed([]dns.RR{a("map", "127.0.0.2")}) }, dns.RcodeYXRrset, false},
		{"another is to have some", func(m *dns.Msg) { m.RRsetUsed([]dns.RR{a("gauge", "127.0.0.2")}) }, dns.RcodeNXRrset, false},
		{"one address goes", func(m *dns.Msg) { m.Remove([]dns.RR{a("map", "127.0.0.3")}) }, dns.RcodeSuccess, true},
		{"all of a kind go", func(m *dns.Msg) { m.RemoveRRset([]dns.RR{a("map", "127.0.0.2")}) }, dns.RcodeSuccess, true},
		{"what is gone goes", func(m *dns.Msg) { m.RemoveName([]dns.RR{a("map", "127.0.0.2")}) }, dns.RcodeSuccess, false},
		{"another zone's", func(m *dns.Msg) { m.Insert([]dns.RR{rr(t, "map.elsewhere.test. 5 IN A 127.0.0.2")}) }, dns.RcodeNotZone, false},
	} {
		assert.Equal(t, c.code, change(c.make), "%d %s", i, c.says)
		assert.Equal(t, c.grows, s.Serial() > serial, "%s: the serial", c.says)
		serial = s.Serial()
	}
	other := new(dns.Msg).SetUpdate("elsewhere.test.")
	assert.Equal(t, dns.RcodeNotAuth, update(t, s, other, s.Key, s.Secret), "it is no server of that zone")
}

func TestWhoMayChangeAZone(t *testing.T) {
	s := started(t)
	fresh := func() *dns.Msg {
		m := new(dns.Msg).SetUpdate(zone)
		m.Insert([]dns.RR{rr(t, "map."+zone+" 5 IN A 127.0.0.2")})
		return m
	}
	assert.NotEqual(t, dns.RcodeSuccess, update(t, s, fresh(), "", ""), "nobody signed it")
	assert.NotEqual(t, dns.RcodeSuccess, update(t, s, fresh(), s.Key, "d3Jvbmcgd3Jvbmcgd3Jvbmcgd3Jvbmc="), "with another secret")
	assert.Empty(t, ask(t, s.Address, "map."+zone, dns.TypeA).Answer)
	assert.Equal(t, dns.RcodeSuccess, update(t, s, fresh(), s.Key, s.Secret))
}

// TestAResolverKeepsAnswersAsLongAsItMay asks the resolver before and after a change: it goes on with what it knows, also
// that a name is not there, until its time is over.
func TestAResolverKeepsAnswersAsLongAsItMay(t *testing.T) {
	s := started(t)
	put := func(address string) {
		m := new(dns.Msg).SetUpdate(zone)
		m.RemoveName([]dns.RR{rr(t, "map."+zone+" 1 IN A 127.0.0.1")})
		m.Insert([]dns.RR{rr(t, "map."+zone+" 1 IN A "+address)})
		require.Equal(t, dns.RcodeSuccess, update(t, s, m, s.Key, s.Secret))
	}
	address := func(server string) string {
		m := ask(t, server, "map."+zone, dns.TypeA)
		if len(m.Answer) == 0 {
			return ""
		}
		return m.Answer[0].(*dns.A).A.String()
	}
	put("127.0.0.2")
	assert.Equal(t, "127.0.0.2", address(s.Resolver))
	put("127.0.0.3")
	assert.Equal(t, "127.0.0.3", address(s.Address))
	assert.Equal(t, "127.0.0.2", address(s.Resolver), "it keeps what it was told")
	assert.Eventually(t, func() bool { return address(s.Resolver) == "127.0.0.3" }, 2*time.Minute, 50*time.Millisecond)

	gone := ask(t, s.Resolver, "nobody."+zone, dns.TypeA)
	assert.Equal(t, dns.RcodeNameError, gone.Rcode)
	soa := ask(t, s.Address, zone, dns.TypeSOA)
	require.NotEmpty(t, soa.Answer)
	assert.Equal(t, s.Serial(), soa.Answer[0].(*dns.SOA).Serial)
	assert.True(t, soa.Authoritative)
	assert.Equal(t, dns.RcodeRefused, ask(t, s.Address, "map.elsewhere.test", dns.TypeA).Rcode)
}

// TestWhatIsNoQuestionDoesNoHarm sends messages without a question, or with several, and bytes that are no message: what
// is asked properly afterwards is answered.
func TestWhatIsNoQuestionDoesNoHarm(t *testing.T) {
	s := started(t)
	for _, server := range []string{s.Address, s.Resolver} {
		for _, opcode := range []int{dns.OpcodeQuery, dns.OpcodeUpdate, dns.OpcodeNotify, 9} {
			for n := range 3 {
				m := &dns.Msg{MsgHdr: dns.MsgHdr{Id: dns.Id(), Opcode: opcode}}
				for range n {
					m.Question = append(m.Question, dns.Question{Name: "map." + zone, Qtype: dns.TypeA, Qclass: dns.ClassINET})
				}
				_, _, _ = (&dns.Client{Timeout: 100 * time.Millisecond}).Exchange(m, server)
			}
		}
		c, err := net.Dial("udp", server)
		require.NoError(t, err)
		_, err = c.Write([]byte("level 2.10 m"))
		require.NoError(t, err)
		c.Close()
		assert.Equal(t, dns.RcodeSuccess, ask(t, s.Address, zone, dns.TypeSOA).Rcode)
	}
	assert.NotNil(t, ask(t, s.Resolver, zone, dns.TypeSOA))
}

// TestAServerThatIsEndedLetsGoOfItsPort ends servers as soon as they are begun: their ports can be had at once.
func TestAServerThatIsEndedLetsGoOfItsPort(t *testing.T) {
	for range 50 {
		s, err := Start("ribera.test", "127.0.0.1", "", nil)
		require.NoError(t, err)
		s.Close()
		l, err := net.Listen("tcp", s.Address)
		require.NoError(t, err)
		require.NoError(t, l.Close())
		p, err := net.ListenPacket("udp", s.Address)
		require.NoError(t, err)
		require.NoError(t, p.Close())
	}
}
