package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/reach"
	"andamio/internal/site"
	"andamio/internal/site/driver"
)

// Connection is how a site is reached and surveyed. Its secrets are in the vault, and never part of what is shown or
// written.
type Connection struct {
	Site string `json:"site"`
	// Driver says what is spoken to it: see package drivers; "" is the usual one.
	Driver string      `json:"driver,omitempty"`
	Kind   estate.Kind `json:"kind,omitempty"`
	// Settings are what its driver is told beside the secrets.
	Settings driver.Values `json:"settings"`
	// TimeZone is the site's, by its name in the IANA database; schedules are meant in it.
	TimeZone string `json:"time_zone,omitempty"`
	// Regions bound surveys to some of the site's regions; none given means all.
	Regions []string `json:"regions,omitempty"`
	// Filter bounds surveys to what concerns us.
	Filter Filter `json:"filter,omitzero"`
	// Schedule says when the site is surveyed: a recurrence rule (RFC 5545, section 3.3.10), "" for by hand alone.
	Schedule string `json:"schedule,omitempty"`
	// Since is when the schedule was set, which it counts from.
	Since time.Time `json:"since,omitzero"`
	// Account is whose the credential is, Rotated when it was changed last.
	Account string    `json:"account,omitempty"`
	Rotated time.Time `json:"rotated,omitzero"`
	// Timeout is for how many seconds one call may be unanswered; 0 is the driver's own.
	Timeout float64 `json:"timeout,omitempty"`
	// Changing says that the credential is being changed: another is kept beside it until one of them is known to be good.
	Changing bool `json:"changing,omitempty"`

	// Through is the pool of workers through which the site is reached, and what is at it, followed by the labels that they have to have ([reach.Through]); "" is from here.
	Through string `json:"through,omitempty"`

	// Secrets are what its driver is told and nobody else.
	Secrets driver.Values `json:"-"`

	// Renew says what the credential is by now.
	Renew func() string `json:"-"`
	// dial reaches the site; nil is from here.
	dial reach.Dialer
}

// Filter bounds what a survey keeps. Empty means all.
type Filter struct {
	// Kinds of things, such as instance and volume; Tags that a thing must have, as NAME or NAME=VALUE. Links go with what
	// they link.
	Kinds []kinds.Kind `json:"kinds,omitempty"`
	Tags  []string     `json:"tags,omitempty"`
}

// FilterOf reads a filter as people write it: kinds and tags between commas, such as "instance, volume, owner=telemetry".
func FilterOf(words []string) Filter {
	var f Filter
	for _, w := range words {
		w = strings.TrimSpace(w)
		switch {
		case w == "":
		case slices.Contains(site.Kinds, kinds.Kind(w)):
			f.Kinds = append(f.Kinds, kinds.Kind(w))
		default:
			f.Tags = append(f.Tags, w)
		}
	}
	return f
}

