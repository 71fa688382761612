// Package responder answers for the zone of fronts: an authoritative name server (RFC 1035) that tells each client of the places that are healthy, near, and not full, by the network that its resolver says
// it asks from (EDNS client subnet, RFC 7871), else by that of the resolver.
//
// It answers from a table that others set ([Responder.Set]), and goes on with the last one whatever becomes of them.
package responder

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"

	"andamio/internal/core/fault"
	"andamio/internal/core/front"
)

// Responder answers for one zone. The zero Responder knows nothing yet, and says so (SERVFAIL).
type Responder struct {
	table atomic.Pointer[prepared]
	// serial counts the tables: it is that of the zone (RFC 1035, section 3.3.13).
	serial atomic.Uint32
	// Answered counts what was answered.
	Answered atomic.Int64
}

// prepared is a table with what is the same for all who ask until another one is set.
type prepared struct {
	*front.Table
	expected map[string][]front.Member
	// away is how far sites are from a region, by region and front.
	away map[*front.Region]map[string]map[string]float64
}

// Set has it answer from a table from now on.
func (r *Responder) Set(t *front.Table) {
	p := &prepared{t, map[string][]front.Member{}, map[*front.Region]map[string]map[string]float64{}}
	for i := range t.File.Regions {
		p.away[&t.File.Regions[i]] = map[string]map[string]float64{}
	}
	for i := range t.File.Fronts {
		f := &t.File.Fronts[i]
		p.expected[f.Name] = f.Expected(t.Members[f.Name])
		for region, away := range p.away {
			away[f.Name] = t.Away(region, t.Members[f.Name])
		}
	}
	r.table.Store(p)
	r.serial.Add(1)
}

// Table is what it answers from; nil if nothing is known yet.
func (r *Responder) Table() *front.Table {
	if p := r.table.Load(); p != nil {
		return p.Table
	}
	return nil
}

// How long one who has connected may be silent, and how long ending takes at most.
const (
	idle   = 5 * time.Second
	ending = 3 * time.Second
)

// Listen answers at addresses, by UDP and TCP, until the context ends. What cannot be listened at is an error at once; at returns where it listens then.
func (r *Responder) Listen(ctx context.Context, addresses []string) (at []string, done func() error, err error) {
	var all []*dns.Server
	stop := func() error {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), ending)
		defer cancel()
		var errs []error
		for _, s := range all {
			errs = append(errs, s.ShutdownContext(ctx))
		}
		return errors.Join(errs...)
	}
	var serving sync.WaitGroup
	for _, address := range addresses {
		packets, listener, err := open(address)
		if err != nil {
			return nil, nil, errors.Join(fault.Unavailablef("nothing can be answered at %s: %w", address, err), stop())
		}
		at = append(at, packets.LocalAddr().String())
		for _, s := range []*dns.Server{{PacketConn: packets}, {Listener: listener}} {
			s.Handler, s.ReadTimeout, s.WriteTimeout, s.IdleTimeout = r, idle, idle, func() time.Duration { return idle }
			came := make(chan error, 2)
			s.NotifyStartedFunc = func() { came <- nil }
			all = append(all, s)
			serving.Go(func() { came <- s.ActivateAndServe() })
			if err := <-came; err != nil { // it says one or the other
				return nil, nil, errors.Join(fault.Unavailablef("nothing can be answered at %s: %w", address, err), stop())
			}
		}
	}
	return at, func() error { defer serving.Wait(); return stop() }, nil
}

// open listens at an address by both protocols; with port 0 at the same free one.
func open(address string) (net.PacketConn, net.Listener, error) {
	var last error
	for range 10 { // the port that is free for one may be taken for the other
		packets, err := net.ListenPacket("udp", address)
		if err != nil {
			return nil, nil, err
		}
		listener, err := net.Listen("tcp", packets.LocalAddr().String())
		if err == nil {
			return packets, listener, nil
		}
		last = errors.Join(err, packets.Close())
		if _, port, _ := net.SplitHostPort(address); port != "0" {
			break
		}
	}
	return nil, nil, last
}

// ServeDNS answers one question.
func (r *Responder) ServeDNS(w dns.ResponseWriter, q *dns.Msg) {
	m := r.Answer(q, addressOf(w.RemoteAddr()), time.Now(), rand.Float64)
	if _, by := w.RemoteAddr().(*net.UDPAddr); by {
		m.Truncate(sizeOf(q))
	}
	r.Answered.Add(1)
	_ = w.WriteMsg(m)
}

