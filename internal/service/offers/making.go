package offers

import (
	"context"
	"errors"
	"io/fs"
	"maps"
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
	dir, place, modes := filepath.Join(home, folder), t.Dir, private
	if t.Folder != "" {
		dir, place, modes = filepath.Join(t.Folder, folder), filepath.Join("..", t.Root), shared
	}
	text, err := svc.fileOf(name, t, place, preset, changed)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(dir, name+".yaml")
	if err := modes.write(path, text); err != nil {
		return nil, err
	}
	return svc.inside().OfferFile(ctx, path)
}

// fileOf is the file of an offer of a template with the inputs that it has.
func (svc *Service) fileOf(name string, t *templates.Template, place, preset string, changed tosca.Inputs) ([]byte, error) {
	p, err := t.Preset(preset)
	if err != nil {
		return nil, err
	}
	given := tosca.Inputs{}
	maps.Copy(given, p.Inputs)
	maps.Copy(given, changed)
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
	if err := errors.Join(err, made.CheckAgainst(t.Template)); err != nil { // before anybody has it
		return nil, fault.Default(fault.Invalid, err)
	}
	return text, nil
}

// modes are those of a folder and of the files in it.
type modes struct{ folder, file fs.FileMode }

// What is beside a template is read by whoever reads the template, what is in a workspace by its owner alone.
var (
	shared  = modes{0o755, 0o644}
	private = modes{durable.FolderMode, durable.FileMode}
)

// write writes a file where there is none of its name. A folder that is there stays as it is.
func (m modes) write(path string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), m.folder); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, m.file)
	if errors.Is(err, fs.ErrExist) {
		return fault.Conflictf("%s is there already: another name, or change that file", path)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Close())
}

// OfferFile reads an offer's file and checks it. The offer can be worked out then as if it were published.
func (svc *Service) OfferFile(ctx context.Context, path string) (*File, error) {
	if err := svc.desk.Read("the templates"); err != nil {
		return nil, err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	report, err := svc.inside().CheckOffer(ctx, text, filepath.Dir(path))
	if err != nil {
		return &File{Path: path}, err
	}
	svc.cache.keep(report.template)
	o := Offer{Offer: *report.Offer, Source: report.template.Digest(), By: svc.desk.Actor, Published: time.Now()}
	return &File{path, o, report}, nil
}
