package offers

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/offer"
	"andamio/internal/service/acting"
	"andamio/internal/service/templates"
	"andamio/internal/source"
	"andamio/internal/store"
)

// Offer is a version of an offer as it is kept.
type Offer = store.Offer

// Published is the state of an offer that can be asked for.
const Published = store.OfferPublished

// Offers lists the newest version of every offer that the actor may ask for; whoever may offer sees all, withdrawn ones too.
func (svc *Service) Offers(ctx context.Context) ([]Offer, error) {
	all, err := svc.store.Offers(ctx)
	if err != nil {
		return nil, err
	}
	d, err := svc.directory()
	if err != nil {
		return nil, err
	}
	me := svc.desk.Actor.Name
	if d == nil || d.Has(me, guard.Offer) {
		return all, nil
	}
	return slices.DeleteFunc(all, func(o Offer) bool { return !mayAsk(&o, me, d) }), nil
}

// mayAsk reports that somebody may ask for an offer.
func mayAsk(o *Offer, who string, d *guard.Directory) bool {
	return o.State == store.OfferPublished && o.For(who, d) && (d == nil || d.Has(who, guard.Ask))
}

// Offer is an offer that the actor may ask for, or may offer: its newest version, or the one of a number. To others there is none.
func (svc *Service) Offer(ctx context.Context, name string, number int64) (Offer, error) {
	none := fault.NotFoundf("nothing called %s is offered to you", name)
	versions, err := svc.store.OfferVersions(ctx, name)
	if err != nil {
		return Offer{}, err
	}
	i := 0
	if number != 0 {
		i = slices.IndexFunc(versions, func(o Offer) bool { return o.Number == number })
	}
	if i < 0 || i >= len(versions) {
		return Offer{}, none
	}
	d, err := svc.directory()
	if err != nil {
		return Offer{}, err
	}
	if me := svc.desk.Actor.Name; d != nil && !d.Has(me, guard.Offer) && !mayAsk(&versions[i], me, d) {
		return Offer{}, none
	}
	return versions[i], nil
}

// Version is a version of an offer, for what was asked of it.
func (svc *Service) Version(ctx context.Context, name string, number int64) (Offer, error) {
	return svc.store.Offer(ctx, name, number)
}

// Publish checks an offer, and makes it available to its audience as the template is now, which is looked for from a folder. It takes the
// place of the version before.
func (svc *Service) Publish(ctx context.Context, text []byte, dir string) (out Offer, report *Report, err error) {
	err = svc.desk.Do(ctx, guard.MakeOffer, guard.Named(nameIn(text)), func() (err error) {
		out, report, err = svc.publish(ctx, text, dir)
		return err
	})
	return out, report, err
}

// nameIn is what an offer calls itself, as far as that can be read.
func nameIn(text []byte) string {
	if o, _ := offer.Read(text); o != nil && o.Name != "" {
		return o.Name
	}
	return "an offer"
}

func (svc *Service) publish(ctx context.Context, text []byte, dir string) (Offer, *Report, error) {
	report, err := svc.inside().CheckOffer(ctx, text, dir)
	if err != nil {
		return Offer{}, report, err
	}
	if t := report.template; t.Folder != "" {
		if whole, err := filepath.Abs(t.Dir); err == nil {
			report.Offer.Template = whole // it is looked for from anywhere later
		}
	}
	return svc.publishChecked(ctx, report)
}

// publishChecked makes an offer that was checked available.
func (svc *Service) publishChecked(ctx context.Context, report *Report) (Offer, *Report, error) {
	if len(report.Failed) > 0 {
		f := report.Failed[0]
		return Offer{}, report, fault.Refusedf("%d of %d answers that were tried cannot be had, such as %s: %s", len(report.Failed), report.Tried, Said(f.Answers), f.Why)
	}
	t := report.template
	o := Offer{Offer: *report.Offer, Source: t.Digest(), By: svc.desk.Actor, Published: time.Now()}
	if err := svc.store.KeepSource(ctx, o.Source, t.Kept()); err != nil {
		return Offer{}, report, err
	}
	var err error
	if o.Number, err = svc.store.PublishOffer(ctx, o); err != nil {
		return Offer{}, report, err
	}
	o, err = svc.store.Offer(ctx, o.Name, o.Number)
	return o, report, err
}

// WithdrawOffer has nobody ask for an offer any more. What was made of it stays.
func (svc *Service) WithdrawOffer(ctx context.Context, name string) error {
	return svc.desk.Do(ctx, guard.MakeOffer, guard.Named(name), func() error { return svc.store.WithdrawOffer(ctx, name) }, acting.Saying("withdrawn"))
}

// templateOf is the template of an offer as it was when it was published.
func (svc *Service) templateOf(ctx context.Context, o *Offer) (*templates.Template, error) {
	svc.cache.mu.Lock()
	defer svc.cache.mu.Unlock()
	if t := svc.cache.read[o.Source]; t != nil {
		return t, nil
	}
	files, err := svc.store.Source(ctx, o.Source)
	if err != nil {
		return nil, err
	}
	if files == nil {
		return nil, fault.NotFoundf("the files of the offer %s, version %d, are gone: publish it again", o.Name, o.Number)
	}
	t, err := templates.ReadTemplate(source.Memory(files.Files), o.Template, files.Root)
	if err != nil {
		return nil, err
	}
	if svc.cache.read == nil {
		svc.cache.read = map[string]*templates.Template{}
	}
	svc.cache.read[o.Source] = t
	return t, nil
}

// Changes says in what a version of an offer differs from another, for whoever runs the older one.
func Changes(was, now *Offer) []string {
	var out []string
	say := func(what, a, b string) {
		if a != b {
			out = append(out, fmt.Sprintf("%s: %s → %s", what, orNone(a), orNone(b)))
		}
	}
	if was.Source != now.Source {
		out = append(out, "its template has changed")
	}
	say("title", was.Title, now.Title)
	say("preset", was.Preset, now.Preset)
	say("stage", was.Stage, now.Stage)
	say("sites", strings.Join(was.Sites, ", "), strings.Join(now.Sites, ", "))
	say("service levels", strings.Join(was.Levels, ", "), strings.Join(now.Levels, ", "))
	say("audience", strings.Join(was.Audience, ", "), strings.Join(now.Audience, ", "))
	names := map[string]bool{}
	for name := range was.Inputs {
		names[name] = true
	}
	for name := range now.Inputs {
		names[name] = true
	}
	for _, name := range sorted(names) {
		say(name, offer.Written(was.Inputs[name]), offer.Written(now.Inputs[name]))
	}
	asked := func(o *Offer) map[string]*offer.Question {
		all := map[string]*offer.Question{}
		for i := range o.Questions {
			all[o.Questions[i].Input] = &o.Questions[i]
			names[o.Questions[i].Input] = true
		}
		return all
	}
	a, b := asked(was), asked(now)
	for _, name := range sorted(names) {
		switch x, y := a[name], b[name]; {
		case x == nil && y == nil:
		case x == nil:
			out = append(out, "asks for "+name+" now")
		case y == nil:
			out = append(out, "asks for "+name+" no more")
		default:
			say(name, x.Says(), y.Says())
		}
	}
	return out
}

func orNone(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

func sorted(names map[string]bool) []string {
	var out []string
	for n := range names {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// Said are answers in a line.
func Said(a offer.Answers) string {
	if len(a) == 0 {
		return "its defaults"
	}
	var out []string
	for name, v := range a {
		out = append(out, name+" "+v)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// IsFor reports that an offer, published or not, is for the actor.
func (svc *Service) IsFor(o *Offer) (bool, error) {
	d, err := svc.directory()
	return err == nil && (d == nil || o.For(svc.desk.Actor.Name, d)), err
}
