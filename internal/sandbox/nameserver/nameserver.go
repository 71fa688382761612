// Package nameserver is a stand-in name server: authoritative for one zone, which it changes by dynamic updates
// (RFC 2136) signed with a shared key (RFC 8945), and beside it a resolver that keeps answers for as long as it may.
package nameserver

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// Server is a running name server and its resolver.
type Server struct {
	// Zone is the zone, Address where it is served, Resolver where the resolver is asked.
	Zone, Address, Resolver string
	// Key and Secret change the zone.
	Key, Secret string

	// file is where the zone is kept, "" for nowhere.
	file    string
	mu      sync.Mutex
	rrs     map[string][]dns.RR // by name and type
	serial  uint32
	kept    map[string]keptAnswer
	servers []*dns.Server
}

type keptAnswer struct {
	m     *dns.Msg
	until time.Time
}

// Start serves a zone on a free port of an address, and keeps it in a file if one is named; a server that was kept is where
// it was, with the zone that it had.
func Start(zone, address, file string, was *Kept) (*Server, error) {
	secret := make([]byte, 32)
	if _, err := rand.Read(secret); err != nil {
		return nil, err
	}
	s := &Server{file: file, Zone: dns.Fqdn(zone), Key: "andamio-update.", Secret: base64.StdEncoding.EncodeToString(secret), rrs: map[string][]dns.RR{},
		serial: 1, kept: map[string]keptAnswer{}}
	at := []string{net.JoinHostPort(address, "0"), net.JoinHostPort(address, "0")}
	if was != nil {
		s.Key, s.Secret = was.Key, was.Secret
		at = []string{was.Address, was.Resolver}
	}
	if err := s.recall(); err != nil {
		return nil, err
	}
	for i, handle := range []dns.HandlerFunc{s.serve, s.resolve} {
		where, err := s.listen(at[i], handle)
		if err != nil {
			s.Close()
			return nil, err
		}
		*[]*string{&s.Address, &s.Resolver}[i] = where
	}
	return s, nil
}

// listen serves UDP and TCP on the same port.
func (s *Server) listen(address string, handle dns.HandlerFunc) (string, error) {
	for range 20 {
		l, err := net.Listen("tcp", address)
		if err != nil {
			return "", fmt.Errorf("the stand-in name server cannot listen: %w", err)
		}
		p, err := net.ListenPacket("udp", l.Addr().String())
		if err != nil {
			l.Close()
			continue
		}
		for _, server := range []*dns.Server{{Listener: l}, {PacketConn: p}} {
			server.Handler, server.TsigSecret = handle, map[string]string{s.Key: s.Secret}
			server.MsgAcceptFunc = accept
			s.servers = append(s.servers, server)
			go func() { _ = server.ActivateAndServe() }()
		}
		return l.Addr().String(), nil
	}
	return "", errors.New("the stand-in name server finds no port that is free for both UDP and TCP")
}

// accept lets updates in beside questions.
func accept(h dns.Header) dns.MsgAcceptAction {
	if op := int(h.Bits>>11) & 0xF; op == dns.OpcodeUpdate && h.Bits&(1<<15) == 0 {
		return dns.MsgAccept
	}
	return dns.DefaultMsgAcceptFunc(h)
}

// Close ends it.
func (s *Server) Close() {
	for _, x := range s.servers {
		_ = x.Shutdown()
		// A server that has not come to serving yet does not know of these.
		if x.Listener != nil {
			_ = x.Listener.Close()
		}
		if x.PacketConn != nil {
			_ = x.PacketConn.Close()
		}
	}
}

// Serial is the zone's serial number, which each update that changes something raises.
func (s *Server) Serial() uint32 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.serial
}

// serve answers questions about the zone, and carries out updates.
func (s *Server) serve(w dns.ResponseWriter, r *dns.Msg) {
	m := new(dns.Msg)
	m.SetReply(r)
	if len(r.Question) != 1 {
		m.Rcode = dns.RcodeFormatError
		_ = w.WriteMsg(m)
		return
	}
	if r.Opcode == dns.OpcodeUpdate {
		m.Rcode = s.change(w, r)
		if t := r.IsTsig(); t != nil && w.TsigStatus() == nil {
			m.SetTsig(t.Hdr.Name, t.Algorithm, 300, time.Now().Unix())
		}
		_ = w.WriteMsg(m)
		return
	}
	signed := r.IsTsig()
	if signed != nil && w.TsigStatus() != nil {
		m.Rcode = dns.RcodeNotAuth
		_ = w.WriteMsg(m)
		return
	}
	switch {
	case r.Opcode == dns.OpcodeNotify: // which a primary only acknowledges (RFC 1996, section 3.7)
		m.Authoritative = true
		if !strings.EqualFold(r.Question[0].Name, s.Zone) {
			m.Rcode = dns.RcodeNotAuth
		}
	case r.Opcode != dns.OpcodeQuery:
		m.Rcode = dns.RcodeNotImplemented
	case r.Question[0].Qtype == dns.TypeAXFR || r.Question[0].Qtype == dns.TypeIXFR:
		if s.transfer(w, m, r) {
			return
		}
	default:
		s.answer(m, r)
	}
	if signed != nil { // whoever signs a question is answered signed (RFC 8945, section 5.3)
		m.SetTsig(signed.Hdr.Name, signed.Algorithm, 300, time.Now().Unix())
	}
	_ = w.WriteMsg(m)
}

