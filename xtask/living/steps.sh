#!/bin/sh
# What is done inside of the living machine: one phase for each start of a system, the first of those in /root/phases. Each step is framed, so that whoever looks on
# from outside can tell them apart: "=== NAME", what it says, "--- NAME CODE". A step whose name ends in "!" has to be refused.
exec >/dev/ttyS0 2>&1
export TERM=dumb NO_COLOR=1
step() {
    name=$1
    shift
    echo "=== $name"
    "$@"
    echo "--- $name $?"
}
read -r phase rest </root/phases
echo "$rest" >/root/phases
mkdir -p /boot/efi
mountpoint -q /boot/efi || mount /dev/vda1 /boot/efi
step "start $phase" cat /proc/cmdline
case $phase in
    1)
        step install dpkg -i /root/signpost.deb
        step draft signpost draft --host signpost
        step apply signpost apply --yes
        step units signpost hold --units /etc/systemd/system
        ;;
    2)
        step rehearse signpost rehearse
        # An update that is half done: a kernel that says it is newer is there, its initrd is not.
        step half sh -c 'old=$(uname -r); new=$(uname -r | tr 0-9 9); LC_ALL=C sed "s/$old/$new/g" /boot/vmlinuz-$old >/boot/vmlinuz-$new'
        step draft-half sh -c "systemctl start signpost-hold.service; signpost draft"
        ;;
    3)
        rm -f /boot/vmlinuz-9.9*
        # Another system's installer: our entry is gone, and so is the boot program.
        step spoil sh -c 'for file in $(grep -l -a "S.i.g.n.p.o.s.t" /sys/firmware/efi/efivars/Boot[0-9]*); do chattr -i $file; rm $file; done; rm /boot/efi/EFI/signpost/*.EFI'
        step hold systemctl start signpost-hold.service
        step journal journalctl -u signpost-hold -b --no-pager -o cat -p notice
        step security systemd-analyze security signpost-hold.service --no-pager --threshold=40
        step again signpost hold --dry-run
        ;;
    4)
        # Both slots are written over, and the ESP is full.
        step scramble sh -c 'for slot in /boot/efi/EFI/signpost/MENU-?.TML; do dd if=/dev/urandom of=$slot bs=512 count=2 conv=notrunc status=none; done; cat /dev/zero >/boot/efi/fill 2>/dev/null; sync; df /boot/efi | grep 100%'
        step hold-slots signpost hold
        step full sh -c 'signpost tune timeout=2 && signpost apply --yes'
        rm /boot/efi/fill
        # The default's kernel is gone.
        mkdir /root/aside
        mv /boot/vmlinuz-* /root/aside
        step no-kernel! signpost apply --yes
        mv /root/aside/* /boot
        step with-kernel signpost apply --yes
        step once sh -c 'signpost once $(sed -n "s/^id *= \"\(debian[a-z-]*-2\)\".*/\1/p" /etc/signpost/menu.toml | head -n 1)'
        ;;
    5)
        # The menu is another system's since the last start; and a copy of the disk is there.
        step lost signpost hold
        step copies signpost draft --dry-run
        step take-over! signpost apply --yes
        step taken-over signpost apply --yes --take-over
        ;;
    6)
        step hook /etc/kernel/postinst.d/zz-signpost 99.9
        step remove dpkg -r early-signpost
        step purge dpkg -P early-signpost
        step left sh -c 'ls -d /etc/signpost /var/lib/signpost; ls /boot/efi/EFI/signpost'
        ;;
    second)
        step install dpkg -i /root/signpost.deb
        step draft signpost draft --host signpost
        step take-over! signpost apply --yes
        step taken-over signpost apply --yes --take-over
        ;;
esac
echo "=== end"
sync
poweroff -f
