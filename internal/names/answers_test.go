package names_test

import (
	"net"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/names"
)

// answering is a zone whose server answers as a function says, over UDP and TCP; it knows the key "k".
func answering(t *testing.T, answer func(w dns.ResponseWriter, r, m *dns.Msg)) names.Zone {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p, err := net.ListenPacket("udp", l.Addr().String())
	require.NoError(t, err)
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, r *dns.Msg) {
		m := new(dns.Msg)
		m.SetReply(r)
		answer(w, r, m)
		_ = w.WriteMsg(m)
	})
	accept := func(dns.Header) dns.MsgAcceptAction { return dns.MsgAccept }
	for _, s := range []*dns.Server{{Listener: l, Handler: handler, TsigSecret: map[string]string{"k.": secret, "other.": secret}, MsgAcceptFunc: accept}, {PacketConn: p, Handler: handler, MsgAcceptFunc: accept}} {
		up := make(chan struct{})
		s.NotifyStartedFunc = func() { close(up) }
		go func() { _ = s.ActivateAndServe() }()
		<-up
		t.Cleanup(func() { _ = s.Shutdown() })
	}
	return names.Zone{Name: "ribera.test", Server: l.Addr().String(), Key: "k", Secret: secret, Algorithm: "hmac-sha256", TTL: 30, Owner: "me"}
}

// signed signs the answer to what was signed.
func signed(r, m *dns.Msg) {
	if r.IsTsig() != nil {
		m.SetTsig("k.", dns.HmacSHA256, 300, time.Now().Unix())
	}
}

func record(t *testing.T, text string) dns.RR {
	t.Helper()
	rr, err := dns.NewRR(text)
	require.NoError(t, err)
	return rr
}

// TestWhatAnUpdateIsAnsweredWith has only what is signed and says that it was done count as done.
func TestWhatAnUpdateIsAnsweredWith(t *testing.T) {
	for name, c := range map[string]struct {
		answer func(w dns.ResponseWriter, r, m *dns.Msg)
		is     error
		says   string
	}{
		"done":                        {func(_ dns.ResponseWriter, r, m *dns.Msg) { signed(r, m) }, nil, ""},
		"refused":                     {func(_ dns.ResponseWriter, r, m *dns.Msg) { m.Rcode = dns.RcodeRefused; signed(r, m) }, names.ErrRefused, "REFUSED at 127.0.0.1:"},
		"refused without a signature": {func(_ dns.ResponseWriter, _, m *dns.Msg) { m.Rcode = dns.RcodeNotZone }, names.ErrRefused, "NOTZONE"},
		"it failed":                   {func(_ dns.ResponseWriter, r, m *dns.Msg) { m.Rcode = dns.RcodeServerFailure; signed(r, m) }, names.ErrRefused, "SERVFAIL"},
		"signed with another key":     {func(_ dns.ResponseWriter, _, m *dns.Msg) { m.SetTsig("other.", dns.HmacSHA256, 300, time.Now().Unix()) }, names.ErrRefused, "its answer is not signed with the key k"},
		"too long ago": {func(_ dns.ResponseWriter, _, m *dns.Msg) {
			m.SetTsig("k.", dns.HmacSHA256, 300, time.Now().Add(-time.Hour).Unix())
		}, nil, "127.0.0.1:"},
		"another's":    {func(_ dns.ResponseWriter, r, m *dns.Msg) { taken(t, r, m, "them"); signed(r, m) }, names.ErrTaken, "contacts.ribera.test belongs to the deployment with the mark them"},
		"made by hand": {func(_ dns.ResponseWriter, r, m *dns.Msg) { taken(t, r, m, ""); signed(r, m) }, names.ErrTaken, "contacts.ribera.test stands and was made by others"},
		"another's, it will not say whose": {func(_ dns.ResponseWriter, r, m *dns.Msg) {
			if m.Rcode = dns.RcodeServerFailure; r.Opcode == dns.OpcodeUpdate {
				m.Rcode = dns.RcodeYXRrset
			}
			signed(r, m)
		}, names.ErrTaken, "the name is another's: contacts.ribera.test"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			z := answering(t, c.answer)
			err := z.Publish(t.Context(), "contacts", names.Target{Address: "127.8.1.4", Ports: map[string]int{"http": 80}})
			gone := z.Withdraw(t.Context(), "contacts", []string{"http"})
			if c.is == nil && c.says == "" && name == "done" {
				require.NoError(t, err)
				require.NoError(t, gone)
				return
			}
			for _, err := range []error{err, gone} {
				require.Error(t, err)
				if c.is != nil && (err != gone || c.says != "the name is another's: contacts.ribera.test") {
					require.ErrorIs(t, err, c.is)
				}
			}
			assert.ErrorContains(t, err, c.says)
		})
	}
}

