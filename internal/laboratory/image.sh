#!/bin/sh
# Makes a small image that boots: a kernel for clouds, busybox and OpenSSH from Debian's packages, and scripts of our own that read a
# NoCloud seed. Usage: image.sh FOLDER-OF-GUEST-SCRIPTS IMAGE. Nothing is mounted and nobody need be root for it.
set -eu
guest=$(cd "$1" && pwd)
out=$2
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
root=$work/root
mkdir -p "$root" "$work/debs" "$work/boot" "$work/early"

kernel=$(apt-cache depends linux-image-cloud-amd64 | awk '/Depends: linux-image/ { print $2; exit }')
[ -n "$kernel" ] || { apt-get update -qq && kernel=$(apt-cache depends linux-image-cloud-amd64 | awk '/Depends: linux-image/ { print $2; exit }'); }
[ -n "$kernel" ] || { echo "Debian's package lists name no kernel for clouds" >&2; exit 1; }
# What sshd is linked with, of these packages.
libraries="libc6 libcrypt1 libwrap0 libaudit1 libcap-ng0 libpam0g libsystemd0 libselinux1 libpcre2-8-0 libgssapi-krb5-2 libkrb5-3 libk5crypto3
 libkrb5support0 libkeyutils1 libcom-err2 libssl3 zlib1g libnsl2 libtirpc3 libcap2 libgcrypt20 libgpg-error0 liblzma5 libzstd1 liblz4-1"
# shellcheck disable=SC2086
(cd "$work/debs" && apt-get -qq -o APT::Sandbox::User=root download "$kernel" busybox-static openssh-server openssh-sftp-server openssh-client e2fsprogs libext2fs2 libblkid1 libuuid1 libss2 psmisc $libraries)
for deb in "$work"/debs/*.deb; do
	case $deb in
	*/linux-image*) dpkg -x "$deb" "$work/kernel" ;;
	*) dpkg -x "$deb" "$root" ;;
	esac
done

# The kernel, and of its modules those that a virtual machine needs.
version=$(ls "$work/kernel/lib/modules")
cp "$work/kernel/boot/vmlinuz-$version" "$work/boot/vmlinuz"
from=$work/kernel/lib/modules/$version
depmod -b "$work/kernel" "$version"
early=$work/early
mkdir -p "$early/bin" "$early/dev" "$early/proc" "$early/sys" "$early/root" "$early/modules"
cp "$root/bin/busybox" "$early/bin/busybox"
: >"$early/modules/order"
for name in virtio_pci virtio_blk virtio_net virtio_console isofs evdev button; do
	for file in $(modprobe -d "$work/kernel" -S "$version" --show-depends "$name" | awk '$1 == "insmod" { print $2 }'); do
		cp "$file" "$early/modules/"
		grep -qx "$(basename "$file")" "$early/modules/order" || basename "$file" >>"$early/modules/order"
	done
done
cp "$guest/early" "$early/init"
chmod 755 "$early/init"
(cd "$early" && find . | cpio -o -H newc --quiet -R 0:0) | gzip -1 >"$work/boot/initrd"

# What is not needed to run, and what is ours.
rm -rf "$root/usr/share" "$root/usr/lib/systemd" "$root/lib/systemd" "$root/etc/init.d" "$root/etc/pam.d" "$root/usr/lib/x86_64-linux-gnu/gconv" "$root/etc/ssh/sshd_config"
mkdir -p "$root/boot/grub" "$root/proc" "$root/sys" "$root/dev" "$root/run" "$root/tmp" "$root/root/.ssh" "$root/var/log" "$root/var/lib" "$root/etc/acpi" "$root/run/sshd" "$root/srv"
chmod 700 "$root/root" "$root/root/.ssh"
chmod 1777 "$root/tmp"
cp "$work/boot/vmlinuz" "$work/boot/initrd" "$root/boot/"
cp -R "$guest/etc/." "$root/etc/"
chmod 755 "$root/etc/udhcpc" "$root/etc/boot" "$root/etc/links" "$root/etc/disks" "$root/etc/acpi/PWRF/00000080"
printf 'root:x:0:0:root:/root:/bin/sh\nsshd:x:100:65534::/run/sshd:/bin/false\nnobody:x:65534:65534:nobody:/:/bin/false\n' >"$root/etc/passwd"
printf 'root:x:0:\nnogroup:x:65534:\n' >"$root/etc/group"
printf 'root:*:19000:0:99999:7:::\nsshd:!:19000::::::\nnobody:*:19000::::::\n' >"$root/etc/shadow"
chmod 600 "$root/etc/shadow"
for applet in $("$root/bin/busybox" --list-full); do
	[ -e "$root/$applet" ] || { mkdir -p "$root/$(dirname "$applet")"; ln -s /bin/busybox "$root/$applet"; }
done
ln -sf /bin/busybox "$root/sbin/init"

# A disk of one partition, which begins after 1 MiB; the loader stands in the room before it.
size=${SIZE_MIB:-192}
truncate -s "${size}M" "$work/disk"
mke2fs -q -t ext4 -O ^metadata_csum,^64bit -L root -d "$root" -E offset=1048576,root_owner=0:0 "$work/disk" $(( (size - 1) * 1024 ))k
cat >"$work/grub.cfg" <<'G'
set root=(hd0,msdos1)
linux /boot/vmlinuz root=/dev/vda1 console=ttyS0 quiet panic=5 tsc=reliable
initrd /boot/initrd
boot
G
grub-mkimage -O i386-pc -p /boot/grub -c "$work/grub.cfg" -o "$work/core" biosdisk part_msdos ext2 linux normal
dd if=/usr/lib/grub/i386-pc/boot.img of="$work/disk" bs=440 count=1 conv=notrunc status=none
dd if="$work/core" of="$work/disk" bs=512 seek=1 conv=notrunc status=none
# The table of partitions: one, bootable, of type 83, from sector 2048 to the end.
sectors=$(( size * 2048 - 2048 ))
{
	printf '\200\000\000\000\203\000\000\000\000\010\000\000'
	printf '%b' "$(printf '\\%03o\\%03o\\%03o\\%03o' $((sectors & 255)) $((sectors >> 8 & 255)) $((sectors >> 16 & 255)) $((sectors >> 24 & 255)))"
} | dd of="$work/disk" bs=1 seek=446 conv=notrunc status=none
printf '\125\252' | dd of="$work/disk" bs=1 seek=510 conv=notrunc status=none
mkdir -p "$(dirname "$out")"
qemu-img convert -q -O qcow2 "$work/disk" "$work/image"
mv "$work/image" "$out"
