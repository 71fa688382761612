// Package names keeps the names of services: it changes a zone by dynamic update (RFC 2136) signed with a shared key
// (TSIG, RFC 8945), and asks servers and resolvers what a name stands for.
//
// A service is known by an address (A) and, since networks may map its port, by where its port is (SRV, RFC 2782).
package names

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"

	"andamio/internal/core/fault"
)

// Zone is a zone that may be changed, and who is asked about it.
type Zone struct {
	// Name is the zone, such as "ribera.test".
	Name string `json:"zone"`
	// Server is the primary's address and port; Resolvers are those through which users ask.
	Server    string   `json:"server"`
	Resolvers []string `json:"resolvers,omitempty"`
	// Key names the TSIG key, Algorithm its algorithm; the secret is base64 and is kept elsewhere.
	Key       string `json:"key"`
	Algorithm string `json:"algorithm"`
	Secret    string `json:"-"`
	// TTL is for how many seconds resolvers may keep an answer.
	TTL uint32 `json:"ttl"`
	// Owner is for whom names are kept: a deployment's mark. A name of another owner is never changed.
	Owner string `json:"-"`
}

// Target is what a name stands for: an address, and for each service of it the port there.
type Target struct {
	Address string
	// Ports are the ports by service label, such as "http" or "p5432".
	Ports map[string]int
}

// Errors of updates.
var (
	// ErrRefused says that the server does not let this key change the zone.
	ErrRefused = fault.Refusedf("the name server refuses the update")
	// ErrUnanswered says that a name stands for nothing.
	ErrUnanswered = errors.New("the name is not known")
)

const timeout = 3 * time.Second

// FQDN is a name within the zone, ended with a dot.
func (z Zone) FQDN(name string) string {
	return dns.Fqdn(strings.TrimSuffix(strings.ToLower(name), ".") + "." + strings.TrimSuffix(z.Name, "."))
}

// Full is a name within the zone as people write it.
func (z Zone) Full(name string) string { return strings.TrimSuffix(z.FQDN(name), ".") }

// Algorithms are the TSIG algorithms that are spoken.
var Algorithms = []string{"hmac-sha256", "hmac-sha384", "hmac-sha512"}

// Check says what of a zone cannot be.
func (z Zone) Check() error {
	if _, ok := dns.IsDomainName(z.Name); !ok || z.Name == "" {
		return fault.Invalidf("%q is no name of a zone", z.Name)
	}
	for _, s := range append([]string{z.Server}, z.Resolvers...) {
		if _, port, err := net.SplitHostPort(s); err != nil || port == "" {
			return fault.Invalidf("%q is no address and port of a name server, such as 192.0.2.53:53", s)
		}
	}
	if !slices.Contains(Algorithms, z.Algorithm) {
		return fault.Invalidf("the algorithm %q is none of %s", z.Algorithm, strings.Join(Algorithms, ", "))
	}
	if z.Key == "" || z.Secret == "" {
		return fault.Invalidf("a zone is changed with a key and its secret")
	}
	return nil
}

// records are those of a name.
func (z Zone) records(name string, t Target) ([]dns.RR, error) {
	ip := net.ParseIP(t.Address)
	full := z.FQDN(name)
	var out []dns.RR
	switch {
	case ip == nil:
		return nil, fmt.Errorf("%q is no address that a name can stand for", t.Address)
	case ip.To4() != nil:
		out = append(out, &dns.A{Hdr: dns.RR_Header{Name: full, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: z.TTL}, A: ip.To4()})
	default:
		out = append(out, &dns.AAAA{Hdr: dns.RR_Header{Name: full, Rrtype: dns.TypeAAAA, Class: dns.ClassINET, Ttl: z.TTL}, AAAA: ip})
	}
	for service, port := range t.Ports {
		out = append(out, &dns.SRV{Hdr: dns.RR_Header{Name: label(service) + full, Rrtype: dns.TypeSRV, Class: dns.ClassINET, Ttl: z.TTL},
			Target: full, Port: uint16(port)})
	}
	return out, nil
}

