// Package mapping makes records of what sites tell: each site has types and attributes of its own, and a file that
// administrators extend says which class and attributes they are here.
//
// In go a mapping file (YAML or JSON, schemas/mapping.schema.json) and observations; out come records of package
// inventory, and mistakes that name the entry and attribute. Expressions are of the Common Expression Language, bounded in
// cost.
package mapping

import (
	_ "embed"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"

	"andamio/internal/core/estate"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
)

// Version is the format that [Read] accepts.
const Version = "andamio.mapping/1"

// File is a mapping.
type File struct {
	Version   string          `json:"version"`
	Classes   []Entry         `json:"classes"`
	Authority inventory.Rules `json:"authority,omitempty"`
}

// Entry maps one type of a site to a class.
type Entry struct {
	// Type is the site's, * any; Site bounds it to one site; When is a further condition.
	Type  string     `json:"type"`
	Site  string     `json:"site,omitempty"`
	When  string     `json:"when,omitempty"`
	Class kinds.Kind `json:"class"`
	// Attributes say what becomes of what the site tells; Tags is how the names of attributes begin that are tags.
	Attributes map[string]Attribute `json:"attributes"`
	Tags       string               `json:"tags,omitempty"`
	// Relations lead by their kind to what the thing's source or target is, or what an expression gives: an id.
	Relations map[string]string `json:"relations,omitempty"`
	// Into, source or target, has the attributes go to the record of that instead of making one.
	Into string `json:"into,omitempty"`
	// Serial is the attribute that holds the maker's serial number.
	Serial string `json:"serial,omitempty"`

	// except are sites that are not meant.
	except    []string
	when      cel.Program
	programs  map[string]cel.Program
	relations map[string]cel.Program
}

// Attribute is where a record's attribute comes from: one of From and Value. Unit is the unit that it comes in.
type Attribute struct {
	From  string `json:"from,omitempty"`
	Value string `json:"value,omitempty"`
	Unit  string `json:"unit,omitempty"`
}

// Observation is one thing as a site tells it.
type Observation struct {
	Site, Region, Account string
	// Type is the site's word for what it is; State is active, stopped, failed or building.
	Type, ID, Name, Mark, State string
	Mixins                      []string
	Source, Target              string
	Raw                         map[string]string
	Seen                        time.Time
}

//go:embed default.yaml
var shipped []byte

// Default is what every mapping goes over: it takes what is found within instances, at sites of every kind.
var Default = sync.OnceValue(func() *File {
	f, err := Read(shipped)
	if err != nil {
		panic(err) // it is part of the program, and a test reads it
	}
	return f
})

// costLimit bounds the work of one expression.
const costLimit = 20_000

// Read reads a mapping and checks it: every mistake is in the error.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("this is no mapping: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	var errs []error
	for i := range f.Classes {
		errs = append(errs, f.Classes[i].prepare(env, fmt.Sprintf("classes[%d]", i))...)
	}
	for name, a := range f.Authority {
		switch a {
		case inventory.ByDeclared, inventory.ByRecorded, inventory.ByObserved, inventory.ByNobody:
		default:
			errs = append(errs, fmt.Errorf("authority.%s: %q is none; there are declared, recorded, observed and nobody", name, a))
		}
	}
	return &f, errors.Join(errs...)
}

