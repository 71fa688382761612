package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/pflag"

	"andamio/internal/service/workspace"
)

// settings are the options that say what a driver is told: one for each field of each driver. Secrets come from files, from the
// environment or from the keyboard, and are never arguments.
type settings struct {
	driver   string
	texts    map[string]*string
	switches map[string]*bool
}

// add adds the options to a command's.
func (o *settings) add(f *pflag.FlagSet) {
	o.texts, o.switches = map[string]*string{}, map[string]*bool{}
	names := workspace.DriverNames()
	oneOf(f, &o.driver, "driver", names[0], "what the site speaks: "+strings.Join(names, ", "), names...)
	for _, d := range workspace.Drivers() {
		for _, field := range d.Fields() {
			if o.texts[field.Name] != nil || o.switches[field.Name] != nil {
				continue // of another driver, which calls it the same
			}
			switch name := field.Name; {
			case field.Switch:
				o.switches[name] = f.Bool(name, false, field.About)
			case field.Secret && !field.File:
				o.texts[name] = f.String(name+"-file", "", "file that holds the "+field.About)
			default:
				o.texts[name] = f.String(name, "", field.About)
			}
		}
	}
}

// needed are the options that a driver needs.
func needed(d *workspace.Driver) []string {
	var out []string
	for _, f := range d.Fields() {
		if f.Needed && !f.Secret {
			out = append(out, "--"+f.Name)
		}
	}
	return out
}

// missing are the options that are needed and were not given.
func (o *settings) missing(d *workspace.Driver) []string {
	var out []string
	for _, f := range d.Fields() {
		if f.Needed && !f.Secret && *o.texts[f.Name] == "" {
			out = append(out, "--"+f.Name)
		}
	}
	return out
}

// values are what the options say, without the secrets that are asked for.
func (o *settings) values(d *workspace.Driver) (workspace.Values, error) {
	out := workspace.Values{}
	for name, on := range o.switches {
		if *on {
			out[name] = workspace.On
		}
	}
	for name, text := range o.texts {
		f := d.Field(name)
		if *text == "" || f != nil && f.Secret && !f.File {
			continue
		}
		value := *text
		if f != nil {
			var err error
			if value, err = f.Given(value); err != nil {
				return nil, err
			}
		}
		out[name] = value
	}
	return out, nil
}

// secrets are the secrets that are asked for.
func (s *shared) secrets(d *workspace.Driver, o *settings) (workspace.Values, error) {
	out := workspace.Values{}
	for _, f := range d.Fields() {
		if !f.Secret || f.File {
			continue
		}
		text, err := s.fieldSecret(&f, *o.texts[f.Name])
		if err != nil {
			return nil, err
		}
		out[f.Name] = text
	}
	return out, nil
}

// environment is the variable that gives a secret field.
func environment(f *workspace.Field) string {
	return "ANDAMIO_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
}

// fieldSecret reads a secret from a file, the environment, or the keyboard without showing it.
func (s *shared) fieldSecret(f *workspace.Field, file string) (string, error) {
	if file != "" {
		text, err := workspace.ReadSmallFile(file)
		return strings.TrimSpace(text), err
	}
	if v := s.env(environment(f)); v != "" || !f.Needed {
		return v, nil
	}
	text, err := s.secret("credential (not shown): ")
	if err != nil {
		return "", usageError{fmt.Errorf("there is no credential: name its file with --%s-file, or give it as %s in the environment", f.Name, environment(f))}
	}
	return text, nil
}
