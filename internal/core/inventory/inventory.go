// Package inventory knows what there is: records of things, which observation is which record, and where what is
// declared, what is recorded and what is observed disagree.
//
// In go three sources of records: what the deployments say, what the inventory says and what surveys saw, each a slice
// in memory or a table read from a file. Out comes a [Report]: findings, ranked, with the reason for each, and what the
// inventory takes over by itself. Nothing here asks a site or changes anything.
//
// Values are text in a canonical form: numbers without trailing zeros, memory and disk in GiB, money per hour. An
// attribute with an empty value is the same as no attribute.
package inventory

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
)

// Classes are the classes that ship, in the order in which people look for them.
var Classes = []kinds.Kind{kinds.Instance, kinds.Volume, kinds.Network, kinds.Interface, kinds.Snapshot, kinds.Address, kinds.Balancer, kinds.Image, kinds.Host, kinds.Hardware, kinds.Software, kinds.Service}

// Attributes that the computation itself reads; every other one is only compared.
const (
	AttrName     = "name"
	AttrState    = "state"
	AttrZone     = "zone"
	AttrHost     = "host"
	AttrCores    = "cores"
	AttrMemory   = "memory_gib"
	AttrDisk     = "disk_gib"
	AttrSize     = "size"
	AttrImage    = "image"
	AttrHostname = "hostname"
	AttrMAC      = "mac"
	AttrAddress  = "address"
	AttrInside   = "inside_address"
	AttrAttached = "attached_to"
	AttrInstance = "instance"
	AttrNetwork  = "network"
	AttrService  = "service"
	AttrCost     = "cost_per_hour"
	AttrPorts    = "ports"
	// TagPrefix begins the attributes that are tags.
	TagPrefix = "tag."
)

// Relation leads from a record to another, by its id.
type Relation struct {
	Kind string `json:"kind"`
	To   string `json:"to"`
}

// The kinds of relation.
const (
	RunsOn     = "runs-on"
	AttachedTo = "attached-to"
	LinkedTo   = "linked-to"
	ConnectsTo = "connects-to"
	PartOf     = "part-of"
)

// Origin is where a record comes from.
type Origin struct {
	// Account is the name of the credential that saw it, Deployment and Template what made it, Who and When who entered
	// it, and when.
	Account    string    `json:"account,omitempty"`
	Deployment string    `json:"deployment,omitempty"`
	Template   string    `json:"template,omitempty"`
	Who        string    `json:"who,omitempty"`
	When       time.Time `json:"when,omitzero"`
}

// Record is what is said of one thing.
type Record struct {
	// ID is the source's own: the inventory's for records, the deployment's and resource's for what is declared, the
	// site's for observations.
	ID    string     `json:"id"`
	Class kinds.Kind `json:"class"`
	Name  string     `json:"name"`
	Site  string     `json:"site"`
	// Region is the part of the site that is surveyed by itself, "" where there is but one.
	Region string `json:"region,omitempty"`
	// Provider is the site's id, Mark ours at the site, Serial the maker's: whatever agrees in one of them is the same.
	Provider string `json:"provider_id,omitempty"`
	Mark     string `json:"mark,omitempty"`
	Serial   string `json:"serial,omitempty"`
	// Attributes by name; tags are those that begin with "tag.".
	Attributes map[string]string `json:"attributes,omitempty"`
	Relations  []Relation        `json:"relations,omitempty"`
	Origin     Origin            `json:"origin,omitzero"`
	// Seen is when it was observed last.
	Seen time.Time `json:"seen,omitzero"`
}

// Value is an attribute, the name among them; false if the record says nothing of it.
func (r *Record) Value(attribute string) (string, bool) {
	if attribute == AttrName {
		return r.Name, r.Name != ""
	}
	v, ok := r.Attributes[attribute]
	return v, ok && v != ""
}

// Set sets an attribute; "" removes it.
func (r *Record) Set(attribute, value string) {
	switch {
	case attribute == AttrName:
		r.Name = value
	case value == "":
		delete(r.Attributes, attribute)
	default:
		if r.Attributes == nil {
			r.Attributes = map[string]string{}
		}
		r.Attributes[attribute] = value
	}
}

// Number is an attribute as a number, 0 if it is none.
func (r *Record) Number(attribute string) float64 {
	v, _ := strconv.ParseFloat(r.Attributes[attribute], 64)
	return v
}

// Cost is what it costs an hour, as far as the record says.
func (r *Record) Cost() money.Amount { return money.Of(r.Number(AttrCost)) }

// Clone is a copy that shares nothing.
func (r Record) Clone() Record {
	r.Attributes = maps.Clone(r.Attributes)
	r.Relations = slices.Clone(r.Relations)
	return r
}

// Normal is the record without empty attributes, with relations in order: two records that say the same are equal.
func (r Record) Normal() Record {
	r = r.Clone()
	maps.DeleteFunc(r.Attributes, func(_, v string) bool { return v == "" })
	if len(r.Attributes) == 0 {
		r.Attributes = nil
	}
	slices.SortFunc(r.Relations, func(a, b Relation) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.To, b.To)) })
	r.Relations = slices.Compact(r.Relations)
	r.Seen, r.Origin.When = r.Seen.UTC().Round(0), r.Origin.When.UTC().Round(0)
	if len(r.Relations) == 0 {
		r.Relations = nil
	}
	return r
}

// Tags are the record's tags by name, without the prefix.
func (r *Record) Tags() map[string]string {
	out := map[string]string{}
	for k, v := range r.Attributes {
		if name, is := strings.CutPrefix(k, TagPrefix); is {
			out[name] = v
		}
	}
	return out
}

// Number writes a number in the canonical form.
func Number(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }
