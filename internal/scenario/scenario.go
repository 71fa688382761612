// Package scenario furnishes a demo with those who are at Ribera Flood Watch: who is in which team, what each may have, what is offered to them,
// and what they have asked for. All of it is done through the services, as they would do it.
package scenario

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"andamio/examples"
	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/offer"
	"andamio/internal/durable"
	"andamio/internal/service/requests"
)

// Engineer is who sits at the demo.
const Engineer = "ana"

// Prepare writes who there is, with whoever is at the keyboard as the engineer, and what each may have. A workspace that has a directory of
// teams is left as it is, and false.
func Prepare(ctx context.Context, a *app.App) (bool, error) {
	d, err := a.Directory()
	if err != nil || d != nil {
		return false, err
	}
	user := a.Actor().Name
	teams, err := read("flood-watch/teams.yaml")
	if err != nil {
		return false, err
	}
	text := teams
	for name := range people {
		of := name
		switch {
		case name == Engineer:
			of = user
		case name == user: // a user of the machine who is called as somebody of the scenario is the engineer all the same
			of = name + "-elsewhere"
		}
		text = strings.Replace(text, "user: "+name+",", fmt.Sprintf("user: %q,", of), 1)
	}
	if _, err := guard.ReadDirectory([]byte(text)); err != nil {
		return false, err
	}
	for _, set := range []struct {
		file string
		do   func([]byte) error
	}{
		{"quotas", func(text []byte) error { _, err := a.SetQuotas(ctx, text); return err }},
		{"approvals", func(text []byte) error { _, err := a.SetApprovals(ctx, text); return err }},
		{"levels", func(text []byte) error { _, err := a.SetLevels(ctx, text); return err }},
		{"rates", func(text []byte) error { _, err := a.SetRates(ctx, text); return err }},
	} {
		if _, err := os.Stat(filepath.Join(a.Opened().Dir, set.file+".yaml")); err == nil {
			continue // somebody wrote their own
		}
		text, err := read("flood-watch/" + set.file + ".yaml")
		if err != nil {
			return false, err
		}
		if err := set.do([]byte(text)); err != nil {
			return false, fmt.Errorf("%s: %w", set.file, err)
		}
	}
	_, err = a.SetDirectory(ctx, []byte(text)) // last: from now on everybody else is asked who they are
	return err == nil, err
}

// people are those of the scenario.
var people = map[string]bool{"ana": true, "eva": true, "ibo": true, "lia": true, "teo": true}

func read(name string) (string, error) {
	data, err := fs.ReadFile(examples.Files, name)
	return string(data), err
}

// Offers publishes what is offered, from files that are written to a folder and can be changed there.
func Offers(ctx context.Context, a *app.App, dir string) error {
	if err := write("offers", dir); err != nil {
		return err
	}
	all, err := filepath.Glob(filepath.Join(dir, "*.yaml"))
	if err != nil {
		return err
	}
	engineer := as(a, Engineer)
	for _, file := range all {
		if _, err := engineer.Offer(ctx, strings.TrimSuffix(filepath.Base(file), ".yaml"), 0); err == nil {
			continue // it was published before
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		if _, _, err := engineer.Publish(ctx, text, dir); err != nil {
			return fmt.Errorf("%s: %w", filepath.Base(file), err)
		}
	}
	return nil
}

// write writes a folder of the scenario where it can be changed; what was written before stays.
func write(from, to string) error {
	return fs.WalkDir(examples.Files, from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		at := filepath.Join(to, rel)
		if d.IsDir() {
			return durable.Folder(at)
		}
		if _, err := os.Stat(at); err == nil {
			return nil
		}
		data, err := fs.ReadFile(examples.Files, path)
		if err != nil {
			return err
		}
		return durable.Write(at, data)
	})
}

func as(a *app.App, who string) *app.App {
	return a.As(app.Actor{Name: who, Way: app.ByCommand})
}

// wish is what somebody of the scenario asks for, and what becomes of it.
type wish struct {
	who     string
	offer   string
	answers offer.Answers
	why     string
	then    func(ctx context.Context, a *app.App, r requests.Request) error
}

// wishes are of every fate: built by rule, refused by a quota and by a person, withdrawn, waiting for Lia, and for whoever may approve.
var wishes = []wish{
	{"eva", "gauge-node", offer.Answers{"reach": "upper weir"}, "the ice broke the old one", nil},
	{"ibo", "trial-map", offer.Answers{"fronts": "2", "first": "level 2.30 m"}, "for the open day", nil},
	{"ibo", "trial-map", offer.Answers{"fronts": "3"}, "for the school", nil},
	{"teo", "worker-pool", offer.Answers{"workers": "6", "cores": "8"}, "to reckon the spring again", refused("Not now: these may be needed for the storm.")},
	{"teo", "worker-pool", offer.Answers{"workers": "4", "cores": "2"}, "a second basin", withdrawn("the first basin will do")},
	{"teo", "worker-pool", offer.Answers{"workers": "2", "cores": "4"}, "the river rises at the weir", nil},
	{"teo", "worker-pool", offer.Answers{"workers": "6", "cores": "8"}, "a storm comes on Thursday", said("Levels are up by half a metre since noon.")},
}

func refused(words string) func(context.Context, *app.App, requests.Request) error {
	return func(ctx context.Context, a *app.App, r requests.Request) error {
		_, err := as(a, "lia").Answer(ctx, r.ID, false, words)
		return err
	}
}

func withdrawn(words string) func(context.Context, *app.App, requests.Request) error {
	return func(ctx context.Context, a *app.App, r requests.Request) error {
		_, err := as(a, r.Person).TakeBack(ctx, r.ID, words)
		return err
	}
}

func said(words string) func(context.Context, *app.App, requests.Request) error {
	return func(ctx context.Context, a *app.App, r requests.Request) error {
		return as(a, r.Person).SayOf(ctx, r.ID, words)
	}
}

// Requests has everybody ask for what they need, one after another. What was asked for before is not asked for again.
func Requests(ctx context.Context, a *app.App) error {
	all, err := as(a, Engineer).Requests(ctx)
	if err != nil {
		return err
	}
	for _, w := range wishes {
		asked := false
		for i := range all {
			asked = asked || all[i].Person == w.who && all[i].Why == w.why
		}
		if asked {
			continue
		}
		r, err := as(a, w.who).AskFor(ctx, requests.Asked{Offer: w.offer, Answers: w.answers, Why: w.why})
		if err != nil && r.ID == 0 && fault.CodeOf(err) != fault.Refused {
			return errors.Join(fmt.Errorf("%s asked for %s", w.who, w.offer), err)
		}
		if w.then != nil {
			if err := w.then(ctx, a, r); err != nil {
				return err
			}
		}
	}
	return nil
}
