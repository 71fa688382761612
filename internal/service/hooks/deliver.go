package hooks

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"

	"andamio/internal/bus"
	"andamio/internal/core/fault"
	"andamio/internal/core/hook"
	"andamio/internal/core/printable"
	"andamio/internal/letter"
	"andamio/internal/notice"
	"andamio/internal/store"
)

// How long a service may take to answer, how long whoever sends may be silent before another takes it up, and how many are sent at once.
const (
	callPatience = 15 * time.Second
	silentFor    = 2 * time.Minute
	atOnce       = 4
)

// Deliver tells what was enlisted and is due, and returns how many events that were.
func (svc *Service) Deliver(ctx context.Context, now time.Time) (int, error) {
	f, err := svc.workspace.Hooks()
	if err != nil {
		return 0, err
	}
	var group sync.WaitGroup
	var mu sync.Mutex
	told := 0
	var errs []error
	for range atOnce {
		group.Go(func() {
			for ctx.Err() == nil {
				d, err := svc.store.TakeDelivery(ctx, now, now.Add(-silentFor))
				if err == nil {
					err = svc.tell(ctx, f, d, now)
				}
				mu.Lock()
				if err == nil {
					told++
				} else if !errors.Is(err, store.ErrNotFound) && ctx.Err() == nil {
					errs = append(errs, err)
				}
				mu.Unlock()
				if err != nil {
					return
				}
			}
		})
	}
	group.Wait()
	return told, errors.Join(errs...)
}

// tell tells an event, and notes what came of it.
func (svc *Service) tell(ctx context.Context, f *hook.File, d store.Delivery, now time.Time) error {
	h := f.Hook(d.Hook)
	var err error
	switch {
	case h == nil:
		d.State, d.Note = store.DeliveryFailed, "there is no such hook any more"
		return svc.store.SettleDelivery(ctx, d)
	case h.Script != "":
		d.Note, err = svc.begin(ctx, h, &d.Event)
	case h.Call != "" && h.Mode == hook.Batched:
		return svc.tellTogether(ctx, h, d, now)
	case h.Call != "":
		d.Note, err = "", svc.call(ctx, h, &d.Event)
	case h.Publish != nil:
		d.Note, err = "", svc.publish(ctx, h, &d.Event)
	case d.Note == brokeOff:
		d.State, d.Note = store.DeliveryUnsure, "whoever wrote the letter ended while they did: it may have been taken, and is not written twice"
		return svc.store.SettleDelivery(ctx, d)
	default:
		d.Note, err = svc.write(ctx, f.Mail, h, &d.Event)
	}
	svc.outcome(&d, err, time.Now())
	return svc.store.SettleDelivery(context.WithoutCancel(ctx), d)
}

// brokeOff is the store's note on what was being sent by somebody who is silent.
const brokeOff = "broke off"

// outcome says what becomes of an event that was told, or was not.
func (svc *Service) outcome(d *store.Delivery, err error, now time.Time) {
	var unsure *letter.Unsure
	switch {
	case err == nil:
		d.State = store.DeliverySent
		return
	case errors.As(err, &unsure):
		d.State = store.DeliveryUnsure
	case fault.CodeOf(err) == fault.Refused || d.Tries >= hook.Tries:
		d.State = store.DeliveryFailed
	default:
		d.State, d.Next = store.DeliveryWaiting, now.Add(hook.Again(d.Tries))
	}
	d.Note = printable.Clean(strings.Join(strings.Fields(err.Error()), " "))
	svc.log.Warn("an event was not told", "hook", d.Hook, "event", d.Event.ID, "try", d.Tries, "state", d.State, "err", err)
}

// cloudEvent is an event as others read it. It has the same id however often it is sent.
func cloudEvent(e *hook.Event) (event.Event, error) {
	out := event.New()
	out.SetID(e.ID)
	out.SetType("example.andamio." + string(e.Type))
	out.SetSource("andamio")
	out.SetSubject(e.Name)
	out.SetTime(e.At)
	return out, out.SetData(event.ApplicationJSON, e)
}

// call posts an event to a hook's service, signed.
func (svc *Service) call(ctx context.Context, h *hook.Hook, e *hook.Event) error {
	out, err := cloudEvent(e)
	if err != nil {
		return err
	}
	post := notice.Post
	if h.Mode == hook.Binary {
		post = notice.PostBinary
	}
	return svc.signed(ctx, h, func(secret string) error {
		return answered(post(ctx, client(), h.Call, secret, out, time.Now()))
	})
}

// signed has something sent to a hook's service that is signed with its secret, once the service lets it.
func (svc *Service) signed(ctx context.Context, h *hook.Hook, send func(secret string) error) error {
	secret, err := svc.secret(h.Secret)
	if err != nil {
		return err
	}
	if h.Handshake {
		if err := svc.shake(ctx, h.Call, time.Now()); err != nil {
			return err
		}
	}
	return send(secret)
}

