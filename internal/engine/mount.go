package engine

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/remote"
	"andamio/internal/site"
)

// Some sites put a volume into a machine and do not reach inside it: then we mount it, over the shell, before anything else is done
// there. Where each volume goes is an attribute of its machine: "mount." and the volume, with the device and the place.

func mountOf(volume string) string { return site.AttrMount + "." + volume }

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

// unmounting takes that back. What is not mounted is not.
const unmounting = `grep -q " $place " /proc/mounts && { sync; umount "$place" || exit 1; }
[ ! -f /etc/fstab ] || { grep -v "^$device $place " /etc/fstab >/etc/fstab.new; cat /etc/fstab.new >/etc/fstab; rm -f /etc/fstab.new; }
exit 0
`

// mount mounts the volumes of an instance that are to be, once for each time they are put there.
func (e *Engine) mount(ctx context.Context, s *plan.Step, client *remote.Client, instance string) error {
	for volume, at := range e.mounts(instance) {
		done := instance + " " + volume + " " + at
		e.mu.Lock()
		known := e.mounted[done]
		e.mu.Unlock()
		if known {
			continue
		}
		if err := quietly(ctx, s, client, at, mounting); err != nil {
			return fmt.Errorf("%s could not be mounted on %s: %w", volume, instance, err)
		}
		e.mu.Lock()
		if e.mounted == nil {
			e.mounted = map[string]bool{}
		}
		e.mounted[done] = true
		e.mu.Unlock()
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
const parting = 20 * time.Second

// unmount takes a volume that is to be detached out of the file systems of its machine. A machine that does not answer any more loses it as it is.
func (e *Engine) unmount(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	at, is := e.Attribute(r.ID, mountOf(s.Volume))
	if s.Op != op.Detach || !is || at == "" {
		return nil
	}
	e.mu.Lock()
	maps.DeleteFunc(e.mounted, func(done string, _ bool) bool { return done == r.ID+" "+s.Volume+" "+at })
	e.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, parting)
	defer cancel()
	client, err := e.login(ctx, s, r.ID)
	if err != nil {
		return nil //nolint:nilerr // nobody is there who could let go of it
	}
	return quietly(ctx, s, client, at, unmounting)
}

// quietly runs a short script of ours with the device and the place of a volume.
func quietly(ctx context.Context, s *plan.Step, client *remote.Client, at, script string) error {
	device, place, _ := strings.Cut(at, " ")
	var said bytes.Buffer
	status, err := client.Run(ctx, "sh -s", func(session *ssh.Session) {
		session.Stdin = strings.NewReader(remote.Export("device", device) + remote.Export("place", place) + script)
		session.Stdout, session.Stderr = &said, &said
	})
	if err != nil {
		return &site.Error{Site: s.Site, Doing: "look after " + place, Class: site.Transient, Detail: "the connection broke off", Err: err}
	}
	if status != 0 {
		return fmt.Errorf("it ended with %d: %s", status, strings.TrimSpace(said.String()))
	}
	return nil
}
