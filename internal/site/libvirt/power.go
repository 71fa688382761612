package libvirt

import (
	"context"
	"fmt"
	"time"

	"github.com/digitalocean/go-libvirt"

	"andamio/internal/site"
)

// grace is how long a machine has to shut itself down before it is switched off: less than a call may take.
const grace = 12 * time.Second

// power switches a machine. One that is told to stop is asked to shut down, and switched off if it does not.
func (h *host) power(ctx context.Context, id, action string) error {
	return h.within(ctx, grace+h.patience, action, func(ctx context.Context, l *libvirt.Libvirt) error {
		m, err := domainOf(l, id)
		if err != nil {
			return err
		}
		conflict := func(why string) error {
			return &site.Error{Site: h.site, Doing: action, Class: site.Conflict, Detail: "it is " + why + " already"}
		}
		switch action {
		case "start", site.ActReclaim:
			switch {
			case m.state == libvirt.DomainPaused:
				return l.DomainResume(m.Domain)
			case m.on():
				return conflict("on")
			}
			_, err = l.DomainCreateWithFlags(m.Domain, 0)
			return err
		case "stop":
			if !m.on() {
				return conflict("off")
			}
			return shutdown(ctx, l, m)
		case site.ActSuspend:
			if m.state == libvirt.DomainPaused {
				return conflict("suspended")
			}
			return l.DomainSuspend(m.Domain)
		}
		return &site.Error{Site: h.site, Doing: action, Class: site.Refused, Detail: fmt.Sprintf("machines cannot %s", action)}
	})
}

// shutdown asks a machine to shut down, again and again since one that is starting does not hear it, and switches it off in the end.
func shutdown(ctx context.Context, l *libvirt.Libvirt, m *domain) error {
	if m.state == libvirt.DomainPaused {
		return l.DomainDestroyFlags(m.Domain, 0)
	}
	again := time.NewTicker(200 * time.Millisecond)
	defer again.Stop()
	for end, n := time.Now().Add(grace), 0; time.Now().Before(end); n++ {
		if n%10 == 0 {
			if err := l.DomainShutdownFlags(m.Domain, libvirt.DomainShutdownAcpiPowerBtn); err != nil && !is(err, libvirt.ErrOperationInvalid) {
				return err
			}
		}
		state, _, err := l.DomainGetState(m.Domain, 0)
		if err != nil || libvirt.DomainState(state) == libvirt.DomainShutoff {
			return err
		}
		select {
		case <-again.C:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	err := l.DomainDestroyFlags(m.Domain, 0)
	if is(err, libvirt.ErrOperationInvalid) {
		return nil // it went in the last moment
	}
	return err
}