// publish publishes an event on a hook's bus, where a stream keeps it.
func (svc *Service) publish(ctx context.Context, h *hook.Hook, e *hook.Event) error {
	secret, err := svc.secret(h.Secret)
	if err != nil {
		return err
	}
	out, err := cloudEvent(e)
	if err != nil {
		return err
	}
	to := bus.Server{URL: h.Publish.Server, User: h.Publish.User, Secret: secret, Authority: h.Publish.Authority}
	err = svc.memory.publisher.Publish(ctx, to, h.Publish.SubjectOf(e.Type), h.Name+"/"+e.ID, out, h.Mode == hook.Binary)
	if err != nil {
		return fault.Unavailablef("%w", err)
	}
	return nil
}

// grantedFor is for how long a service that lets events be sent is not asked again.
const grantedFor = time.Hour

// origin is who we are to services that are asked whether events may be sent.
const origin = "andamio"

// shake asks a service whether events may be sent to it, unless it was asked of late.
func (svc *Service) shake(ctx context.Context, sink string, now time.Time) error {
	svc.memory.mu.Lock()
	until := svc.memory.granted[sink]
	svc.memory.mu.Unlock()
	if now.Before(until) {
		return nil
	}
	if err := notice.Handshake(ctx, client(), sink, origin); err != nil {
		if errors.Is(err, notice.ErrNotAllowed) {
			return fault.Refusedf("%w", err)
		}
		return fault.Unavailablef("%w", err)
	}
	svc.memory.mu.Lock()
	defer svc.memory.mu.Unlock()
	if svc.memory.granted == nil {
		svc.memory.granted = map[string]time.Time{}
	}
	svc.memory.granted[sink] = now.Add(grantedFor)
	return nil
}

// answered is what a service's answer means: it took the event, it refuses it, or it may take it later.
func answered(resp *http.Response, err error) error {
	if err != nil {
		return fault.Unavailablef("%w", err)
	}
	defer resp.Body.Close()
	words, _ := io.ReadAll(io.LimitReader(resp.Body, mostWords))
	text := strings.TrimSpace(resp.Status + " " + printable.Clean(strings.Join(strings.Fields(string(words)), " ")))
	switch {
	case resp.StatusCode < 300:
		return nil
	case resp.StatusCode == http.StatusConflict:
		return nil // it has it already
	case resp.StatusCode < 500 && resp.StatusCode != http.StatusTooManyRequests && resp.StatusCode != http.StatusRequestTimeout:
		return fault.Refusedf("it says %s", text)
	}
	return fault.Unavailablef("it says %s", text)
}

// mostWords is how much of an answer is read.
const mostWords = 300

func (svc *Service) secret(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	values, err := svc.workspace.Secrets([]string{name})
	if err != nil {
		return "", err
	}
	return values[name], nil
}

// write writes a letter, and says to whom it could not go.
func (svc *Service) write(ctx context.Context, m *hook.Mail, h *hook.Hook, e *hook.Event) (string, error) {
	d, err := svc.workspace.Directory()
	if err != nil {
		return "", err
	}
	to, without := h.To(e, d)
	note := ""
	if len(without) > 0 {
		slices.Sort(without)
		note = "no address of " + strings.Join(slices.Compact(without), ", ")
	}
	if len(to) == 0 {
		return "", fault.Refusedf("there is nobody to write to: %s", note)
	}
	if m == nil {
		return "", fault.Refusedf("nobody said how letters are sent any more")
	}
	password, err := svc.secret(m.Secret)
	if err != nil {
		return "", err
	}
	subject, text := h.Letter(e)
	err = letter.Send(ctx, letter.Server{Address: m.Server, From: m.From, User: m.User, Password: password, Plain: m.Plain},
		letter.Letter{ID: fmt.Sprintf("%s.%s@andamio", e.ID, h.Name), To: to, Subject: subject, Text: text, At: time.Now()})
	return note, err
}

// How often a service is asked whether a run may begin, and how long it is waited in between.
const (
	mostAsked = 3
	askAgain  = 2 * time.Second
)

// MayBegin asks the services of all hooks that a run sets off before it begins. The error says which says no, or does not answer: the run
// does not begin.
func (svc *Service) MayBegin(ctx context.Context, r store.Run) error {
	f, err := svc.workspace.Hooks()
	if err != nil || len(f.Hooks) == 0 {
		return err
	}
	d, err := svc.store.Deployment(ctx, r.Deployment)
	if err != nil {
		return err
	}
	p, err := svc.store.Plan(ctx, r.Plan)
	if err != nil {
		return err
	}
	e := about(d.Owner, &r, &d)
	e.ID, e.Type, e.At, e.Sites = fmt.Sprintf("run-%d-may-begin-%d", r.ID, r.Epoch), hook.RunMayBegin, time.Now(), p.SiteNames()
	set, err := f.Set(&e)
	if err != nil {
		return fault.Refusedf("whether it may begin cannot be worked out: %w", err)
	}
	for _, h := range set {
		if err := svc.ask(ctx, h, &e); err != nil {
			return fmt.Errorf("the hook %s does not let it begin: %w", h.Name, err)
		}
	}
	return nil
}

// ask asks a service, again if it does not answer.
func (svc *Service) ask(ctx context.Context, h *hook.Hook, e *hook.Event) error {
	for try := 1; ; try++ {
		err := svc.call(ctx, h, e)
		if err == nil || fault.CodeOf(err) == fault.Refused || try == mostAsked {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(askAgain):
		}
	}
}