// prepare compiles an entry and says what is wrong with it.
func (e *Entry) prepare(env *cel.Env, where string) []error {
	var errs []error
	wrong := func(what, format string, args ...any) {
		errs = append(errs, fmt.Errorf("%s.%s: %s", where, what, fmt.Sprintf(format, args...)))
	}
	if e.Type == "" {
		wrong("type", "is missing: which of the site's types is meant, or * for any")
	}
	if e.Into != "" && e.Into != "source" && e.Into != "target" {
		wrong("into", "%q is neither source nor target", e.Into)
	}
	if e.Class == "" && e.Into == "" {
		wrong("class", "is missing: there are %v", inventory.Classes)
	}
	compile := func(what, text string, want *cel.Type) cel.Program {
		p, err := compile(env, text, want)
		if err != nil {
			wrong(what, "%v", err)
		}
		return p
	}
	if e.When != "" {
		e.when = compile("when", e.When, cel.BoolType)
	}
	e.programs, e.relations = map[string]cel.Program{}, map[string]cel.Program{}
	for _, name := range slices.Sorted(maps.Keys(e.Attributes)) {
		a := e.Attributes[name]
		what := "attributes." + name
		if (a.From == "") == (a.Value == "") {
			wrong(what, "has either from or value")
		}
		if err := checkUnit(name, a.Unit); err != nil {
			wrong(what, "%v", err)
		}
		if a.Value != "" {
			e.programs[name] = compile(what, a.Value, nil)
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(e.Relations)) {
		e.relations[kind] = compile("relations."+kind, e.Relations[kind], nil)
	}
	return errs
}

// Over is the mapping with another's entries before its own, and the other's authorities.
func (f *File) Over(base *File) *File {
	out := &File{Version: Version, Classes: slices.Concat(f.Classes, base.Classes), Authority: maps.Clone(base.Authority)}
	if out.Authority == nil {
		out.Authority = inventory.Rules{}
	}
	maps.Copy(out.Authority, f.Authority)
	return out
}

// Except is the mapping for all sites but some.
func (f *File) Except(sites []string) *File {
	out := *f
	out.Classes = slices.Clone(f.Classes)
	for i := range out.Classes {
		out.Classes[i].except = slices.Concat(out.Classes[i].except, sites)
	}
	return &out
}

// Records maps observations, as many as can be. Errors say what could not be worked out, each once.
func (f *File) Records(all []Observation) (inventory.Records, []error) {
	var out inventory.Records
	var errs []error
	at := map[string]int{}
	var links []inventory.Record
	for i := range all {
		r, taken, err := f.Record(&all[i])
		if err != nil && len(errs) < maxErrors {
			errs = append(errs, err)
		}
		switch {
		case !taken:
		case r.Class == "":
			links = append(links, r)
		default:
			at[r.ID] = len(out)
			out = append(out, r)
		}
	}
	for _, l := range links {
		if i, known := at[l.ID]; known {
			for k, v := range l.Attributes {
				out[i].Set(k, v)
			}
			out[i].Relations = append(out[i].Relations, l.Relations...)
		}
	}
	return out, errs
}

// maxErrors bounds how many mistakes of one mapping are told.
const maxErrors = 20

// Record maps an observation; false if no entry takes it. Errors say which attributes could not be worked out; the
// record has the others.
func (f *File) Record(o *Observation) (inventory.Record, bool, error) {
	for i := range f.Classes {
		e := &f.Classes[i]
		takes, err := e.takes(o)
		if err != nil {
			return inventory.Record{}, false, err
		}
		if takes {
			r, err := e.record(o)
			return r, true, err
		}
	}
	return inventory.Record{}, false, nil
}

func (e *Entry) takes(o *Observation) (bool, error) {
	if e.Type != "*" && e.Type != o.Type || e.Site != "" && e.Site != o.Site || slices.Contains(e.except, o.Site) {
		return false, nil
	}
	if e.when == nil {
		return true, nil
	}
	v, _, err := e.when.Eval(o.values())
	if err != nil {
		return false, fmt.Errorf("%s %s: when: %w", o.Type, o.ID, err)
	}
	is, _ := v.Value().(bool)
	return is, nil
}

func (e *Entry) record(o *Observation) (inventory.Record, error) {
	mark, _, _ := strings.Cut(o.Mark, " #")
	r := inventory.Record{ID: o.Site + "/" + o.ID, Class: e.Class, Name: o.Name, Site: o.Site, Region: o.Region, Provider: o.ID, Mark: mark,
		Serial: o.Raw[e.Serial], Attributes: map[string]string{}, Origin: inventory.Origin{Account: o.Account}, Seen: o.Seen}
	switch e.Into {
	case "source":
		r.ID = o.Site + "/" + o.Source
	case "target":
		r.ID = o.Site + "/" + o.Target
	}
	var errs []error
	for name, a := range e.Attributes {
		text, err := e.attribute(name, a, o)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s %s, attribute %s: %w", o.Type, o.ID, name, err))
			continue
		}
		r.Set(name, text)
	}
	for k, v := range o.Raw {
		if name, tag := strings.CutPrefix(k, e.Tags); e.Tags != "" && tag {
			r.Set(inventory.TagPrefix+name, v)
		}
	}
	for kind, p := range e.relations {
		v, _, err := p.Eval(o.values())
		if err != nil {
			errs = append(errs, fmt.Errorf("%s %s, relation %s: %w", o.Type, o.ID, kind, err))
		} else if id := textOf(v.Value()); id != "" {
			if !strings.Contains(id, "/") { // what is at another site says so
				id = o.Site + "/" + id
			}
			r.Relations = append(r.Relations, inventory.Relation{Kind: kind, To: id})
		}
	}
	return r.Normal(), errors.Join(errs...)
}

func (e *Entry) attribute(name string, a Attribute, o *Observation) (string, error) {
	text := o.Raw[a.From]
	if p := e.programs[name]; p != nil {
		v, _, err := p.Eval(o.values())
		if err != nil {
			return "", err
		}
		text = textOf(v.Value())
	}
	return convert(text, a.Unit, unitOf(name))
}

// values are what expressions see.
func (o *Observation) values() map[string]any {
	return map[string]any{"type": o.Type, "name": o.Name, "site": o.Site, "region": o.Region, "state": o.State,
		"mixins": o.Mixins, "source": o.Source, "target": o.Target, "raw": o.Raw}
}
