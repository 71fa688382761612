#!/bin/sh
# Runs a libvirt daemon of its own, beside the machine's: whatever it keeps is in FOLDER, which is laid over the places where it looks for
# it, for this process and its children alone. Usage: unshare -m host.sh FOLDER
set -eu
at=$1
mount --make-rprivate /
ip link set lo up # it may have networks of its own
cp /etc/passwd "$at/passwd"
cp /etc/group "$at/group"
grep -q '^libvirt-qemu:' "$at/passwd" || echo 'libvirt-qemu:x:64055:64055::/nonexistent:/usr/sbin/nologin' >>"$at/passwd"
grep -q '^libvirt-qemu:' "$at/group" || echo 'libvirt-qemu:x:64055:' >>"$at/group"
mount --bind "$at/passwd" /etc/passwd
mount --bind "$at/group" /etc/group
for pair in etc:/etc/libvirt run:/run/libvirt lib:/var/lib/libvirt cache:/var/cache/libvirt log:/var/log/libvirt; do
	mkdir -p "$at/${pair%%:*}" "${pair#*:}"
	mount --bind "$at/${pair%%:*}" "${pair#*:}"
done
exec libvirtd -f /etc/libvirt/libvirtd.conf -p "$at/run/libvirtd.pid"