// addresses are all records of addresses that a name may have, by their types alone.
func (z Zone) addresses(name string) []dns.RR {
	return []dns.RR{&dns.A{Hdr: dns.RR_Header{Name: z.FQDN(name), Rrtype: dns.TypeA, Class: dns.ClassINET}},
		&dns.AAAA{Hdr: dns.RR_Header{Name: z.FQDN(name), Rrtype: dns.TypeAAAA, Class: dns.ClassINET}}}
}

// label begins the name at which a service's port is found.
func label(service string) string { return "_" + service + "._tcp." }

// Publish makes a name stand for a target and nothing else, in one update with the mark that says whose it is. A name that
// is another's is left as it is: [ErrTaken].
func (z Zone) Publish(ctx context.Context, name string, t Target) error {
	rrs, err := z.records(name, t)
	if err != nil {
		return err
	}
	return z.publish(ctx, name, rrs, rrs[1:])
}

// PublishAll makes a name stand for several addresses and nothing else, as [Zone.Publish] does for one.
func (z Zone) PublishAll(ctx context.Context, name string, addresses []string) error {
	var all []dns.RR
	for _, a := range addresses {
		rrs, err := z.records(name, Target{Address: a})
		if err != nil {
			return err
		}
		all = append(all, rrs...)
	}
	return z.publish(ctx, name, all, nil)
}

// publish makes a name have some records, in the place of all addresses that it had and of other records of the same names and types.
func (z Zone) publish(ctx context.Context, name string, rrs, instead []dns.RR) error {
	send := func(require func(m *dns.Msg)) error {
		m := new(dns.Msg)
		m.SetUpdate(dns.Fqdn(z.Name))
		require(m)
		m.RemoveRRset(append(z.addresses(name), instead...)) // it may have had an address of the other sort
		m.Insert(rrs)
		m.Insert(z.owned(name))
		return z.update(ctx, m)
	}
	err := send(func(m *dns.Msg) { m.RRsetNotUsed(z.unowned(name)) })
	if errors.Is(err, errRequired) {
		err = send(func(m *dns.Msg) { m.Used(z.owned(name)) })
	}
	if errors.Is(err, errRequired) {
		return z.refusedBy(ctx, name)
	}
	return err
}

// Withdraw makes a name stand for nothing, with the services that were known of it. One that is gone is withdrawn already;
// one that is another's is left as it is: [ErrTaken].
func (z Zone) Withdraw(ctx context.Context, name string, services []string) error {
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(z.Name))
	gone := z.addresses(name)
	for _, s := range services {
		gone = append(gone, &dns.SRV{Hdr: dns.RR_Header{Name: label(s) + z.FQDN(name), Rrtype: dns.TypeSRV, Class: dns.ClassINET}})
	}
	m.Used(z.owned(name))
	m.RemoveRRset(append(gone, z.owned(name)...))
	err := z.update(ctx, m)
	if !errors.Is(err, errRequired) {
		return err
	}
	if _, taken, askErr := z.Taken(ctx, name); askErr != nil || !taken {
		return askErr
	}
	return z.refusedBy(ctx, name)
}

// errRequired says that the server has not what an update requires.
var errRequired = errors.New("what the update requires is not so")

// update signs and sends an update, over TCP: it may be long, and must not be lost.
func (z Zone) update(ctx context.Context, m *dns.Msg) error {
	key := dns.Fqdn(z.Key)
	m.SetTsig(key, dns.Fqdn(z.Algorithm), 300, time.Now().Unix())
	c := &dns.Client{Net: "tcp", Timeout: timeout, TsigSecret: map[string]string{key: z.Secret}}
	answer, _, err := c.ExchangeContext(ctx, m, z.Server)
	if answer != nil && (answer.Rcode == dns.RcodeNXRrset || answer.Rcode == dns.RcodeYXRrset) {
		return errRequired
	}
	if answer != nil && answer.Rcode != dns.RcodeSuccess { // what it says counts for more than how it signed it
		return fmt.Errorf("%w: %s at %s", ErrRefused, dns.RcodeToString[answer.Rcode], z.Server)
	}
	if errors.Is(err, dns.ErrAuth) || errors.Is(err, dns.ErrSig) || errors.Is(err, dns.ErrSecret) || errors.Is(err, dns.ErrKey) {
		return fmt.Errorf("%w: its answer is not signed with the key %s", ErrRefused, z.Key)
	}
	if err != nil {
		return fmt.Errorf("the name server %s does not answer: %w", z.Server, err)
	}
	return nil
}

