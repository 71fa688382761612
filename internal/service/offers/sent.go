package offers

import (
	"context"
	"path"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/offer"
	"andamio/internal/core/tosca"
	"andamio/internal/service/templates"
)

// Whoever is elsewhere sends a template with the files of its offers in it, since nothing of theirs is here.

// PublishSent checks an offer whose file comes with a template that somebody sent, at a path in it, and makes it available as [Service.Publish] does. The template that the file names is the one that was sent.
func (svc *Service) PublishSent(ctx context.Context, t *templates.Template, file string) (out Offer, report *Report, err error) {
	text, err := t.File(file)
	if err != nil {
		return Offer{}, nil, err
	}
	err = svc.desk.Do(ctx, guard.MakeOffer, guard.Named(nameIn(text)), func() error {
		o, err := offer.Read(text)
		if err != nil {
			return fault.Default(fault.Invalid, err)
		}
		if at := path.Join(path.Dir(file), o.Template); at != t.Root && at != path.Dir(t.Root) {
			return fault.Invalidf("template: from %s %s leads to %s, and the template that was sent is %s", file, o.Template, at, t.Root)
		}
		if report, err = svc.inside().check(ctx, o, t); err != nil {
			return err
		}
		report.Offer.Template = templates.SentName
		out, report, err = svc.publishChecked(ctx, report)
		return err
	})
	return out, report, err
}

// MakeFile is the file of an offer of a template that somebody sent, as a beginning, to be put into the folder offers beside the template; nothing is written here.
func (svc *Service) MakeFile(ctx context.Context, name string, t *templates.Template, preset string, changed tosca.Inputs) (text []byte, err error) {
	err = svc.desk.Do(ctx, guard.MakeOffer, guard.Named(name), func() (err error) {
		text, err = svc.fileOf(name, t, path.Join("..", t.Root), preset, changed)
		return err
	})
	return text, err
}
