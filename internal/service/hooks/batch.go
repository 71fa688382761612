package hooks

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/hook"
	"andamio/internal/notice"
	"andamio/internal/store"
)

// mostTogether bounds how many events are sent in one request.
const mostTogether = 100

// tellTogether sends an event with what else waits of its hook, in as few requests as receivers take. Where a service refuses several, each is sent alone, so that one that is not wanted
// keeps no other back.
func (svc *Service) tellTogether(ctx context.Context, h *hook.Hook, first store.Delivery, now time.Time) error {
	more, err := svc.store.TakeDeliveriesOf(ctx, h.Name, mostTogether-1, now)
	all := append([]store.Delivery{first}, more...)
	if err != nil {
		return errors.Join(err, svc.settleAll(ctx, all, err))
	}
	texts := make([]json.RawMessage, len(all))
	for i := range all {
		out, err := cloudEvent(&all[i].Event)
		if err == nil {
			texts[i], err = json.Marshal(out)
		}
		if err != nil {
			return errors.Join(err, svc.settleAll(ctx, all, err))
		}
	}
	for len(all) > 0 {
		n := notice.Together(texts)
		err = errors.Join(err, svc.tellBatch(ctx, h, all[:n], texts[:n]))
		all, texts = all[n:], texts[n:]
	}
	return err
}

// tellBatch sends some events in one request, and notes what came of each.
func (svc *Service) tellBatch(ctx context.Context, h *hook.Hook, of []store.Delivery, texts []json.RawMessage) error {
	err := svc.signed(ctx, h, func(secret string) error {
		return answered(notice.PostBatch(ctx, client(), h.Call, secret, texts, time.Now()))
	})
	if len(of) == 1 || fault.CodeOf(err) != fault.Refused {
		return svc.settleAll(ctx, of, err)
	}
	err = nil
	for i := range of {
		err = errors.Join(err, svc.tellBatch(ctx, h, of[i:i+1], texts[i:i+1]))
	}
	return err
}

// settleAll notes the same of several.
func (svc *Service) settleAll(ctx context.Context, of []store.Delivery, told error) (err error) {
	for i := range of {
		of[i].Note = ""
		svc.outcome(&of[i], told, time.Now())
		err = errors.Join(err, svc.store.SettleDelivery(context.WithoutCancel(ctx), of[i]))
	}
	return err
}
