package inventory

import "andamio/internal/core/kinds"

// The columns of a table that are no attributes.
const (
	columnID       = "id"
	columnClass    = "class"
	columnSite     = "site"
	columnRegion   = "region"
	columnProvider = "provider_id"
	columnMark     = "mark"
	columnSerial   = "serial"
	columnSeen     = "seen"
	columnRel      = "relations"
	columnAccount  = "origin.account"
	columnDeploy   = "origin.deployment"
	columnTemplate = "origin.template"
	columnWho      = "origin.who"
	columnWhen     = "origin.when"
)

// fixed are the columns that every table begins with, in this order.
var fixed = []string{columnID, columnClass, AttrName, columnSite, columnRegion, columnProvider, columnMark, columnSerial, columnSeen,
	columnAccount, columnDeploy, columnTemplate, columnWho, columnWhen, columnRel}

// field is where a column's value goes: a setter for fixed columns, an attribute otherwise.
var setters = map[string]func(r *Record, v string) error{
	columnID:       func(r *Record, v string) error { r.ID = v; return nil },
	columnClass:    func(r *Record, v string) error { r.Class = kinds.Kind(v); return nil },
	AttrName:       func(r *Record, v string) error { r.Name = v; return nil },
	columnSite:     func(r *Record, v string) error { r.Site = v; return nil },
	columnRegion:   func(r *Record, v string) error { r.Region = v; return nil },
	columnProvider: func(r *Record, v string) error { r.Provider = v; return nil },
	columnMark:     func(r *Record, v string) error { r.Mark = v; return nil },
	columnSerial:   func(r *Record, v string) error { r.Serial = v; return nil },
	columnSeen:     func(r *Record, v string) (err error) { r.Seen, err = readTime(v); return err },
	columnAccount:  func(r *Record, v string) error { r.Origin.Account = v; return nil },
	columnDeploy:   func(r *Record, v string) error { r.Origin.Deployment = v; return nil },
	columnTemplate: func(r *Record, v string) error { r.Origin.Template = v; return nil },
	columnWho:      func(r *Record, v string) error { r.Origin.Who = v; return nil },
	columnWhen:     func(r *Record, v string) (err error) { r.Origin.When, err = readTime(v); return err },
	columnRel:      func(r *Record, v string) (err error) { r.Relations, err = readRelations(v); return err },
}

// compared are the fixed columns that count in a digest.
var compared = map[string]bool{columnClass: true, AttrName: true, columnSite: true, columnProvider: true, columnMark: true, columnSerial: true}
