package workspace

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/driver"
	"andamio/internal/site/drivers"
)

// What drivers are told, for screens and commands, which are made from it: see package driver.
type (
	Driver   = driver.Driver
	Question = driver.Question
	Field    = driver.Field
	Values   = driver.Values
)

// ReadSmallFile reads a small file of text, such as one that holds a credential. A pipe or a device is none.
func ReadSmallFile(name string) (string, error) { return driver.ReadFile(name) }

// On is the value of a switch that is said.
const On = driver.On

// Drivers are all drivers, the usual one first.
func Drivers() []*Driver { return drivers.All }

// DriverNames are their names.
func DriverNames() []string {
	var out []string
	for _, d := range drivers.All {
		out = append(out, d.Name)
	}
	return out
}

// DriverNamed is the driver of a name; "" is the usual one.
func DriverNamed(name string) (*Driver, error) { return drivers.Named(name) }

// Kit is the connection's driver.
func (c *Connection) Kit() (*driver.Driver, error) {
	d, err := drivers.Named(c.Driver)
	if err != nil {
		return nil, fmt.Errorf("the connection of %s: %w; use the program that made it", c.Site, err)
	}
	return d, nil
}

// values are all that the driver is told.
func (c *Connection) values() driver.Values {
	out := maps.Clone(c.Settings)
	if out == nil {
		out = driver.Values{}
	}
	maps.Copy(out, c.Secrets)
	return out
}

// Tell has the driver told something more, or something else; what is "" is not said any more.
func (c *Connection) Tell(v driver.Values) error {
	d, err := c.Kit()
	if err != nil {
		return err
	}
	c.Settings, c.Secrets = cloned(c.Settings), cloned(c.Secrets)
	for name, text := range v {
		where := c.Settings
		if f := d.Field(name); f != nil && f.Secret {
			where = c.Secrets
		}
		if where[name] = text; text == "" {
			delete(where, name)
		}
	}
	return nil
}

func cloned(v driver.Values) driver.Values {
	if v == nil {
		return driver.Values{}
	}
	return maps.Clone(v)
}

// Settle checks what the driver is told, and makes it what it comes to.
func (c *Connection) Settle() error {
	d, err := c.Kit()
	if err != nil {
		return err
	}
	v, err := d.Normal(c.values())
	if err != nil {
		return err
	}
	c.Settings, c.Secrets = nil, nil
	return c.Tell(v)
}

// CheckSettings says what is wrong with what the driver is told. Nothing is asked of the site.
func (c Connection) CheckSettings() error { return c.Settle() }

// Address is where the site is.
func (c *Connection) Address() string {
	if d, err := c.Kit(); err == nil {
		return c.Settings[d.Address]
	}
	return ""
}

// Credential is the secret that the site knows us by.
func (c *Connection) Credential() string {
	if d, err := c.Kit(); err == nil {
		return c.Secrets[d.Credential]
	}
	return ""
}

// LacksCredential reports that the site asks for a credential, and that there is none.
func (c *Connection) LacksCredential() bool {
	d, err := c.Kit()
	return err == nil && d.Credential != "" && c.Secrets[d.Credential] == ""
}

// With is the connection with another credential, and no way to a newer one.
func (c Connection) With(credential string) Connection {
	if d, err := c.Kit(); err == nil {
		_ = c.Tell(driver.Values{d.Credential: credential})
	}
	c.Renew = nil
	return c
}

// Exposed is what must be told of the connection wherever the site is, such as that what goes to it can be read on the way; ""
// if there is nothing.
func (c Connection) Exposed() string {
	d, err := c.Kit()
	if err != nil || d.Exposed == nil {
		return ""
	}
	return d.Exposed(c.Settings)
}

// Says says in words how the connection is secured, where that is not as usual.
func (c Connection) Says() string {
	d, err := c.Kit()
	if err != nil {
		return ""
	}
	return d.Says(c.Settings)
}

// Open makes a driver of the site. Nothing is asked of it: what is wrong with the connection, such as that somebody changed its
// file by hand, is the answer to whatever is.
func (c Connection) Open() site.Site {
	d, err := c.Kit()
	if err != nil {
		return driver.Shut(c.Site, err)
	}
	s, err := d.Open(driver.Terms{Site: c.Site, Values: c.values(), Patience: time.Duration(c.Timeout * float64(time.Second)), Renew: c.Renew, Dial: c.dial})
	if err != nil {
		return driver.Shut(c.Site, err)
	}
	return s
}

// Describe asks the site what it offers. One that does not say what kind of a site it is is what the connection says.
func (c Connection) Describe(ctx context.Context) (*estate.Site, error) {
	s, err := c.Open().Describe(ctx)
	if err == nil && s.Kind == "" {
		s.Kind = c.Kind
	}
	return s, err
}

// Surveyor is the site as one that can be surveyed.
func (c Connection) Surveyor() (site.Surveyor, error) {
	s, ok := c.Open().(site.Surveyor)
	if !ok {
		return nil, fault.Refusedf("%s cannot be surveyed: its driver does not know how", c.Site)
	}
	return s, nil
}

// Console opens the serial console of an instance of the site, by the site's id of it.
func (c Connection) Console(ctx context.Context, instance string) (io.ReadWriteCloser, error) {
	s, ok := site.Can[site.Consoler](ctx, c.Open())
	if !ok {
		return nil, fault.Refusedf("%s has no serial consoles that could be opened from here; a shell may do", c.Site)
	}
	return s.Console(ctx, instance)
}

// Holds reports that sites of the connection's driver can hold things of a kind.
func (c *Connection) Holds(kind kinds.Kind) bool {
	d, err := c.Kit()
	return err == nil && slices.Contains(d.Kinds, kind)
}

// Access asks what the connection's credential may do.
func (c Connection) Access(ctx context.Context) (site.Access, error) {
	s, err := c.Surveyor()
	if err != nil {
		return site.Access{}, err
	}
	return s.Access(ctx)
}

// UnmarshalJSON reads a connection, of before there were drivers too.
func (c *Connection) UnmarshalJSON(data []byte) error {
	type plain Connection
	var was struct {
		URL         string `json:"url"`
		Authorities string `json:"authorities"`
		Pin         string `json:"pin"`
		Certificate string `json:"certificate"`
		Insecure    bool   `json:"insecure"`
	}
	if err := json.Unmarshal(data, (*plain)(c)); err != nil {
		return err
	}
	if c.Settings != nil {
		return nil
	}
	if err := json.Unmarshal(data, &was); err != nil {
		return err
	}
	v := driver.Values{"url": was.URL, "authority": was.Authorities, "pin": was.Pin, "certificate": was.Certificate}
	if was.Insecure {
		v["insecure"] = driver.On
	}
	return c.Tell(v)
}
