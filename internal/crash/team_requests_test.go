package crash

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/run"
	"andamio/internal/service/requests"
	"andamio/internal/store"
)

// offeredByTeam is what the team is asked for.
const offeredByTeam = "level-log"

// offer offers a small service.
func (m *team) offer(ctx context.Context) error {
	text := fmt.Sprintf("version: andamio.offer/1\noffer: %s\ntitle: A log of levels\ntemplate: level-log\n", offeredByTeam)
	examples, err := filepath.Abs("../../examples")
	if err != nil {
		return err
	}
	_, _, err = m.a.Publish(ctx, []byte(text), examples)
	return err
}

// request asks for a service, has it be decided at one machine and built by whoever does that, and takes it away at another.
func (m *team) request() error {
	ctx := m.t.Context()
	as := m.a.As(app.Actor{Name: asker, Way: app.ByScreen}) // nobody decides what they ask for themselves
	asked, err := as.AskFor(ctx, requests.Asked{Offer: offeredByTeam})
	if err != nil {
		return err
	}
	id := asked.ID
	decided := func() (bool, error) {
		r, err := whileItFails(func() (requests.View, error) { return m.a.Request(ctx, id) })
		return r.State != store.RequestWaiting, err
	}
	if err := m.given(decided, "decide", strconv.FormatInt(id, 10), "--yes"); err != nil {
		return err
	}
	if err := m.built(ctx, id); err != nil {
		return err
	}
	return m.act("retire", asked.Name, "--confirm", asked.Name, "--detach")
}

// built waits until a request that was approved is built by itself, once.
func (m *team) built(ctx context.Context, id int64) error {
	for until := time.Now().Add(comesToStand); ; <-time.After(100 * time.Millisecond) {
		r, err := m.a.Request(ctx, id)
		if err != nil {
			return err
		}
		if r.State == store.RequestBuilt && r.Run != 0 {
			if of, err := m.a.Run(ctx, r.Run); err == nil && of.State == run.Standing {
				return m.stands()
			}
		}
		if time.Now().After(until) {
			return fmt.Errorf("request %d was approved, and is %s with run %d after %s: %s", id, r.State, r.Run, comesToStand, m.told())
		}
	}
}