// Connections are the connected sites.
func (w *Workspace) Connections() ([]Connection, error) {
	var out []Connection
	if err := w.ReadJSON(FileSites, &out); err != nil {
		return nil, err
	}
	for i := range out {
		if err := w.unlockSecrets(&out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// unlockSecrets puts a connection's secrets to it.
func (w *Workspace) unlockSecrets(c *Connection) error {
	d, err := c.Kit()
	if err != nil {
		return fmt.Errorf("%s: %w", w.Where(FileSites), err)
	}
	c.Secrets = driver.Values{}
	for _, field := range d.Secrets() {
		text, err := w.Vault.Get(shelfOf(d, field), c.Site)
		if err != nil {
			return err
		}
		if text != "" {
			c.Secrets[field] = text
		}
	}
	c.dial = w.route(c.Workers(), c.Site)
	name := c.Site
	c.Renew = func() string { now, _ := w.Vault.Get(ShelfSites, name); return now }
	return nil
}

// shelfOf is where the vault has a secret field of a driver's sites: credentials, which are changed, have a shelf to
// themselves.
func shelfOf(d *driver.Driver, field string) string {
	if field == d.Credential {
		return ShelfSites
	}
	return "site-" + field
}

// shelves are the secrets of a connection by their shelves. With nothing to keep they are those to be forgotten.
func (c *Connection) shelves(d *driver.Driver, keep bool) map[string]map[string]string {
	out := map[string]map[string]string{}
	for _, field := range d.Secrets() {
		text := ""
		if keep {
			text = c.Secrets[field]
		}
		out[shelfOf(d, field)] = map[string]string{c.Site: text}
	}
	return out
}

// FileSitesLock keeps two from changing what is kept of sites at once.
const FileSitesLock = "sites.lock"

// ChangePatience is how long another process may be at changing what is kept.
const ChangePatience = 30 * time.Second

// changeConnections changes what is kept of sites, while nobody else does. Credentials are changed apart from it.
func (w *Workspace) changeConnections(ctx context.Context, how func([]Connection) ([]Connection, error)) error {
	unlock, err := w.files.Lock(ctx, FileSitesLock, ChangePatience)
	if err != nil {
		return err
	}
	defer unlock()
	was, err := w.files.Read(FileSites)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var all []Connection
	if err := w.ReadJSON(FileSites, &all); err != nil {
		return err
	}
	if all, err = how(all); err != nil {
		return err
	}
	text, err := asJSON(all)
	if err != nil {
		return err
	}
	return w.files.Replace(FileSites, was, text)
}

// KeepConnection keeps a connection in place of the one of that name, or as a new one.
func (w *Workspace) KeepConnection(ctx context.Context, c Connection, isNew bool) error {
	d, err := c.Kit()
	if err == nil {
		err = w.Vault.SetAll(c.shelves(d, true))
	}
	if err != nil {
		return err
	}
	return w.changeConnections(ctx, func(all []Connection) ([]Connection, error) {
		i := slices.IndexFunc(all, func(x Connection) bool { return x.Site == c.Site })
		switch {
		case i < 0 && !isNew:
			return nil, fault.NotFoundf("there is no site %q", c.Site)
		case i < 0:
			c.Since = time.Now().UTC()
			return append(all, c), nil
		case isNew:
			return nil, fault.Conflictf("a site %q was connected meanwhile", c.Site)
		}
		if c.Since = all[i].Since; c.Schedule != all[i].Schedule || c.TimeZone != all[i].TimeZone {
			c.Since = time.Now().UTC()
		}
		all[i] = c
		return all, nil
	})
}

// DropConnection forgets a connection and its secrets, those of notices too: what is connected under the name one day is another site.
func (w *Workspace) DropConnection(ctx context.Context, c Connection) error {
	err := w.changeConnections(ctx, func(all []Connection) ([]Connection, error) {
		return slices.DeleteFunc(all, func(x Connection) bool { return x.Site == c.Site }), nil
	})
	d, noKit := c.Kit()
	if noKit != nil {
		return errors.Join(err, noKit)
	}
	none := c.shelves(d, false)
	for _, shelf := range []string{ShelfCandidates, ShelfNotices, ShelfSenders} {
		none[shelf] = map[string]string{c.Site: ""}
	}
	return errors.Join(err, w.Vault.SetAll(none))
}

// SetConnections replaces the connected sites and their secrets.
func (w *Workspace) SetConnections(fresh []Connection) error {
	was, err := w.Connections()
	if err != nil {
		return err
	}
	all := map[string]map[string]string{}
	for keep, list := range [][]Connection{was, fresh} {
		for i := range list {
			d, err := list[i].Kit()
			if err != nil {
				return err
			}
			for shelf, texts := range list[i].shelves(d, keep == 1) {
				if all[shelf] == nil {
					all[shelf] = map[string]string{}
				}
				maps.Copy(all[shelf], texts)
			}
		}
	}
	if err := w.Vault.SetAll(all); err != nil {
		return err
	}
	return w.changeConnections(context.Background(), func([]Connection) ([]Connection, error) { return fresh, nil })
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
		return Connection{}, fault.NotFoundf("there is no site %q: none is connected", name)
	}
	return Connection{}, fault.NotFoundf("there is no site %q; there are %s", name, strings.Join(known, ", "))
}

// nameOf is what sites may be called.
var nameOf = regexp.MustCompile(`^[a-z][a-z0-9-]{0,38}$`)

// CheckSiteName says what is the matter with a name for a new site.
func (w *Workspace) CheckSiteName(name string) error {
	if !nameOf.MatchString(name) {
		return fault.Invalidf("a name is of small letters, digits and hyphens, begins with a letter, and has at most 39")
	}
	if _, err := w.Connection(name); err == nil {
		return fault.Conflictf("a site of this name is connected already")
	}
	return nil
}

// Check says what is wrong with a connection before anything is asked of it.
func (c *Connection) Check() error {
	errs := []error{c.Settle()}
	switch c.Kind {
	case estate.Edge, estate.Private, estate.Public:
	default:
		errs = append(errs, fault.Invalidf("the kind is edge, private or public, not %q", c.Kind))
	}
	if _, err := calendar.Zone(c.TimeZone); err != nil {
		errs = append(errs, err)
	}
	if c.Schedule != "" {
		if _, err := c.Next(time.Now()); err != nil {
			errs = append(errs, err)
		}
	}
	if _, err := reach.ReadThrough(c.Through); err != nil {
		errs = append(errs, fault.Default(fault.Invalid, err))
	}
	for _, k := range c.Filter.Kinds {
		if !slices.Contains(site.Kinds, k) {
			errs = append(errs, fault.Invalidf("there is no kind %q; there are %v", k, site.Kinds))
		}
	}
	return errors.Join(errs...)
}

// Next is when the site is to be surveyed next by its schedule; zero if it has none.
func (c *Connection) Next(after time.Time) (time.Time, error) {
	if c.Schedule == "" {
		return time.Time{}, nil
	}
	zone, err := c.Zone()
	if err != nil {
		return time.Time{}, err
	}
	r, err := calendar.Parse(c.Schedule, zone, c.Scheduled(zone))
	if err != nil {
		return time.Time{}, err
	}
	return r.Next(after), nil
}

// Zone is the site's time zone.
func (c *Connection) Zone() (*time.Location, error) { return calendar.Zone(c.TimeZone) }

// Scheduled is what the schedule counts from: the beginning of the day, at the site, on which it was set.
func (c *Connection) Scheduled(zone *time.Location) time.Time {
	if c.Since.IsZero() {
		return time.Date(2020, 1, 6, 0, 0, 0, 0, zone) // those that were set before that was kept: a Monday
	}
	return calendar.Midnight(c.Since, zone)
}
