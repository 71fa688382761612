// Package driver says what a driver is: one value with all that screens, commands and files need to know of a kind of site,
// so that none of them knows any by name. Package drivers lists those there are.
package driver

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/reach"
	"andamio/internal/site"
)

// Values are what a connection says to its driver, by the names of the fields. What is not said is not there.
type Values map[string]string

// Field is one thing that a driver is told.
type Field struct {
	// Name is what files and options of commands call it, of small letters and hyphens.
	Name string
	// Word is how people write it within an answer of several; "" for a field that is an answer by itself.
	Word string
	// Takes is what stands after the word, FILE where it is empty and a file is meant; About says in a line what it is.
	Takes, About string
	// Needed fields must be said.
	Needed bool
	// Secret fields are kept in the vault, and neither shown nor written nor taken as arguments.
	Secret bool
	// File fields are given as the name of a file whose text is kept.
	File bool
	// Switch fields are said or not said; their value is [On].
	Switch bool
	// Check says what is wrong with a text, or what it comes to; nil takes any.
	Check func(text string) (string, error)
}

// On is the value of a [Field.Switch] that is said.
const On = "true"

// Question asks people for fields, in one answer. Of several fields each is a word and its text, between commas.
type Question struct {
	// Word is the question in a word, Text in a line, and About what is to be known of it.
	Word, Text, About string
	Fields            []Field
	// Unsaid is what it comes to where nothing is said.
	Unsaid string
}

// Secret reports that an answer must not be shown.
func (q *Question) Secret() bool { return len(q.Fields) == 1 && q.Fields[0].Secret }

// Single is the question's field, if it has one alone; else nil.
func (q *Question) Single() *Field {
	if len(q.Fields) == 1 {
		return &q.Fields[0]
	}
	return nil
}

// Terms are those on which a site is opened.
type Terms struct {
	// Site is the site's name.
	Site   string
	Values Values
	// Patience is for how long one call may be unanswered; 0 is the driver's own.
	Patience time.Duration
	// Renew says what the credential is by now, when the site does not take the one there is: somebody may have changed
	// it. nil knows no other.
	Renew func() string
	// Dial reaches the site and what is at it; nil is from here.
	Dial reach.Dialer
}

// Driver is a kind of site.
type Driver struct {
	// Name is what files and commands call it; About says in a line which sites speak it.
	Name, About string
	Questions   []Question
	// Address and Credential are the names of the fields that say where the site is, and of the secret one that
	// [site.Surveyor.Rotate] changes; "" where there is none, since whoever reaches the site may do what it can.
	Address, Credential string
	// Check says what is wrong with values that are each right by themselves; nil finds nothing.
	Check func(Values) error
	// Exposed says what must be told of a connection for ever, such as that it is in clear, "" if nothing is; Guards says how
	// else it is secured. nil says nothing.
	Exposed func(Values) string
	Guards  func(Values) []string
	// Open makes a driver of one site. It asks the site nothing.
	Open func(Terms) (site.Site, error)
	// Kinds are those of things that its sites can hold.
	Kinds []kinds.Kind
	// Mapping is the text of the file that makes records of what its sites tell, see package mapping.
	Mapping []byte
}

// Fields are all that the driver is told.
func (d *Driver) Fields() []Field {
	var out []Field
	for i := range d.Questions {
		out = append(out, d.Questions[i].Fields...)
	}
	return out
}

// Field is the field of a name; nil if there is none.
func (d *Driver) Field(name string) *Field {
	for i := range d.Questions {
		for k := range d.Questions[i].Fields {
			if f := &d.Questions[i].Fields[k]; f.Name == name {
				return f
			}
		}
	}
	return nil
}

// Secrets are the names of the secret fields.
func (d *Driver) Secrets() []string {
	var out []string
	for _, f := range d.Fields() {
		if f.Secret {
			out = append(out, f.Name)
		}
	}
	return out
}

// Normal is what values come to, or all that is wrong with them. Secrets that are not there are not missed: they are asked for
// last.
func (d *Driver) Normal(v Values) (Values, error) {
	out := Values{}
	var errs []error
	for _, name := range slices.Sorted(maps.Keys(v)) {
		if d.Field(name) == nil && v[name] != "" {
			errs = append(errs, fmt.Errorf("sites that speak %s are not told %q", d.Name, name))
		}
	}
	for _, f := range d.Fields() {
		text, err := f.normal(v[f.Name])
		errs = append(errs, err)
		if text != "" {
			out[f.Name] = text
		}
	}
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	if d.Check != nil {
		return out, d.Check(out)
	}
	return out, nil
}

// normal is what the text of a field comes to.
func (f *Field) normal(text string) (string, error) {
	switch {
	case text == "" && f.Needed && !f.Secret:
		return "", fmt.Errorf("%s is missing: %s", f.Name, f.About)
	case text == "":
		return "", nil
	case f.Switch && text != On:
		return "", fmt.Errorf("%s is %s or not said, not %q", f.Name, On, text)
	case f.Check == nil:
		return text, nil
	}
	return f.Check(text)
}

// Says says in words how a connection is secured; what must be told for ever comes first.
func (d *Driver) Says(v Values) string {
	var out []string
	if d.Exposed != nil {
		if text := d.Exposed(v); text != "" {
			out = append(out, text)
		}
	}
	if d.Guards != nil {
		out = append(out, d.Guards(v)...)
	}
	return strings.Join(out, " · ")
}