// mostUDP is how long an answer may be: what is longer is broken up on its way (DNS flag day 2020).
const mostUDP = 1232

func sizeOf(q *dns.Msg) int {
	if o := q.IsEdns0(); o != nil {
		return min(max(int(o.UDPSize()), dns.MinMsgSize), mostUDP)
	}
	return dns.MinMsgSize
}

func addressOf(a net.Addr) netip.Addr {
	at, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr().Unmap()
}

// Answer is what is answered to a question that was asked from an address.
func (r *Responder) Answer(q *dns.Msg, from netip.Addr, now time.Time, draw func() float64) *dns.Msg {
	m := new(dns.Msg)
	m.SetReply(q)
	subnet := echoed(q, m)
	t := r.table.Load()
	switch {
	case q.Opcode != dns.OpcodeQuery:
		m.Rcode = dns.RcodeNotImplemented
		return m
	case len(q.Question) != 1:
		m.Rcode = dns.RcodeFormatError
		return m
	case t == nil:
		m.Rcode = dns.RcodeServerFailure
		return m
	}
	question := q.Question[0]
	rest, within := cut(question.Name, t.File.Zone)
	if !within || question.Qclass != dns.ClassINET || question.Qtype == dns.TypeAXFR || question.Qtype == dns.TypeIXFR {
		m.Rcode = dns.RcodeRefused
		return m
	}
	m.Authoritative = true
	a := &answer{m, t, r.serial.Load(), question, uint32(t.File.Keeps().Seconds())}
	a.of(rest, from, subnet, now, draw)
	if len(m.Answer) == 0 {
		m.Ns = append(m.Ns, a.soa())
	}
	return m
}

// echoed has an answer be of the same version of EDNS as its question, and returns the network of the client that it tells, if it does.
func echoed(q, m *dns.Msg) *dns.EDNS0_SUBNET {
	o := q.IsEdns0()
	if o == nil {
		return nil
	}
	m.SetEdns0(mostUDP, false)
	if o.Version() != 0 {
		m.Rcode = dns.RcodeBadVers
		return nil
	}
	for _, x := range o.Option {
		if s, is := x.(*dns.EDNS0_SUBNET); is {
			back := *s
			back.SourceScope = 0
			m.IsEdns0().Option = append(m.IsEdns0().Option, &back)
			return &back
		}
	}
	return nil
}

// cut is what stands before the zone in a name, in small letters; false if it is not within it.
func cut(name, zone string) (rest string, within bool) {
	name = strings.TrimSuffix(strings.ToLower(name), ".")
	if name == zone {
		return "", true
	}
	rest, within = strings.CutSuffix(name, "."+zone)
	return rest, within
}

// answer is one that is made.
type answer struct {
	*dns.Msg
	t      *prepared
	serial uint32
	q      dns.Question
	ttl    uint32
}

func (a *answer) header(name string, kind uint16) dns.RR_Header {
	return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET, Ttl: a.ttl}
}

// soa is the record of the zone (RFC 1035, section 3.3.13): what there is not may be kept for as long as what there is (RFC 2308, section 5).
func (a *answer) soa() dns.RR {
	zone := dns.Fqdn(a.t.File.Zone)
	return &dns.SOA{Hdr: a.header(zone, dns.TypeSOA), Ns: dns.Fqdn(a.t.File.Servers[0]), Mbox: "hostmaster." + zone, Serial: a.serial, Refresh: 60, Retry: 10, Expire: 86400, Minttl: a.ttl}
}

