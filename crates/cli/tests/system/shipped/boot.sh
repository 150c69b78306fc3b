#!/bin/sh
# Boots systemd in a folder that looks like this machine, with name spaces of its own: boot.sh FOLDER UNIT GROUP
# Nothing of the machine's kernel is set from in there: /sys is read-only, and what would write below /proc/sys is left out.
set -e
root=$1 unit=$2 group=$3
mount --make-rprivate /
mount -t proc proc "$root/proc"
for service in systemd-sysctl systemd-binfmt systemd-modules-load systemd-udevd systemd-timesyncd; do
    ln -sf /dev/null "$root/etc/systemd/system/$service.service"
done
mount -t sysfs -o ro sysfs "$root/sys"
# With the one hierarchy of version 2, which is there anyway: with the old ones systemd would make more, for the whole machine.
mount -t cgroup2 cgroup2 "$root/sys/fs/cgroup"
for folder in run tmp var/lib/ordotaxis-runner; do
    mkdir -p "$root/$folder"
    mount -t tmpfs tmpfs "$root/$folder"
done
chmod 1777 "$root/tmp"
mount -t tmpfs -o mode=755 tmpfs "$root/dev"
mkdir "$root/dev/pts" "$root/dev/shm"
for device in null zero full random urandom tty fuse net; do
    [ -d "/dev/$device" ] && mkdir "$root/dev/$device" && mount --rbind "/dev/$device" "$root/dev/$device" && continue
    [ -e "/dev/$device" ] && : > "$root/dev/$device" && mount --bind "/dev/$device" "$root/dev/$device"
done
mount -t devpts -o newinstance,ptmxmode=0666 devpts "$root/dev/pts"
ln -s pts/ptmx "$root/dev/ptmx"
ln -s /proc/self/fd "$root/dev/fd"
mount -t tmpfs tmpfs "$root/dev/shm"
cd "$root"
mkdir -p .before
pivot_root . .before
umount -l /.before
echo "booting in $group"
exec env -i container=other PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin /lib/systemd/systemd --system "--unit=$unit"
