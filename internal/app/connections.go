package app

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/teambition/rrule-go"

	"andamio/internal/core/estate"
	"andamio/internal/site"
	"andamio/internal/site/occi"
)

// Connection is how a site is reached and surveyed. Its credential is in the vault, and never part of what is shown or
// written.
type Connection struct {
	Site string      `json:"site"`
	Kind estate.Kind `json:"kind,omitempty"`
	URL  string      `json:"url"`
	// TimeZone is the site's, by its name in the IANA database; schedules are meant in it.
	TimeZone string `json:"time_zone,omitempty"`
	// Regions bound surveys to some of the site's regions; none given means all.
	Regions []string `json:"regions,omitempty"`
	// Filter bounds surveys to what concerns us.
	Filter Filter `json:"filter,omitzero"`
	// Schedule says when the site is surveyed: a recurrence rule (RFC 5545, section 3.3.10), "" for by hand alone.
	Schedule string `json:"schedule,omitempty"`
	// Account is whose the credential is, Rotated when it was changed last.
	Account string    `json:"account,omitempty"`
	Rotated time.Time `json:"rotated,omitzero"`
	// Timeout is for how many seconds one call may be unanswered; 0 is the driver's own.
	Timeout float64 `json:"timeout,omitempty"`

	// Token is the credential; it is kept in the vault.
	Token string `json:"-"`
}

// Filter bounds what a survey keeps. Empty means all.
type Filter struct {
	// Kinds of things, such as instance and volume; Tags that a thing must have, as NAME or NAME=VALUE. Links go with what
	// they link.
	Kinds []site.Kind `json:"kinds,omitempty"`
	Tags  []string    `json:"tags,omitempty"`
}

// FilterOf reads a filter as people write it: kinds and tags between commas, such as "instance, volume, owner=telemetry".
func FilterOf(words []string) Filter {
	var f Filter
	for _, w := range words {
		w = strings.TrimSpace(w)
		switch {
		case w == "":
		case slices.Contains(site.Kinds, site.Kind(w)):
			f.Kinds = append(f.Kinds, site.Kind(w))
		default:
			f.Tags = append(f.Tags, w)
		}
	}
	return f
}

// DefaultPort is the port of a site where none is given, and DefaultScheme how it is spoken to.
const (
	DefaultPort   = "8443"
	DefaultScheme = "https"
)

// driver speaks to the site.
func (c Connection) driver() *occi.Driver {
	d := occi.New(c.Site, c.URL, c.Token)
	if c.Timeout > 0 {
		d.Patience(time.Duration(c.Timeout * float64(time.Second)))
	}
	return d
}

// Connections are the connected sites.
func (w *Workspace) Connections() ([]Connection, error) {
	var out []Connection
	if err := w.readJSON(fileSites, &out); err != nil {
		return nil, err
	}
	for i := range out {
		token, err := w.vault.Get(shelfSites, out[i].Site)
		if err != nil {
			return nil, err
		}
		out[i].Token = token
	}
	return out, nil
}

// SetConnections replaces the connected sites and their credentials.
func (w *Workspace) SetConnections(c []Connection) error {
	names, err := w.vault.Names(shelfSites)
	if err != nil {
		return err
	}
	tokens := map[string]string{}
	for _, name := range names {
		tokens[name] = ""
	}
	for i := range c {
		tokens[c[i].Site] = c[i].Token
	}
	return errors.Join(w.vault.Set(shelfSites, tokens), w.writeJSON(fileSites, c))
}

// Connection is one of the connected sites.
func (w *Workspace) Connection(name string) (Connection, error) {
	all, err := w.Connections()
	if err != nil {
		return Connection{}, err
	}
	var known []string
	for _, c := range all {
		if c.Site == name {
			return c, nil
		}
		known = append(known, c.Site)
	}
	if len(known) == 0 {
		return Connection{}, fmt.Errorf("there is no site %q: none is connected", name)
	}
	return Connection{}, fmt.Errorf("there is no site %q; there are %s", name, strings.Join(known, ", "))
}

// nameOf is what sites may be called.
var nameOf = regexp.MustCompile(`^[a-z][a-z0-9-]{0,38}$`)

// WrongName says what is the matter with a name for a new site, "" if nothing is.
func (w *Workspace) WrongName(name string) string {
	if !nameOf.MatchString(name) {
		return "a name is of small letters, digits and hyphens, begins with a letter, and has at most 39"
	}
	if _, err := w.Connection(name); err == nil {
		return "a site of this name is connected already"
	}
	return ""
}