// transfer sends the whole zone (RFC 5936) over TCP to who has the key, and reports that it did: others are refused.
func (s *Server) transfer(w dns.ResponseWriter, m, r *dns.Msg) bool {
	if _, udp := w.RemoteAddr().(*net.UDPAddr); udp || r.IsTsig() == nil || !strings.EqualFold(r.Question[0].Name, s.Zone) {
		m.Rcode = dns.RcodeRefused
		return false
	}
	s.mu.Lock()
	all := append([]dns.RR{s.soa(), s.ns()}, s.nsAddress()...)
	for _, k := range slices.Sorted(maps.Keys(s.rrs)) {
		all = append(all, s.rrs[k]...)
	}
	all = append(all, s.soa())
	s.mu.Unlock()
	parts := make(chan *dns.Envelope, len(all)/transferPart+1)
	for part := range slices.Chunk(all, transferPart) {
		parts <- &dns.Envelope{RR: part}
	}
	close(parts)
	_ = (&dns.Transfer{TsigSecret: map[string]string{s.Key: s.Secret}}).Out(w, r, parts)
	return true
}

// transferPart is how many records go into one message of a transfer.
const transferPart = 100

// ns is the record of the zone's name server, nsAddress those of its address.
func (s *Server) ns() dns.RR {
	return &dns.NS{Hdr: dns.RR_Header{Name: s.Zone, Rrtype: dns.TypeNS, Class: dns.ClassINET, Ttl: 5}, Ns: s.nsName()}
}

func (s *Server) nsName() string { return "ns." + s.Zone }

func (s *Server) nsAddress() []dns.RR {
	host, _, err := net.SplitHostPort(s.Address)
	ip := net.ParseIP(host)
	switch {
	case err != nil || ip == nil:
		return nil
	case ip.To4() != nil:
		return []dns.RR{&dns.A{Hdr: dns.RR_Header{Name: s.nsName(), Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 5}, A: ip.To4()}}
	}
	return []dns.RR{&dns.AAAA{Hdr: dns.RR_Header{Name: s.nsName(), Rrtype: dns.TypeAAAA, Class: dns.ClassINET, Ttl: 5}, AAAA: ip}}
}

func (s *Server) soa() dns.RR {
	return &dns.SOA{Hdr: dns.RR_Header{Name: s.Zone, Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: 5}, Ns: s.nsName(),
		Mbox: "names." + s.Zone, Serial: s.serial, Refresh: 60, Retry: 10, Expire: 3600, Minttl: 1}
}

func (s *Server) answer(m, r *dns.Msg) {
	s.mu.Lock()
	defer s.mu.Unlock()
	q := r.Question[0]
	name := strings.ToLower(q.Name)
	m.Authoritative = true
	switch {
	case !dns.IsSubDomain(s.Zone, name):
		m.Rcode, m.Authoritative = dns.RcodeRefused, false
		return
	case q.Qtype == dns.TypeSOA && name == s.Zone:
		m.Answer = []dns.RR{s.soa()}
		return
	case q.Qtype == dns.TypeNS && name == s.Zone:
		m.Answer, m.Extra = []dns.RR{s.ns()}, s.nsAddress()
		return
	}
	m.Answer = s.rrs[key(name, q.Qtype)]
	if name == s.nsName() {
		for _, rr := range s.nsAddress() {
			if rr.Header().Rrtype == q.Qtype {
				m.Answer = append(slices.Clone(m.Answer), rr)
			}
		}
	}
	if len(m.Answer) == 0 {
		m.Ns = []dns.RR{s.soa()}
		if !s.exists(name) && name != s.nsName() {
			m.Rcode = dns.RcodeNameError
		}
	}
}

func key(name string, kind uint16) string {
	return strings.ToLower(name) + " " + dns.TypeToString[kind]
}

// exists reports that anything stands under a name, or below it.
func (s *Server) exists(name string) bool {
	for k, list := range s.rrs {
		at, _, _ := strings.Cut(k, " ")
		if len(list) > 0 && dns.IsSubDomain(name, at) {
			return true
		}
	}
	return name == s.Zone
}

