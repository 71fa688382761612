package offers

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/offer"
	"andamio/internal/core/tosca"
	"andamio/internal/durable"
	"andamio/internal/service/acting"
	"andamio/internal/service/templates"
)

// File is an offer's file with what came of checking it.
type File struct {
	Path string `json:"path"`
	// Offer is as it would be published now.
	Offer  Offer   `json:"offer"`
	Report *Report `json:"report"`
}

// folder is where offers of a template are, beside it.
const folder = "offers"

// OfferThis makes an offer of a template with the inputs that it has, as a beginning: its file is written beside the template, or in a
// workspace's folder where that cannot be written to, and checked. It is offered to whoever made it alone, until they say to whom else.
func (svc *Service) OfferThis(ctx context.Context, name string, t *templates.Template, preset string, changed tosca.Inputs, home string) (out *File, err error) {
	err = svc.desk.Do(ctx, guard.MakeOffer, guard.Named(name), func() (err error) {
		out, err = svc.offerThis(ctx, name, t, preset, changed, home)
		return err
	}, acting.Saying("its file written"))
	return out, err
}

func (svc *Service) offerThis(ctx context.Context, name string, t *templates.Template, preset string, changed tosca.Inputs, home string) (*File, error) {
	p, err := t.Preset(preset)
	if err != nil {
		return nil, err
	}
	given := tosca.Inputs{}
	for _, inputs := range []tosca.Inputs{p.Inputs, changed} {
		for input, v := range inputs {
			given[input] = v
		}
	}
	dir, place := filepath.Join(home, folder), t.Dir
	if t.Folder != "" {
		dir, place = filepath.Join(t.Folder, folder), filepath.Join("..", t.Root)
	}
	m := offer.Making{Name: name, Template: t.Template, Place: place, Preset: preset, Given: given, Changed: changed}
	if d, err := svc.directory(); err == nil && d != nil {
		m.For = []string{svc.desk.Actor.Name}
	}
	made := offer.Make(m)
	text, err := made.File()
	if err != nil {
		return nil, err
	}
	_, err = offer.Read(text)
	if err := errors.Join(err, made.CheckAgainst(t.Template)); err != nil { // before anything is written
		return nil, fault.Default(fault.Invalid, err)
	}
	path := filepath.Join(dir, name+".yaml")
	if _, err := os.Stat(path); err == nil {
		return nil, fault.Conflictf("%s is there already: another name, or change that file", path)
	}
	if err := durable.Folder(dir); err != nil {
		return nil, err
	}
	if err := durable.Write(path, text); err != nil {
		return nil, err
	}
	return svc.OfferFile(ctx, path)
}

// OfferFile reads an offer's file and checks it. The offer can be worked out then as if it were published.
func (svc *Service) OfferFile(ctx context.Context, path string) (*File, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	report, err := svc.CheckOffer(ctx, text, filepath.Dir(path))
	if err != nil {
		return &File{Path: path}, err
	}
	svc.cache.keep(report.template)
	o := Offer{Offer: *report.Offer, Source: report.template.Digest(), By: svc.desk.Actor, Published: time.Now()}
	return &File{path, o, report}, nil
}