// SiteURL completes an address as people write it: HOST, HOST:PORT or a URL. The scheme is https and the port 8443 where
// none is given.
func SiteURL(text string) (string, error) {
	text = strings.TrimSpace(text)
	if !strings.Contains(text, "://") {
		text = DefaultScheme + "://" + text
	}
	u, err := url.Parse(text)
	if err != nil || u.Hostname() == "" {
		return "", fmt.Errorf("%q is no address; write HOST, HOST:PORT or https://HOST:PORT", text)
	}
	if u.Scheme != "https" && u.Scheme != "http" {
		return "", fmt.Errorf("a site is spoken to by https or http, not %s", u.Scheme)
	}
	if u.User != nil {
		return "", errors.New("no credential belongs into the address: it is asked for by itself")
	}
	if u.Port() == "" {
		u.Host = net.JoinHostPort(u.Hostname(), DefaultPort)
	}
	u.RawQuery, u.Fragment, u.Path = "", "", strings.TrimRight(u.Path, "/")
	return u.String(), nil
}

// Check says what is wrong with a connection before anything is asked of it.
func (c *Connection) Check() error {
	var errs []error
	var err error
	if c.URL, err = SiteURL(c.URL); err != nil {
		errs = append(errs, err)
	}
	switch c.Kind {
	case estate.Edge, estate.Private, estate.Public:
	default:
		errs = append(errs, fmt.Errorf("the kind is edge, private or public, not %q", c.Kind))
	}
	if _, err := time.LoadLocation(c.TimeZone); err != nil {
		errs = append(errs, fmt.Errorf("%q is no time zone; write its name as in Europe/Lisbon, or UTC", c.TimeZone))
	}
	if c.Schedule != "" {
		if _, err := c.Next(time.Now()); err != nil {
			errs = append(errs, err)
		}
	}
	for _, k := range c.Filter.Kinds {
		if !slices.Contains(site.Kinds, k) {
			errs = append(errs, fmt.Errorf("there is no kind %q; there are %v", k, site.Kinds))
		}
	}
	return errors.Join(errs...)
}

