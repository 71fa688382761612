package crash

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/kinds"
	"andamio/internal/core/offer"
	"andamio/internal/core/quota"
	"andamio/internal/service/requests"
	"andamio/internal/store"
)

// asker is who asks for things in a life, and offered what they ask for: the design, by its word.
const (
	asker   = "ibo"
	offered = "the-design"
)

// publish offers the design, and bounds how much everybody may have.
func (l *life) publish(ctx context.Context) error {
	if _, err := l.a.Offer(ctx, offered, 0); err == nil {
		return nil
	}
	text := fmt.Sprintf("version: andamio.offer/1\noffer: %s\ntitle: The design\ntemplate: %q\nquestions: [ { input: word, ask: Which word? }, { input: fronts, ask: How many fronts?, from: 1, to: 3 } ]\n", offered, l.place)
	if _, _, err := l.a.Publish(ctx, []byte(text), filepath.Dir(l.place)); err != nil {
		return err
	}
	_, err := l.a.SetQuotas(ctx, []byte("version: andamio.quotas/1\nquotas: [ { quota: own, each: person, most: { instances: 1000, cores: 1000, disk_gib: 100000 } } ]\n"))
	return err
}

// ask has somebody ask for the design, answer it otherwise now and then, withdraw it or be refused, or be given it.
func (l *life) ask(ctx context.Context, _ int64) error {
	if err := l.publish(ctx); err != nil {
		return err
	}
	as := l.a.As(app.Actor{Name: asker, Way: app.ByScreen})
	answers := func() offer.Answers {
		return offer.Answers{"word": []string{"one", "two", "three"}[l.r.IntN(3)], "fronts": fmt.Sprint(1 + l.r.IntN(3))}
	}
	given := answers()
	r, err := as.AskFor(ctx, requests.Asked{Offer: offered, Answers: given})
	if err != nil {
		return err
	}
	for l.r.IntN(2) == 0 {
		if other := answers(); other["word"] != given["word"] {
			given = other
			if r, err = as.Reanswer(ctx, r.ID, given, ""); err != nil {
				return err
			}
		}
	}
	switch l.r.IntN(5) {
	case 0:
		_, err = as.TakeBack(ctx, r.ID, "")
		return err
	case 1:
		_, err = l.a.Answer(ctx, r.ID, false, "not now")
		return err
	}
	if r, err = l.a.Answer(ctx, r.ID, true, ""); err != nil {
		return err
	}
	if r.State != store.RequestBuilt {
		return fmt.Errorf("request %d was approved and is %s", r.ID, r.State)
	}
	if err := l.finish(ctx, r.Run); err != nil {
		return err
	}
	return l.stands(ctx, r.Name, given["word"])
}

// quotasHold compares what is taken of quotas with what stands of what was asked for.
func (l *life) quotasHold(ctx context.Context) error {
	all, err := l.a.Deployments(ctx)
	if err != nil {
		return err
	}
	want := map[quota.Measure]int64{}
	for i := range all {
		if all[i].Owner.Person != asker || all[i].Stand.Plan == nil {
			continue
		}
		for k := range all[i].Stand.Plan.Resources {
			r := &all[i].Stand.Plan.Resources[k]
			if r.Kind == kinds.Instance && !r.Off {
				want[quota.Instances]++
				want[quota.Cores] += int64(r.AsInstance().Cores)
			}
		}
	}
	uses, err := l.a.Uses(ctx, time.Now())
	if err != nil {
		return err
	}
	var wrong []error
	for _, u := range uses {
		if u.Account != "own/"+asker || u.Measure != quota.Instances && u.Measure != quota.Cores {
			continue
		}
		if got := u.Used + u.Paused; got != want[u.Measure] || u.Held != 0 {
			wrong = append(wrong, fmt.Errorf("%d %s stand of what %s asked for; of the quota %d are used, %d held, %d paused", want[u.Measure], u.Measure, asker, u.Used, u.Held, u.Paused))
		}
		delete(want, u.Measure)
	}
	for m, n := range want {
		if n > 0 {
			wrong = append(wrong, fmt.Errorf("%d %s stand of what %s asked for, and nothing of it is taken of their quota", n, m, asker))
		}
	}
	return errors.Join(wrong...)
}
