package names

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/miekg/dns"

	"andamio/internal/core/fault"
)

// ErrTaken says that a name belongs to somebody else.
var ErrTaken = fault.Conflictf("the name is another's")

// mark begins the name at which a text record says whose a name is. Names that begin with an underscore are no host's
// (RFC 8552), and what an update requires of the record (RFC 2136, section 2.4) is decided by the server, with the update.
const mark = "_andamio-owner."

// owned is the record that says that a name is this zone's owner's.
func (z Zone) owned(name string) []dns.RR {
	return []dns.RR{&dns.TXT{Hdr: dns.RR_Header{Name: mark + z.FQDN(name), Rrtype: dns.TypeTXT, Class: dns.ClassINET, Ttl: z.TTL}, Txt: []string{z.Owner}}}
}

// unowned is what must not be there of a name that nobody has.
func (z Zone) unowned(name string) []dns.RR {
	return append(z.addresses(name), &dns.TXT{Hdr: dns.RR_Header{Name: mark + z.FQDN(name), Rrtype: dns.TypeTXT, Class: dns.ClassINET}})
}

// Taken says whose a name is: "" and false if nobody has it, "" and true if it stands and bears no mark.
func (z Zone) Taken(ctx context.Context, name string) (owner string, taken bool, err error) {
	marks, err := ask(ctx, z.Server, mark+z.FQDN(name), dns.TypeTXT)
	if err != nil && !errors.Is(err, ErrUnanswered) {
		return "", false, err
	}
	for _, rr := range marks {
		if t, ok := rr.(*dns.TXT); ok {
			return strings.Join(t.Txt, ""), true, nil
		}
	}
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		addresses, err := ask(ctx, z.Server, z.FQDN(name), kind)
		if err != nil && !errors.Is(err, ErrUnanswered) {
			return "", false, err
		}
		if len(addresses) > 0 {
			return "", true, nil
		}
	}
	return "", false, nil
}

// refusedBy is the error for a name that somebody else has.
func (z Zone) refusedBy(ctx context.Context, name string) error {
	owner, _, err := z.Taken(ctx, name)
	full := z.Full(name)
	switch {
	case err != nil:
		return fmt.Errorf("%w: %s", ErrTaken, full)
	case owner == "":
		return fmt.Errorf("%w: %s stands and was made by others; take it away there, or raise this under another name", ErrTaken, full)
	}
	return fmt.Errorf("%w: %s belongs to the deployment with the mark %s", ErrTaken, full, owner)
}
