package libvirt

import (
	"bytes"
	"context"
	"encoding/hex"
	"io"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
	"libvirt.org/go/libvirtxml"
)

// A host may say that it runs machines with KVM, and its device may open, and still no machine come to an end of starting: where the host is itself a machine, it
// was seen to stop in the middle of its firmware. So KVM is used where a small machine without disks, which nobody else sees, has run through its firmware and
// looked for something to start from. It is tried once for each host, when it is needed.

// trialName is how machines are called that are on trial; others of that name are nobody's either.
const trialName = "andamio-trial-"

// onTrial reports that a machine is there to be tried alone.
func onTrial(name string) bool { return strings.HasPrefix(name, trialName) }

// tried is how long a machine on trial has, where most take half a second.
const tried = 6 * time.Second

// through are what firmwares (SeaBIOS) say when they have come to their end.
var through = [][]byte{[]byte("Booting from"), []byte("Boot failed"), []byte("No bootable device")}

// verdict is what a trial came to.
type verdict struct{ known, good bool }

// accelerated reports that machines of a host are to run with KVM: it has it, a machine has really run under it, and nobody said otherwise.
func (d *Driver) accelerated(ctx context.Context, h *host) (bool, error) {
	if d.emulated {
		return false, nil
	}
	h.trying.Lock()
	defer h.trying.Unlock()
	if h.kvm.known {
		return h.kvm.good, nil
	}
	says, err := told(ctx, h, "ask for KVM", func(_ context.Context, l *libvirt.Libvirt) (bool, error) {
		text, err := l.ConnectGetCapabilities()
		return strings.Contains(text, "<domain type='kvm'"), err
	})
	if err != nil {
		return false, err
	}
	good := says && h.runs(ctx, "kvm", tried)
	if ctx.Err() != nil {
		return false, h.failed("try KVM", ctx.Err()) // nothing is known
	}
	h.kvm = verdict{known: true, good: good}
	return good, nil
}

// runs reports that a machine of a kind runs through its firmware in time. Whatever keeps it from that, it does not.
func (h *host) runs(ctx context.Context, kind string, most time.Duration) bool {
	ctx, cancel := context.WithTimeout(ctx, most+h.patience)
	defer cancel()
	text, err := trialMachine(kind).Marshal()
	if err != nil {
		return false
	}
	good, err := answer(ctx, h, most+h.patience, "try KVM", func(ctx context.Context, l *libvirt.Libvirt) (bool, error) {
		m, err := l.DomainCreateXML(text, libvirt.DomainStartPaused|libvirt.DomainStartAutodestroy) // so that it goes with us, whatever becomes of us
		if err != nil {
			return false, err
		}
		defer func() { _ = l.DomainDestroyFlags(m, 0) }()
		c, err := h.openConsole(ctx, m)
		if err != nil {
			return false, err
		}
		defer c.Close()
		if err := l.DomainResume(m); err != nil {
			return false, err
		}
		over := time.AfterFunc(most, func() { c.conn.Close() })
		defer over.Stop()
		return firmwareEnds(c), nil
	})
	return err == nil && good
}

// firmwareEnds reports that a firmware came to its end, by what is read of its console.
func firmwareEnds(c io.Reader) bool {
	var said []byte
	part := make([]byte, 512)
	for len(said) < 64<<10 {
		n, err := c.Read(part)
		said = append(said, part[:n]...)
		for _, words := range through {
			if bytes.Contains(said, words) {
				return true
			}
		}
		if err != nil {
			return false
		}
	}
	return false
}

// trialMachine is a machine with nothing but a serial console, to which its firmware speaks.
func trialMachine(kind string) *libvirtxml.Domain {
	id, port := uuid.New(), uint(0)
	cpu := map[bool]string{true: "host-passthrough", false: "maximum"}[kind == "kvm"]
	return &libvirtxml.Domain{
		Type: kind, UUID: id.String(), Name: trialName + hex.EncodeToString(id[:4]), Memory: &libvirtxml.DomainMemory{Value: 64, Unit: "MiB"}, VCPU: &libvirtxml.DomainVCPU{Value: 1},
		OS:       &libvirtxml.DomainOS{Type: &libvirtxml.DomainOSType{Arch: "x86_64", Machine: "pc", Type: "hvm"}, BIOS: &libvirtxml.DomainBIOS{UseSerial: "yes"}},
		Features: &libvirtxml.DomainFeatureList{ACPI: &libvirtxml.DomainFeature{}, APIC: &libvirtxml.DomainFeatureAPIC{}}, CPU: &libvirtxml.DomainCPU{Mode: cpu},
		OnPoweroff: "destroy", OnReboot: "destroy", OnCrash: "destroy",
		Devices: &libvirtxml.DomainDeviceList{Serials: []libvirtxml.DomainSerial{{Source: &libvirtxml.DomainChardevSource{Pty: &libvirtxml.DomainChardevSourcePty{}},
			Target: &libvirtxml.DomainSerialTarget{Port: &port}}}},
	}
}
