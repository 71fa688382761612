package engine

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/remote"
	"andamio/internal/site"
)

// Some sites put a volume into a machine and do not reach inside it: then we mount it, over the shell, before anything else is done
// there. Where each volume goes is an attribute of its machine: "mount." and the volume, with the device and the place.

func mountOf(volume string) string { return site.AttrMount + "." + volume }

// unmapped are the attributes of an interface, with its ports as they are where its site does not say that they are reached elsewhere.
func unmapped(r *plan.Resource, known map[string]string) map[string]string {
	if r.Kind != kinds.Interface || known[site.AttrAddress] == "" || slices.ContainsFunc(slices.Collect(maps.Keys(known)), func(name string) bool { return strings.HasPrefix(name, site.AttrPort) }) {
		return known
	}
	out := maps.Clone(known)
	for _, port := range r.AsInterface().Ports {
		out[site.AttrPort+strconv.Itoa(port)] = strconv.Itoa(port)
	}
	return out
}

// learned is what is learned of a thing that a site built.
func learned(s *plan.Step, got site.Resource) map[string]string {
	where := got.Attributes[site.AttrMount]
	if s.Op != op.Attach || where == "" {
		return got.Attributes
	}
	out := maps.Clone(got.Attributes)
	delete(out, site.AttrMount)
	out[mountOf(s.Volume)] = got.Attributes[site.AttrDevice] + " " + where
	return out
}

// forgotten is what is not so any more of a thing that was removed.
func forgotten(s *plan.Step) map[string]string {
	out := map[string]string{siteID(s): ""}
	if s.Op == op.Detach {
		out[mountOf(s.Volume)] = ""
	}
	return out
}

// mounting mounts a device at a place for now and for every start from now on. What holds nothing yet is given a file system first: all
// zeros for as far as any keeps its own description. It does no harm to do it again.
const mounting = `set -e
n=0
while [ ! -b "$device" ]; do
	[ $n -lt 100 ] || { echo "the disk $device is not there"; exit 1; }
	n=$((n + 1)); sleep 0.1
done
mkdir -p "$place"
grep -q " $place " /proc/mounts && exit 0
if [ "$(dd if="$device" bs=65536 count=4 2>/dev/null | tr -d '\000' | head -c 1 | wc -c)" -eq 0 ]; then
	mkfs.ext4 -q "$device"
fi
mount "$device" "$place"
grep -q "^$device $place " /etc/fstab 2>/dev/null || echo "$device $place auto defaults,nofail 0 2" >>/etc/fstab
`

// unmounting takes that back. What is not mounted is not. Where something still uses it, it says what that is; from a machine that goes itself it is taken
// all the same, once all is written.
const unmounting = `if grep -q " $place " /proc/mounts; then
	sync
	if ! umount "$place"; then
		if [ -n "$goes" ]; then
			umount -l "$place" || exit 1
		else
			for p in $(fuser -m "$place" 2>/dev/null); do echo "in use by $(tr '\000' ' ' <"/proc/$p/cmdline")"; done
			exit 1
		fi
	fi
fi
[ ! -f /etc/fstab ] || { grep -v "^$device $place " /etc/fstab >/etc/fstab.new; cat /etc/fstab.new >/etc/fstab; rm -f /etc/fstab.new; }
exit 0
`

// mount mounts the volumes of an instance that are to be, once for each time they are put there.
func (e *Engine) mount(ctx context.Context, s *plan.Step, client *remote.Client, instance string) error {
	for volume, at := range e.mounts(instance) {
		done := instance + " " + volume + " " + at
		if e.marked(done) {
			continue
		}
		if err := quietly(ctx, s, client, at, mounting); err != nil {
			return fmt.Errorf("%s could not be mounted on %s: %w", volume, instance, err)
		}
		e.markDone(done)
	}
	return nil
}

// mounts are the volumes of an instance that we mount, with device and place.
func (e *Engine) mounts(instance string) map[string]string {
	e.mu.Lock()
	defer e.mu.Unlock()
	r := e.state.Resource(instance)
	if r == nil {
		return nil
	}
	out := map[string]string{}
	for name, v := range r.Attributes {
		if volume, is := strings.CutPrefix(name, mountOf("")); is && v != "" {
			out[volume] = v
		}
	}
	return out
}

// parting is how long a machine has to let go of a file system.
const parting = 15 * time.Second

// part takes the volumes that the plan detaches from an instance out of its file systems, before they or the interface by which it is
// reached are taken away, whichever comes first. A machine that does not answer any more loses them as they are.
func (e *Engine) part(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	instance := r.ID
	switch {
	case s.Op == op.Unplug && r.Kind == kinds.Interface:
		instance = r.AsInterface().Instance
	case s.Op != op.Detach:
		return nil
	}
	e.parts.Lock()
	defer e.parts.Unlock()
	for volume, at := range e.mounts(instance) {
		done := "away " + instance + " " + volume + " " + at
		if !e.detaches(instance, volume) || e.marked(done) {
			continue
		}
		if err := e.unmount(ctx, s, instance, at); err != nil {
			return fmt.Errorf("%s could not be unmounted on %s: %w", volume, instance, err)
		}
		e.markDone(done)
	}
	return nil
}

// detaches reports that the plan takes a volume from an instance.
func (e *Engine) detaches(instance, volume string) bool {
	return slices.ContainsFunc(e.Plan.Steps, func(s plan.Step) bool { return s.Op == op.Detach && s.Resource == instance && s.Volume == volume })
}

// removes reports that the plan removes an instance.
func (e *Engine) removes(instance string) bool {
	return slices.ContainsFunc(e.Plan.Steps, func(s plan.Step) bool { return s.Op == op.Remove && s.Resource == instance })
}

func (e *Engine) unmount(ctx context.Context, s *plan.Step, instance, at string) error {
	ctx, cancel := context.WithTimeout(ctx, parting)
	defer cancel()
	client, err := e.login(ctx, s, instance)
	if err != nil {
		return nil //nolint:nilerr // nobody is there who could let go of it
	}
	goes := map[bool]string{true: "yes"}[e.removes(instance)]
	if err = quietly(ctx, s, client, at, remote.Export("goes", goes)+unmounting); site.ClassOf(err) == site.Transient {
		return nil
	}
	return err
}

// marked reports that something of a machine was done in this run; markDone says so.
func (e *Engine) marked(what string) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.mounted[what]
}

func (e *Engine) markDone(what string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.mounted == nil {
		e.mounted = map[string]bool{}
	}
	e.mounted[what] = true
}

// quietly runs a short script of ours with the device and the place of a volume.
func quietly(ctx context.Context, s *plan.Step, client *remote.Client, at, script string) error {
	device, place, _ := strings.Cut(at, " ")
	var said, complained bytes.Buffer // two, since they are written at once
	status, err := client.Run(ctx, "sh -s", func(session *ssh.Session) {
		session.Stdin = strings.NewReader(remote.Export("device", device) + remote.Export("place", place) + script)
		session.Stdout, session.Stderr = &said, &complained
	})
	if err != nil {
		return &site.Error{Site: s.Site, Doing: "look after " + place, Class: site.Transient, Detail: "the connection broke off", Err: err}
	}
	if status != 0 {
		return site.Final(fmt.Errorf("it ended with %d: %s", status, strings.TrimSpace(complained.String()+said.String())))
	}
	return nil
}