// Ask asks one server or resolver what a name stands for, with the port of a service if one is named. left is for how
// long the answer may still be kept.
func (z Zone) Ask(ctx context.Context, server, name, service string) (address string, port int, left time.Duration, err error) {
	full := z.FQDN(name)
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		a, err := ask(ctx, server, full, kind)
		if err != nil && !errors.Is(err, ErrUnanswered) {
			return "", 0, 0, err
		}
		for _, rr := range a {
			switch x := rr.(type) {
			case *dns.A:
				address, left = x.A.String(), time.Duration(x.Hdr.Ttl)*time.Second
			case *dns.AAAA:
				address, left = x.AAAA.String(), time.Duration(x.Hdr.Ttl)*time.Second
			}
		}
		if address != "" {
			break
		}
	}
	if address == "" {
		return "", 0, 0, ErrUnanswered
	}
	if service == "" {
		return address, 0, left, nil
	}
	srv, err := ask(ctx, server, label(service)+full, dns.TypeSRV)
	if err != nil {
		return "", 0, 0, err
	}
	for _, rr := range srv {
		if x, ok := rr.(*dns.SRV); ok {
			return address, int(x.Port), max(left, time.Duration(x.Hdr.Ttl)*time.Second), nil
		}
	}
	return "", 0, 0, fmt.Errorf("%w: no port of %s", ErrUnanswered, service)
}

func ask(ctx context.Context, server, name string, kind uint16) ([]dns.RR, error) {
	m := new(dns.Msg)
	m.SetQuestion(name, kind)
	c := &dns.Client{Timeout: timeout}
	answer, _, err := c.ExchangeContext(ctx, m, server)
	if err == nil && answer.Truncated {
		c.Net = "tcp"
		answer, _, err = c.ExchangeContext(ctx, m, server)
	}
	switch {
	case err != nil:
		return nil, fmt.Errorf("%s does not answer: %w", server, err)
	case answer.Rcode == dns.RcodeNameError:
		return nil, ErrUnanswered
	case answer.Rcode != dns.RcodeSuccess:
		return nil, fmt.Errorf("%s answers %s", server, dns.RcodeToString[answer.Rcode])
	}
	return answer.Answer, nil
}

// Servers are everybody who is asked: the primary and the resolvers.
func (z Zone) Servers() []string { return append([]string{z.Server}, z.Resolvers...) }

// Disagreement is one who still answers otherwise.
type Disagreement struct {
	Server string
	// Says is what it says instead, and Left for how long it may keep that.
	Says string
	Left time.Duration
}

func (d Disagreement) String() string {
	if left := d.Left.Round(time.Second); left > 0 {
		return fmt.Sprintf("%s says %s, for %s yet", d.Server, d.Says, left)
	}
	return d.Server + " says " + d.Says
}

// Disagree lists who does not answer with the target; none if all agree.
func (z Zone) Disagree(ctx context.Context, name string, t Target) []Disagreement {
	var out []Disagreement
	for _, s := range z.Servers() {
		if d, ok := z.disagrees(ctx, s, name, t); ok {
			out = append(out, d)
		}
	}
	return out
}

func (z Zone) disagrees(ctx context.Context, server, name string, t Target) (Disagreement, bool) {
	services := []string{""}
	for s := range t.Ports {
		services = append(services, s)
	}
	for _, s := range services {
		address, port, left, err := z.Ask(ctx, server, name, s)
		if err != nil {
			return Disagreement{Server: server, Says: err.Error()}, true
		}
		if address != t.Address || port != t.Ports[s] {
			says := address
			if s != "" {
				says = net.JoinHostPort(address, strconv.Itoa(port))
			}
			return Disagreement{server, says, left}, true
		}
	}
	return Disagreement{}, false
}
