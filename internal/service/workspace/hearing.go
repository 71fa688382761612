package workspace

import (
	"net"
	"net/netip"
	"regexp"

	"andamio/internal/core/fault"
	"andamio/internal/core/hook"
)

// fileHearing says where notices are heard, if that is not this machine alone.
const fileHearing = "notices.json"

// Hearing is where sites send their notices: this machine alone, unless sites are on others.
type Hearing struct {
	// Listen is the address of this machine at which notices are heard, 0.0.0.0 and :: are all; "" is 127.0.0.1.
	Listen string `json:"listen,omitempty"`
	// Tell is the name or address that sites are told, where they reach this machine by another; "" is that of Listen.
	Tell string `json:"tell,omitempty"`
	// Bus is where notices are heard, too: what is published under its subject, followed by the name of the site that it is about. Secret is the name under which the password or
	// the token is kept.
	Bus    *hook.Bus `json:"bus,omitempty"`
	Secret string    `json:"secret,omitempty"`
}

// Hearing says where notices are heard.
func (w *Workspace) Hearing() (Hearing, error) {
	var h Hearing
	err := w.ReadJSON(fileHearing, &h)
	return h, err
}

// SetHearing changes where notices are heard, from the next run or listening on.
func (w *Workspace) SetHearing(h Hearing) error {
	if err := h.check(); err != nil {
		return err
	}
	return w.WriteJSON(fileHearing, h)
}

// hostName is what a host may be called (RFC 1123, section 2.1).
var hostName = regexp.MustCompile(`^[a-zA-Z0-9]([a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?(\.[a-zA-Z0-9]([a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?)*$`)

func (h Hearing) check() error {
	ip := netip.IPv4Unspecified()
	var err error
	if h.Listen != "" {
		if ip, err = netip.ParseAddr(h.Listen); err != nil {
			return fault.Invalidf("%q is no address of this machine: write one such as 10.0.0.5, or 0.0.0.0 for all", h.Listen)
		}
	}
	if h.Listen != "" && ip.IsUnspecified() && h.Tell == "" {
		return fault.Invalidf("%s is all addresses of this machine: say which of them, or which name, sites are told", h.Listen)
	}
	if _, err := netip.ParseAddr(h.Tell); h.Tell != "" && err != nil && (len(h.Tell) > 253 || !hostName.MatchString(h.Tell)) {
		return fault.Invalidf("%q is neither a name nor an address without a port", h.Tell)
	}
	if h.Bus != nil {
		return fault.Default(fault.Invalid, h.Bus.Check(h.Secret))
	}
	return nil
}

// At is where to listen, at a port; "0" is any that is free.
func (h Hearing) At(port string) string {
	if h.Listen == "" {
		return net.JoinHostPort("127.0.0.1", port)
	}
	return net.JoinHostPort(h.Listen, port)
}

// Advertised is what sites are told of an address that is listened at.
func (h Hearing) Advertised(address string) string {
	host, port, err := net.SplitHostPort(address)
	if err != nil || h.Tell == "" {
		return address
	}
	if ip, err := netip.ParseAddr(host); err == nil && ip.IsLoopback() {
		return address // nobody reaches that from elsewhere, whatever they are told
	}
	return net.JoinHostPort(h.Tell, port)
}