// taken answers updates that the name is there, and questions with whose it is.
func taken(t *testing.T, r, m *dns.Msg, owner string) {
	switch q := r.Question[0]; {
	case r.Opcode == dns.OpcodeUpdate:
		m.Rcode = dns.RcodeYXRrset
	case q.Qtype == dns.TypeTXT && owner != "":
		m.Answer = []dns.RR{record(t, q.Name+` 30 IN TXT "`+owner+`"`)}
	case q.Qtype == dns.TypeA:
		m.Answer = []dns.RR{record(t, q.Name+` 30 IN A 127.1.1.1`)}
	default:
		m.Rcode = dns.RcodeNameError
	}
}

// TestWhatAnUpdateAsksFor looks at what is sent: one update, with what must not be there, or must be ours, what goes and what comes.
func TestWhatAnUpdateAsksFor(t *testing.T) {
	var sent []*dns.Msg
	z := answering(t, func(_ dns.ResponseWriter, r, m *dns.Msg) {
		sent = append(sent, r)
		if len(sent) == 1 {
			m.Rcode = dns.RcodeYXRrset // somebody has it: if it is not ours, it is refused
		}
		signed(r, m)
	})
	require.NoError(t, z.Publish(t.Context(), "Contacts.", names.Target{Address: "127.8.1.4", Ports: map[string]int{"http": 80}}))
	require.NoError(t, z.Withdraw(t.Context(), "contacts", []string{"http", "ssh"}))
	require.Len(t, sent, 3)
	var got [][2][]string
	for _, m := range sent {
		var x [2][]string
		for i, list := range [2][]dns.RR{m.Answer, m.Ns} {
			for _, rr := range list {
				x[i] = append(x[i], rr.String())
			}
		}
		got = append(got, x)
	}
	puts := []string{
		"contacts.ribera.test.\t0\tCLASS255\tA\t", "contacts.ribera.test.\t0\tCLASS255\tAAAA\t", "_http._tcp.contacts.ribera.test.\t0\tCLASS255\tSRV\t", "contacts.ribera.test.\t30\tIN\tA\t127.8.1.4",
		"_http._tcp.contacts.ribera.test.\t30\tIN\tSRV\t0 0 80 contacts.ribera.test.", "_andamio-owner.contacts.ribera.test.\t30\tIN\tTXT\t\"me\"",
	}
	mine := []string{"_andamio-owner.contacts.ribera.test.\t0\tIN\tTXT\t\"me\""}
	trimmed := func(list []string) []string {
		for i := range list {
			list[i] = dns.Fqdn(list[i])[:len(list[i])]
		}
		return list
	}
	assert.Len(t, got[0][0], 3, "neither a mark nor an address of either sort is there")
	assert.Equal(t, mine, trimmed(got[1][0]), "the mark is ours")
	for i := range 2 {
		assert.Len(t, got[i][1], len(puts), "the one time as the other")
	}
	assert.Equal(t, mine, got[2][0])
	assert.Len(t, got[2][1], 5, "addresses of both sorts, both services and the mark")
}

// TestWhatAQuestionIsAnsweredWith has what is no answer to it be none.
func TestWhatAQuestionIsAnsweredWith(t *testing.T) {
	answer := func(all ...string) func(w dns.ResponseWriter, r, m *dns.Msg) {
		return func(_ dns.ResponseWriter, r, m *dns.Msg) {
			for _, text := range all {
				if rr := record(t, text); rr.Header().Rrtype == r.Question[0].Qtype || rr.Header().Rrtype == dns.TypeCNAME {
					m.Answer = append(m.Answer, rr)
				}
			}
		}
	}
	const (
		a   = "contacts.ribera.test. 20 IN A 127.8.1.4"
		srv = "_http._tcp.contacts.ribera.test. 40 IN SRV 0 0 8080 contacts.ribera.test."
	)
	for name, c := range map[string]struct {
		answer  func(w dns.ResponseWriter, r, m *dns.Msg)
		service string
		port    int
		left    time.Duration
		is      error
		says    string
	}{
		"an address":                      {answer(a, srv), "", 0, 20 * time.Second, nil, ""},
		"an address and a port":           {answer(a, srv), "http", 8080, 40 * time.Second, nil, ""},
		"no port":                         {answer(a), "http", 0, 0, names.ErrUnanswered, "no port of http"},
		"nothing":                         {answer(), "", 0, 0, names.ErrUnanswered, ""},
		"another name for it and no more": {answer("contacts.ribera.test. 20 IN CNAME other.test."), "", 0, 0, names.ErrUnanswered, ""},
		"no such name":                    {func(_ dns.ResponseWriter, _, m *dns.Msg) { m.Rcode = dns.RcodeNameError }, "", 0, 0, names.ErrUnanswered, ""},
		"it failed":                       {func(_ dns.ResponseWriter, _, m *dns.Msg) { m.Rcode = dns.RcodeServerFailure }, "", 0, 0, nil, "answers SERVFAIL"},
		"it failed at the port": {func(w dns.ResponseWriter, r, m *dns.Msg) {
			if answer(a)(w, r, m); r.Question[0].Qtype == dns.TypeSRV {
				m.Rcode = dns.RcodeRefused
			}
		}, "http", 0, 0, nil, "answers REFUSED"},
		"too long for a packet": {func(w dns.ResponseWriter, r, m *dns.Msg) {
			if _, packet := w.RemoteAddr().(*net.UDPAddr); packet {
				m.Truncated = true
				return
			}
			answer(a)(w, r, m)
		}, "", 0, 20 * time.Second, nil, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			z := answering(t, c.answer)
			address, port, left, err := z.Ask(t.Context(), z.Server, "contacts", c.service)
			if c.is == nil && c.says == "" {
				require.NoError(t, err)
				assert.Equal(t, []any{"127.8.1.4", c.port, c.left}, []any{address, port, left})
				return
			}
			assert.ErrorContains(t, err, c.says)
			if c.is != nil {
				require.ErrorIs(t, err, c.is)
			}
			assert.Equal(t, []any{"", 0, time.Duration(0)}, []any{address, port, left})
		})
	}
}