// change carries out an update and returns its code: prerequisites first, then all of it or nothing (RFC 2136, section 3).
func (s *Server) change(w dns.ResponseWriter, r *dns.Msg) int {
	if r.IsTsig() == nil {
		return dns.RcodeRefused
	}
	if w.TsigStatus() != nil {
		return dns.RcodeNotAuth
	}
	switch {
	case r.Question[0].Qtype != dns.TypeSOA:
		return dns.RcodeFormatError
	case !strings.EqualFold(r.Question[0].Name, s.Zone):
		return dns.RcodeNotAuth
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, rr := range r.Answer {
		if !dns.IsSubDomain(s.Zone, strings.ToLower(rr.Header().Name)) {
			return dns.RcodeNotZone
		}
		if code := s.requires(rr); code != dns.RcodeSuccess {
			return code
		}
	}
	next, changes := map[string][]dns.RR{}, false
	for k, v := range s.rrs {
		next[k] = append([]dns.RR(nil), v...)
	}
	for _, rr := range r.Ns {
		if !dns.IsSubDomain(s.Zone, strings.ToLower(rr.Header().Name)) {
			return dns.RcodeNotZone
		}
		changed, code := apply(next, rr)
		if code != dns.RcodeSuccess {
			return code
		}
		changes = changes || changed
	}
	if changes {
		before := s.rrs
		s.rrs = next
		s.serial++
		if err := s.keep(); err != nil {
			s.rrs = before
			return dns.RcodeServerFailure
		}
	}
	return dns.RcodeSuccess
}

// requires checks a prerequisite (RFC 2136, section 2.4).
func (s *Server) requires(rr dns.RR) int {
	h := rr.Header()
	name := strings.ToLower(h.Name)
	has := len(s.rrs[key(name, h.Rrtype)]) > 0
	if h.Rrtype == dns.TypeANY {
		has = s.exists(name)
	}
	switch h.Class {
	case dns.ClassANY:
		if !has && h.Rrtype == dns.TypeANY {
			return dns.RcodeNameError
		}
		if !has {
			return dns.RcodeNXRrset
		}
	case dns.ClassNONE:
		if has && h.Rrtype == dns.TypeANY {
			return dns.RcodeYXDomain
		}
		if has {
			return dns.RcodeYXRrset
		}
	case dns.ClassINET:
		for _, x := range s.rrs[key(name, h.Rrtype)] {
			if dns.IsDuplicate(x, rr) {
				return dns.RcodeSuccess
			}
		}
		return dns.RcodeNXRrset
	}
	return dns.RcodeSuccess
}

// apply carries out one part of an update (RFC 2136, section 2.5), and says whether that changed anything. Records are
// replaced, never written to: if a later part fails, the zone is as it was.
func apply(zone map[string][]dns.RR, rr dns.RR) (changed bool, code int) {
	h := rr.Header()
	k := key(h.Name, h.Rrtype)
	switch h.Class {
	case dns.ClassINET:
		for i, x := range zone[k] {
			if dns.IsDuplicate(x, rr) {
				zone[k][i] = rr
				return x.Header().Ttl != h.Ttl, dns.RcodeSuccess
			}
		}
		zone[k] = append(zone[k], rr)
		return true, dns.RcodeSuccess
	case dns.ClassANY:
		for other, had := range zone {
			at, _, _ := strings.Cut(other, " ")
			if other == k || h.Rrtype == dns.TypeANY && at == strings.ToLower(h.Name) {
				changed = changed || len(had) > 0
				delete(zone, other)
			}
		}
	case dns.ClassNONE:
		var rest []dns.RR
		for _, x := range zone[k] {
			same := dns.Copy(rr)
			same.Header().Class = dns.ClassINET
			if !dns.IsDuplicate(x, same) {
				rest = append(rest, x)
			}
		}
		changed = len(rest) < len(zone[k])
		zone[k] = rest
	default:
		return false, dns.RcodeFormatError
	}
	return changed, dns.RcodeSuccess
}

// resolve answers from what it keeps, or asks the server and keeps its answer for as long as that may be (RFC 1035,
// section 7.4; RFC 2308 for names that are not there).
func (s *Server) resolve(w dns.ResponseWriter, r *dns.Msg) {
	m := new(dns.Msg)
	m.SetReply(r)
	m.RecursionAvailable = true
	if len(r.Question) != 1 || r.Opcode != dns.OpcodeQuery {
		m.Rcode = dns.RcodeNotImplemented
		_ = w.WriteMsg(m)
		return
	}
	k := key(r.Question[0].Name, r.Question[0].Qtype)
	s.mu.Lock()
	kept, ok := s.kept[k]
	s.mu.Unlock()
	now := time.Now()
	if !ok || now.After(kept.until) {
		fresh := new(dns.Msg)
		fresh.SetReply(r)
		s.answer(fresh, r)
		kept = keptAnswer{fresh, now.Add(time.Duration(lifeOf(fresh)) * time.Second)}
		s.mu.Lock()
		s.kept[k] = kept
		s.mu.Unlock()
	}
	m.Rcode = kept.m.Rcode
	left := uint32(max(kept.until.Sub(now), 0) / time.Second)
	for _, rr := range kept.m.Answer {
		x := dns.Copy(rr)
		x.Header().Ttl = left
		m.Answer = append(m.Answer, x)
	}
	_ = w.WriteMsg(m)
}

// lifeOf is for how many seconds an answer may be kept.
func lifeOf(m *dns.Msg) uint32 {
	if len(m.Answer) == 0 {
		return 1
	}
	life := m.Answer[0].Header().Ttl
	for _, rr := range m.Answer {
		life = min(life, rr.Header().Ttl)
	}
	return life
}