// of answers of a name within the zone: the zone itself, a front, a member of one by its own name, or the ports of a front (RFC 2782).
func (a *answer) of(rest string, from netip.Addr, subnet *dns.EDNS0_SUBNET, now time.Time, draw func() float64) {
	if rest == "" {
		a.apex()
		return
	}
	if a.q.Qtype == dns.TypeANY { // one record is enough (RFC 8482, section 4.2)
		a.Answer = append(a.Answer, &dns.HINFO{Hdr: a.header(a.q.Name, dns.TypeHINFO), Cpu: "RFC8482"})
		return
	}
	labels := strings.Split(rest, ".")
	f := a.t.Front(labels[len(labels)-1])
	if f == nil {
		a.Rcode = dns.RcodeNameError
		return
	}
	members := a.t.Members[f.Name]
	switch before := labels[:len(labels)-1]; {
	case len(before) == 0:
		for _, m := range a.choose(f, a.t.expected[f.Name], from, subnet, now, draw) {
			a.address(a.q.Name, m)
		}
	case len(before) == 2 && before[1] == "_tcp" && strings.HasPrefix(before[0], "_"):
		a.ports(f, a.choose(f, members, from, subnet, now, draw))
	case len(before) == 1:
		a.member(before[0], f, members)
	case len(before) > 0 && before[len(before)-1] == "_tcp": // there is something below it
	default:
		a.Rcode = dns.RcodeNameError
	}
}

// apex answers of the zone itself.
func (a *answer) apex() {
	zone := dns.Fqdn(a.t.File.Zone)
	switch a.q.Qtype {
	case dns.TypeSOA, dns.TypeANY:
		a.Answer = append(a.Answer, a.soa())
	case dns.TypeNS:
		for _, s := range a.t.File.Servers {
			a.Answer = append(a.Answer, &dns.NS{Hdr: a.header(zone, dns.TypeNS), Ns: dns.Fqdn(s)})
		}
	}
}

// choose says who is answered with, and for which network of clients that is so.
func (a *answer) choose(f *front.Front, members []front.Member, from netip.Addr, subnet *dns.EDNS0_SUBNET, now time.Time, draw func() float64) []*front.Member {
	client := from
	if subnet != nil {
		if at, ok := netip.AddrFromSlice(subnet.Address); ok && subnet.SourceNetmask > 0 { // with 0 the client wants not to be known (RFC 7871, section 7.1.2)
			client = at.Unmap()
		}
	}
	region, scope := a.t.File.Region(client)
	if subnet != nil && subnet.SourceNetmask > 0 {
		subnet.SourceScope = uint8(scope)
	}
	return f.Choose(members, a.t.away[region][f.Name], now, draw)
}

// address adds the address of a member, if it is of the sort that is asked for.
func (a *answer) address(name string, m *front.Member) {
	switch {
	case a.q.Qtype == dns.TypeA && m.Address.Is4():
		a.Answer = append(a.Answer, &dns.A{Hdr: a.header(name, dns.TypeA), A: m.Address.AsSlice()})
	case a.q.Qtype == dns.TypeAAAA && m.Address.Is6():
		a.Answer = append(a.Answer, &dns.AAAA{Hdr: a.header(name, dns.TypeAAAA), AAAA: m.Address.AsSlice()})
	}
}

// ports adds where the chosen members serve, the first before all others, with their addresses beside.
func (a *answer) ports(f *front.Front, chosen []*front.Member) {
	if a.q.Qtype != dns.TypeSRV {
		return
	}
	for i, m := range chosen {
		name := dns.Fqdn(fmt.Sprintf("%s.%s.%s", Label(m), f.Name, a.t.File.Zone))
		a.Answer = append(a.Answer, &dns.SRV{Hdr: a.header(a.q.Name, dns.TypeSRV), Priority: uint16(i), Weight: 1, Port: m.Port, Target: name})
		if m.Address.Is4() {
			a.Extra = append(a.Extra, &dns.A{Hdr: a.header(name, dns.TypeA), A: m.Address.AsSlice()})
		} else {
			a.Extra = append(a.Extra, &dns.AAAA{Hdr: a.header(name, dns.TypeAAAA), AAAA: m.Address.AsSlice()})
		}
	}
}

// member answers of one member by its own name, whether it is up or not.
func (a *answer) member(label string, f *front.Front, members []front.Member) {
	for i := range members {
		if Label(&members[i]) == label {
			a.address(a.q.Name, &members[i])
			return
		}
	}
	if label != "_tcp" {
		a.Rcode = dns.RcodeNameError
	}
}

// Label is the label of a member's own name: what letters it may not have (RFC 1123, section 2.1) are strokes.
func Label(m *front.Member) string {
	clean := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, strings.ToLower(m.Name)), "-")
	return fmt.Sprintf("%s-d%d", clean[:min(len(clean), 50)], m.Deployment)
}
