package libvirt

import (
	"fmt"
	"strings"

	"github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
	"libvirt.org/go/libvirtxml"

	"andamio/internal/site"
)

// domain is a machine as its host describes it.
type domain struct {
	libvirt.Domain
	state libvirt.DomainState
	def   libvirtxml.Domain
	marks map[string]mark
}

func (m *domain) id() string { return uuid.UUID(m.UUID).String() }

// on reports that the machine runs, or stands still in the middle of it.
func (m *domain) on() bool {
	return m.state != libvirt.DomainShutoff && m.state != libvirt.DomainCrashed && m.state != libvirt.DomainNostate
}

// title is the machine's name as people know it.
func (m *domain) title() string {
	if own, is := m.marks[""]; is {
		return own.Name
	}
	if m.def.Title != "" {
		return m.def.Title
	}
	return m.Name
}

// both has a change made for now, where the machine is on, and for every start from now on.
func (m *domain) both() libvirt.DomainModificationImpact {
	if m.on() {
		return libvirt.DomainAffectLive | libvirt.DomainAffectConfig
	}
	return libvirt.DomainAffectConfig
}

// disk is the machine's disk of a path.
func (m *domain) disk(path string) *libvirtxml.DomainDisk {
	if m.def.Devices == nil {
		return nil
	}
	for i := range m.def.Devices.Disks {
		if d := &m.def.Devices.Disks[i]; sourceOf(d) == path {
			return d
		}
	}
	return nil
}

// sourceOf is where a disk is kept at its host.
func sourceOf(d *libvirtxml.DomainDisk) string {
	switch s := d.Source; {
	case s == nil:
		return ""
	case s.File != nil:
		return s.File.File
	case s.Block != nil:
		return s.Block.Dev
	}
	return ""
}

// nic is the machine's interface of a hardware address.
func (m *domain) nic(mac string) *libvirtxml.DomainInterface {
	if m.def.Devices == nil {
		return nil
	}
	for i := range m.def.Devices.Interfaces {
		if n := &m.def.Devices.Interfaces[i]; n.MAC != nil && strings.EqualFold(n.MAC.Address, mac) {
			return n
		}
	}
	return nil
}

// states are those of machines, and the words for them.
var states = map[libvirt.DomainState]struct {
	state site.State
	word  string
}{
	libvirt.DomainRunning: {site.Active, "running"}, libvirt.DomainBlocked: {site.Active, "running"}, libvirt.DomainPaused: {site.Suspended, "paused"},
	libvirt.DomainShutdown: {site.Active, "in shutdown"}, libvirt.DomainShutoff: {site.Stopped, "shut off"}, libvirt.DomainCrashed: {site.Failed, "crashed"},
	libvirt.DomainPmsuspended: {site.Suspended, "suspended by its system"}, libvirt.DomainNostate: {site.Failed, "no state"},
}

// domains are all machines of a host, with their states asked for at once.
func (h *host) domains(l *libvirt.Libvirt) ([]domain, error) {
	stats, err := l.ConnectGetAllDomainStats(nil, uint32(libvirt.DomainStatsState), 0)
	if err != nil {
		return nil, err
	}
	out := make([]domain, 0, len(stats))
	for _, s := range stats {
		if onTrial(s.Dom.Name) {
			continue
		}
		m := domain{Domain: s.Dom}
		for _, p := range s.Params {
			if n, is := p.Value.I.(int32); is && p.Field == libvirt.DomainStatsStateState {
				m.state = libvirt.DomainState(n)
			}
		}
		text, err := l.DomainGetXMLDesc(m.Domain, 0)
		if absent(err) {
			continue // it went since it was listed
		}
		if err == nil {
			err = h.read(&m, text)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, m)
	}
	return out, nil
}

// described is what a definition was read as.
type described struct {
	text  string
	def   libvirtxml.Domain
	marks map[string]mark
}

// mostDescribed bounds how many are remembered.
const mostDescribed = 10_000

// read reads the definition of a machine, or remembers what the same text was read as: a survey asks for all machines several times, and
// reading them takes longer than asking. What is remembered is never changed.
func (h *host) read(m *domain, text string) error {
	h.mu.Lock()
	was := h.described[m.UUID]
	h.mu.Unlock()
	if was != nil && was.text == text {
		m.def, m.marks = was.def, was.marks
		return nil
	}
	if err := m.readAs(text); err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.described == nil || len(h.described) >= mostDescribed {
		h.described = map[libvirt.UUID]*described{}
	}
	h.described[m.UUID] = &described{text, m.def, m.marks}
	return nil
}

// domainOf is one machine.
func domainOf(l *libvirt.Libvirt, id string) (*domain, error) {
	u, err := uuidOf(id)
	if err != nil {
		return nil, err
	}
	of, err := l.DomainLookupByUUID(u)
	if err != nil {
		return nil, err
	}
	m := &domain{Domain: of}
	n, _, err := l.DomainGetState(of, 0)
	if err != nil {
		return nil, err
	}
	m.state = libvirt.DomainState(n)
	return m, m.describe(l)
}

// describe reads how the machine is defined now.
func (m *domain) describe(l *libvirt.Libvirt) error {
	text, err := l.DomainGetXMLDesc(m.Domain, 0)
	if err != nil {
		return err
	}
	return m.readAs(text)
}

func (m *domain) readAs(text string) error {
	if err := m.def.Unmarshal(text); err != nil {
		return fmt.Errorf("%w: %w", errUnread, err)
	}
	m.marks = map[string]mark{}
	if m.def.Metadata != nil {
		m.marks = marksIn(m.def.Metadata.XML)
	}
	return nil
}
