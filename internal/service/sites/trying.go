package sites

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"syscall"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/reach"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
)

// Tested is what came of trying a connection.
type Tested struct {
	Access site.Access `json:"access"`
	// Took is how long the site took to answer; Zones and Sizes are what it offers.
	Took  time.Duration `json:"took"`
	Kind  estate.Kind   `json:"kind"`
	Title string        `json:"title,omitempty"`
	Zones int           `json:"zones"`
	Sizes int           `json:"sizes"`
	// Warns are what the credential lacks, and what comes of it.
	Warns []string `json:"warns,omitempty"`
}

// lacks says what a credential without a right is no good for.
var lacks = map[string]string{
	"create": "it may not create: nothing can be deployed there, surveys work",
	"change": "it may not change: nothing there can be resized, renamed or switched, surveys work",
	"delete": "it may not delete: what is deployed there cannot be retired",
	"read":   "it may not read: nothing there can be surveyed",
}

// Test tries a connection: that the site answers, that it knows the credential, and what that may do. Nothing is kept.
func (svc *Service) Test(ctx context.Context, c workspace.Connection) (*Tested, error) {
	if err := svc.desk.Read("sites that are not connected yet"); err != nil {
		return nil, err
	}
	if err := c.Check(); err != nil {
		return nil, err
	}
	if c.LacksCredential() {
		return nil, fault.Invalidf("there is no credential")
	}
	c = svc.workspace.Routed(c)
	c.Renew = nil // what is tried is this credential and no other
	start := time.Now()
	d, err := c.Surveyor()
	if err != nil {
		return nil, err
	}
	access, err := d.Access(ctx)
	if err != nil {
		return nil, Hint(c, err)
	}
	out := &Tested{Access: access, Took: time.Since(start)}
	for _, right := range access.MayNot {
		if text := lacks[right]; text != "" {
			out.Warns = append(out.Warns, text)
		}
	}
	if access.FirstUse {
		out.Warns = append(out.Warns, "it is good for a first use only: it is changed when the site is connected, and the new one kept")
		return out, nil
	}
	s, err := c.Describe(ctx)
	if err != nil {
		return nil, Hint(c, err)
	}
	out.Kind, out.Title, out.Zones, out.Sizes = s.Kind, s.Title, len(s.Zones), len(s.Sizes)
	if c.Kind != s.Kind {
		out.Warns = append(out.Warns, fmt.Sprintf("it calls itself %s, not %s", s.Kind, c.Kind))
	}
	for _, r := range c.Regions {
		if !slices.Contains(access.Regions, r) {
			return nil, fault.NotFoundf("%s has no region %q; it has %s", c.Site, r, strings.Join(access.Regions, ", "))
		}
	}
	if s.Name != c.Site {
		return nil, misnamed{s.Name}
	}
	return out, nil
}

// misnamed is the error of a site that has another name.
type misnamed struct{ itself string }

func (m misnamed) Error() string {
	return fmt.Sprintf("the site calls itself %q: connect it under that name, which its plans and prices use", m.itself)
}

// Hint says what may be done about a connection that does not work.
func Hint(c workspace.Connection, err error) error {
	switch site.ClassOf(err) {
	case site.Transient:
		return explained{fmt.Sprintf("%s does not answer at %s: %s; look at the address and port, and whether it can be reached from here", c.Site, c.Address(), plainly(err)), err}
	case site.Refused:
		return explained{fmt.Sprintf("%s does not take the credential: %s; look whether it is whole and of this site", c.Site, plainly(err)), err}
	}
	return err
}

// explained is an error told to people in words of its own; what it comes from is still to be found in it.
type explained struct {
	text string
	err  error
}

func (t explained) Error() string { return t.text }

func (t explained) Unwrap() error { return t.err }

// plainly says why a site did not do something, without how we asked.
func plainly(err error) string {
	var name *net.DNSError
	var authority x509.UnknownAuthorityError
	var host x509.HostnameError
	var timeout net.Error
	var own *site.Error
	var way *reach.NoWay
	switch {
	case errors.As(err, &way):
		return way.Error()
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing listens there"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "there is no way to it from here"
	case errors.As(err, &name) && name.IsNotFound:
		return "nobody knows the name " + name.Name
	case errors.As(err, &authority):
		return "nobody whom this machine trusts vouches for its certificate"
	case errors.As(err, &host):
		return "its certificate is for another name"
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, context.DeadlineExceeded):
		return "no answer came in time"
	case errors.As(err, &own) && own.Detail != "":
		return own.Detail
	case errors.As(err, &own) && own.Err != nil:
		return own.Err.Error()
	}
	return err.Error()
}