// TestWhoseANameIs is said by its mark, else it is nobody's that is known; where it cannot be asked that is an error.
func TestWhoseANameIs(t *testing.T) {
	for name, c := range map[string]struct {
		txt, a int
		owner  string
		taken  bool
		fails  bool
	}{"ours": {dns.RcodeSuccess, dns.RcodeSuccess, "them", true, false}, "by hand": {dns.RcodeNameError, dns.RcodeSuccess, "", true, false}, "free": {dns.RcodeNameError, dns.RcodeNameError, "", false, false},
		"the mark is not told": {dns.RcodeServerFailure, dns.RcodeSuccess, "", false, true}, "the address is not told": {dns.RcodeNameError, dns.RcodeServerFailure, "", false, true}} {
		z := answering(t, func(_ dns.ResponseWriter, r, m *dns.Msg) {
			q := r.Question[0]
			if m.Rcode = c.a; q.Qtype == dns.TypeTXT {
				m.Rcode = c.txt
			}
			if m.Rcode == dns.RcodeSuccess {
				taken(t, r, m, "them")
			}
		})
		owner, is, err := z.Taken(t.Context(), "contacts")
		assert.Equal(t, c.fails, err != nil, "%s: %v", name, err)
		assert.Equal(t, []any{c.owner, c.taken}, []any{owner, is}, name)
	}
}

// TestWhoDisagrees lists who answers otherwise, and for how long that may be kept.
func TestWhoDisagrees(t *testing.T) {
	says := func(a string, port string) names.Zone {
		return answering(t, func(_ dns.ResponseWriter, r, m *dns.Msg) {
			q := r.Question[0]
			switch {
			case q.Qtype == dns.TypeA:
				m.Answer = []dns.RR{record(t, q.Name+" 20 IN A "+a)}
			case port != "":
				m.Answer = []dns.RR{record(t, q.Name+" 20 IN SRV 0 0 "+port+" x.")}
			}
		})
	}
	z := says("127.8.1.4", "80")
	z.Resolvers = []string{says("127.8.1.4", "81").Server, says("127.9.9.9", "80").Server, says("127.8.1.4", "").Server, says("127.8.1.4", "80").Server}
	got := z.Disagree(t.Context(), "contacts", names.Target{Address: "127.8.1.4", Ports: map[string]int{"http": 80}})
	require.Len(t, got, 3)
	assert.Equal(t, []string{z.Resolvers[0] + " says 127.8.1.4:81, for 20s yet", z.Resolvers[1] + " says 127.9.9.9, for 20s yet", z.Resolvers[2] + " says the name is not known: no port of http"},
		[]string{got[0].String(), got[1].String(), got[2].String()})
	assert.Empty(t, z.Disagree(t.Context(), "contacts", names.Target{Address: "127.8.1.4"})[1:], "whose ports nobody asks for")
	assert.Equal(t, append([]string{z.Server}, z.Resolvers...), z.Servers())
}

// TestWhatANameCannotStandFor sends nothing for it.
func TestWhatANameCannotStandFor(t *testing.T) {
	asked := 0
	z := answering(t, func(_ dns.ResponseWriter, r, m *dns.Msg) { asked++; signed(r, m) })
	for _, address := range []string{"", "nowhere", ":::1", "2001:db8::1::", "127.8.1"} {
		require.ErrorContains(t, z.Publish(t.Context(), "contacts", names.Target{Address: address}), "is no address that a name can stand for", address)
	}
	assert.Zero(t, asked)
	for want, change := range map[string]func(*names.Zone){"no name of a zone": func(z *names.Zone) { z.Name = "a..b" }, "no address": func(z *names.Zone) { z.Server = "127.0.0.1:" }, "a key and its": func(z *names.Zone) { z.Key = "" }} {
		bad := z
		change(&bad)
		assert.ErrorContains(t, bad.Check(), want)
	}
	require.NoError(t, z.Check())
	assert.Equal(t, "contacts.ribera.test", z.Full("Contacts"))
}
