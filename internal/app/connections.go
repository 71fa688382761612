package app

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"andamio/internal/core/estate"
	"andamio/internal/durable"
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
	// Insecure says that somebody accepted that everything, the credential too, goes to the site in clear.
	Insecure bool `json:"insecure,omitempty"`
	// Authorities are those who vouch for the site, Pin is the digest of its public key, Certificate says who we are: see
	// web.Trust.
	Authorities string `json:"authorities,omitempty"`
	Pin         string `json:"pin,omitempty"`
	Certificate string `json:"certificate,omitempty"`
	// Changing says that the credential is being changed: another is kept beside it until one of them is known to be good.
	Changing bool `json:"changing,omitempty"`

	// Token is the credential, and Key the private key of Certificate; both are kept in the vault.
	Token string `json:"-"`
	Key   string `json:"-"`

	// renew says what the credential is by now.
	renew func() string
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
	if trust, err := c.trust().Config(); err != nil {
		d.Trust(nobody(err)) // it was checked when it was kept, so that somebody changed the file by hand
	} else if trust != nil {
		d.Trust(trust)
	}
	d.Renew(c.renew)
	return d
}

// Connections are the connected sites.
func (w *Workspace) Connections() ([]Connection, error) {
	var out []Connection
	if err := w.readJSON(fileSites, &out); err != nil {
		return nil, err
	}
	for i := range out {
		c := &out[i]
		token, err := w.vault.Get(shelfSites, c.Site)
		if err != nil {
			return nil, err
		}
		if c.Key, err = w.vault.Get(shelfClientKeys, c.Site); err != nil {
			return nil, err
		}
		name := c.Site
		c.Token = token
		c.renew = func() string { now, _ := w.vault.Get(shelfSites, name); return now }
	}
	return out, nil
}

// shelfClientKeys holds the private keys of certificates that say to sites who we are.
const shelfClientKeys = "client-keys"

// fileSitesLock keeps two from changing what is kept of sites at once.
const fileSitesLock = "sites.lock"

// changePatience is how long another process may be at changing what is kept.
const changePatience = 30 * time.Second

// changeConnections changes what is kept of sites, while nobody else does. Credentials are changed apart from it.
func (w *Workspace) changeConnections(ctx context.Context, how func([]Connection) ([]Connection, error)) error {
	unlock, err := durable.Lock(ctx, w.path(fileSitesLock), changePatience)
	if err != nil {
		return err
	}
	defer unlock()
	var all []Connection
	if err := w.readJSON(fileSites, &all); err != nil {
		return err
	}
	if all, err = how(all); err != nil {
		return err
	}
	return w.writeJSON(fileSites, all)
}

// keep keeps a connection in place of the one of that name, or as a new one.
func (w *Workspace) keep(ctx context.Context, c Connection, isNew bool) error {
	if err := w.vault.SetAll(map[string]map[string]string{shelfSites: {c.Site: c.Token}, shelfClientKeys: {c.Site: c.Key}}); err != nil {
		return err
	}
	return w.changeConnections(ctx, func(all []Connection) ([]Connection, error) {
		i := slices.IndexFunc(all, func(x Connection) bool { return x.Site == c.Site })
		switch {
		case i < 0 && !isNew:
			return nil, fmt.Errorf("there is no site %q", c.Site)
		case i < 0:
			return append(all, c), nil
		case isNew:
			return nil, fmt.Errorf("a site %q was connected meanwhile", c.Site)
		}
		all[i] = c
		return all, nil
	})
}

// drop forgets a connection and its credentials.
func (w *Workspace) drop(ctx context.Context, name string) error {
	err := w.changeConnections(ctx, func(all []Connection) ([]Connection, error) {
		return slices.DeleteFunc(all, func(c Connection) bool { return c.Site == name }), nil
	})
	none := map[string]string{name: ""}
	return errors.Join(err, w.vault.SetAll(map[string]map[string]string{shelfSites: none, shelfCandidates: none, shelfClientKeys: none}))
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
	if err := w.vault.Set(shelfSites, tokens); err != nil {
		return err
	}
	return w.changeConnections(context.Background(), func([]Connection) ([]Connection, error) { return c, nil })
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
	} else if err := c.checkTrust(); err != nil {
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
	return errors.Join(a.Workspace.drop(ctx, name), a.Store.ForgetSite(ctx, name))
}
