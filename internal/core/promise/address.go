package promise

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/clock"
	"andamio/internal/core/guard"
)

// What is due for addresses that are leased (package clock).
const (
	DueAddressNotice = "notice of address"
	DueAddressEnd    = "end of address"
)

// AddressLease is an address of a site's pools, or a VLAN of its range, that is kept for something that is not deployed here, until it is given back.
type AddressLease struct {
	Site string `json:"site"`
	// Value is the address, or "vlan N".
	Value string `json:"value"`
	// For says what has it, in somebody's words.
	For   string    `json:"for"`
	Until time.Time `json:"until"`
	// Notice is how long before the end it is said, each once.
	Notice []time.Duration `json:"notice,omitempty"`
	By     guard.Actor     `json:"by"`
	Since  time.Time       `json:"since"`
}

// mostFor bounds the words that say what has an address.
const mostFor = 200

// Check says what is wrong with a lease; nil if nothing is.
func (l *AddressLease) Check(now time.Time) error {
	switch {
	case l.Site == "":
		return errors.New("site: which is it?")
	case !leasable(l.Value):
		return fmt.Errorf("%q is no address and no VLAN, which is written as in %q", l.Value, "vlan 12")
	case strings.TrimSpace(l.For) == "" || len(l.For) > mostFor:
		return fmt.Errorf("for: say in some words what has it, in at most %d letters", mostFor)
	case !l.Until.After(now):
		return fmt.Errorf("until: %s is over", l.Until.Format(time.RFC3339))
	case len(l.Notice) > MostNotices:
		return fmt.Errorf("notice: an end is said at most %d times", MostNotices)
	}
	for _, n := range l.Notice {
		if n <= 0 {
			return errors.New("notice: it is before the end")
		}
	}
	return nil
}

// leasable reports what is an address, or the number of a VLAN as "vlan N" (IEEE 802.1Q).
func leasable(value string) bool {
	if text, vlan := strings.CutPrefix(value, "vlan "); vlan {
		n, err := strconv.Atoi(text)
		return err == nil && n > 0 && n < 4095 && strconv.Itoa(n) == text
	}
	a, err := netip.ParseAddr(value)
	return err == nil && a.String() == value
}

// Over reports that it has ended at a time.
func (l *AddressLease) Over(now time.Time) bool { return !l.Until.After(now) }

// Subject is that of what is due for it.
func (l *AddressLease) Subject() string { return l.Site + " " + l.Value }

// Dues are what is due for it, from when it was leased on.
func (l *AddressLease) Dues() []clock.Due {
	due := func(kind, subject string, at time.Time) clock.Due {
		return clock.Due{Kind: kind, Subject: subject, Start: at, By: l.By.By(guard.Schedule), Seen: l.Since}
	}
	out := []clock.Due{due(DueAddressEnd, l.Subject(), l.Until)}
	for _, n := range l.Notice {
		out = append(out, due(DueAddressNotice, l.Subject()+", "+Span(n)+" before", l.Until.Add(-n)))
	}
	return out
}

// Words say what is leased, for what and until when.
func (l *AddressLease) Words() string {
	return fmt.Sprintf("%s at %s, for %s, until %s", l.Value, l.Site, l.For, l.Until.UTC().Format(time.RFC3339))
}