// Next is when the site is to be surveyed next by its schedule; zero if it has none.
func (c *Connection) Next(after time.Time) (time.Time, error) {
	if c.Schedule == "" {
		return time.Time{}, nil
	}
	zone, err := time.LoadLocation(c.TimeZone)
	if err != nil {
		return time.Time{}, err
	}
	o, err := rrule.StrToROptionInLocation(strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(c.Schedule)), "RRULE:"), zone)
	if err != nil {
		return time.Time{}, fmt.Errorf("%q is no recurrence rule as in FREQ=HOURLY or FREQ=DAILY;BYHOUR=2;BYMINUTE=30 (RFC 5545): %w", c.Schedule, err)
	}
	if o.Dtstart.IsZero() { // rules count from the beginning of a day at the site
		y, m, d := after.In(zone).Date()
		o.Dtstart = time.Date(y, m, d, 0, 0, 0, 0, zone).AddDate(0, 0, -1)
	}
	r, err := rrule.NewRRule(*o)
	if err != nil {
		return time.Time{}, fmt.Errorf("%q is no recurrence rule: %w", c.Schedule, err)
	}
	return r.After(after, false), nil
}

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
func (a *App) Test(ctx context.Context, c Connection) (*Tested, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	if c.Token == "" {
		return nil, errors.New("there is no credential")
	}
	start := time.Now()
	d := c.driver()
	access, err := d.Access(ctx)
	if err != nil {
		return nil, hint(c, err)
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
	s, err := d.Describe(ctx)
	if err != nil {
		return nil, hint(c, err)
	}
	out.Kind, out.Title, out.Zones, out.Sizes = s.Kind, s.Title, len(s.Zones), len(s.Sizes)
	if c.Kind != s.Kind {
		out.Warns = append(out.Warns, fmt.Sprintf("it calls itself %s, not %s", s.Kind, c.Kind))
	}
	for _, r := range c.Regions {
		if !slices.Contains(access.Regions, r) {
			return nil, fmt.Errorf("%s has no region %q; it has %s", c.Site, r, strings.Join(access.Regions, ", "))
		}
	}
	if s.Name != c.Site {
		return nil, fmt.Errorf("the site calls itself %q: connect it under that name, which its plans and prices use", s.Name)
	}
	return out, nil
}

// hint says what may be done about a connection that does not work.
func hint(c Connection, err error) error {
	switch site.ClassOf(err) {
	case site.Transient:
		return told{fmt.Sprintf("%s does not answer at %s: %s; look at the address and port, and whether it can be reached from here", c.Site, c.URL, plainly(err)), err}
	case site.Refused:
		return told{fmt.Sprintf("%s does not take the credential: %s; look whether it is whole and of this site", c.Site, plainly(err)), err}
	}
	return err
}

// told is an error told to people in words of its own; what it comes from is still to be found in it.
type told struct {
	text string
	err  error
}

func (t told) Error() string { return t.text }
func (t told) Unwrap() error { return t.err }

// plainly says why a site did not do something, without how we asked.
func plainly(err error) string {
	var name *net.DNSError
	var authority x509.UnknownAuthorityError
	var host x509.HostnameError
	var timeout net.Error
	var own *site.Error
	switch {
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

// Connect tests a connection and keeps it. A credential for first use is changed at once.
func (a *App) Connect(ctx context.Context, c Connection) (*Tested, error) {
	if wrong := a.Workspace.WrongName(c.Site); wrong != "" {
		return nil, fmt.Errorf("%q cannot be a site's name: %s", c.Site, wrong)
	}
	tested, err := a.Test(ctx, c)
	if err != nil {
		return nil, err
	}
	if tested.Access.FirstUse {
		if c.Token, err = c.driver().Rotate(ctx); err != nil {
			return nil, fmt.Errorf("the credential for first use could not be changed: %w", err)
		}
		c.Rotated = time.Now().UTC()
		// It is kept before anything else can fail: the old one is worth nothing any more.
		if err := a.Workspace.vault.Set(shelfSites, map[string]string{c.Site: c.Token}); err != nil {
			return nil, err
		}
		if tested, err = a.Test(ctx, c); err != nil {
			return nil, err
		}
	}
	c.Account = tested.Access.Account
	c.URL, _ = SiteURL(c.URL)
	all, err := a.Workspace.Connections()
	if err != nil {
		return nil, err
	}
	return tested, a.Workspace.SetConnections(append(all, c))
}

// Reconnect replaces what is kept of a site, after trying it.
func (a *App) Reconnect(ctx context.Context, c Connection) (*Tested, error) {
	tested, err := a.Test(ctx, c)
	if err != nil {
		return nil, err
	}
	return tested, a.replace(c)
}

func (a *App) replace(c Connection) error {
	all, err := a.Workspace.Connections()
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(x Connection) bool { return x.Site == c.Site })
	if i < 0 {
		return fmt.Errorf("there is no site %q", c.Site)
	}
	all[i] = c
	return a.Workspace.SetConnections(all)
}

// Rotate changes the credential of a site: for the one given, once that was tried, or for one that the site makes.
func (a *App) Rotate(ctx context.Context, name, token string) error {
	c, err := a.Workspace.Connection(name)
	if err != nil {
		return err
	}
	if token == "" {
		if token, err = c.driver().Rotate(ctx); err != nil {
			return err
		}
	} else {
		try := c
		try.Token = token
		if _, err := a.Test(ctx, try); err != nil {
			return err
		}
	}
	c.Token, c.Rotated = token, time.Now().UTC()
	return a.replace(c)
}

// Disconnect removes a site: its connection, its credential and what was observed there. Records stay, with their
// history. A site that something of a deployment stands at is not removed.
func (a *App) Disconnect(ctx context.Context, name string) error {
	if _, err := a.Workspace.Connection(name); err != nil {
		return err
	}
	deployments, err := a.Deployments(ctx)
	if err != nil {
		return err
	}
	for i := range deployments {
		d := &deployments[i]
		for k := range d.Stand.Plan.Resources {
			if r := &d.Stand.Plan.Resources[k]; r.Site == name {
				return fmt.Errorf("%s of deployment %d (%s) stands at %s: retire it before the site is removed, or nothing could take it away", r.ID, d.ID, d.Name, name)
			}
		}
	}
	all, err := a.Workspace.Connections()
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(c Connection) bool { return c.Site == name })
	return errors.Join(a.Workspace.SetConnections(all), a.Store.ForgetSite(ctx, name))
}
