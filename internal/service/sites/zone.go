package sites

import (
	"context"
	"strings"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/names"
	"andamio/internal/service/acting"
)

// ConnectNames tries a zone by publishing a name of no meaning and taking it back, and keeps the zone if that works.
func (svc *Service) ConnectNames(ctx context.Context, z names.Zone) error {
	return svc.desk.Do(ctx, guard.ConnectNames, guard.Named(z.Name), func() error { return svc.connectNames(ctx, z) }, acting.Saying("at %s", z.Server))
}

func (svc *Service) connectNames(ctx context.Context, z names.Zone) error {
	z.Name = strings.TrimSuffix(strings.ToLower(z.Name), ".")
	if err := z.Check(); err != nil {
		return err
	}
	const trial = "andamio-trial"
	z.Owner = trial
	if err := z.Publish(ctx, trial, names.Target{Address: "127.0.0.1"}); err != nil {
		return fault.Refusedf("the zone %s cannot be changed, so it is not kept: %w", z.Name, err)
	}
	if err := z.Withdraw(ctx, trial, nil); err != nil {
		return err
	}
	return svc.workspace.SetZone(z)
}
