# Of a tree that `cargo xtask dist` has filled: nothing is built here, and nothing in it is changed.
%global debug_package %{nil}
%global __os_install_post %{nil}
%global _build_id_links none
# What every package manager of this family unpacks.
%global _binary_payload w6.gzdio

Name: early-signpost
Version: %{version_of_tree}
Release: 1
Summary: Boot menus for PCs with several operating systems
License: MIT OR Apache-2.0
# The program has its C library in it.
AutoReqProv: no

%description
Looks at the whole machine at once, plans before it writes, rehearses the next
start without a reboot, and can always undo what it did.

%install
mkdir -p %{buildroot}/usr
cp -a %{tree}/. %{buildroot}/usr/
install -D -m 755 %{kernel_install} %{buildroot}/usr/lib/kernel/install.d/95-signpost.install

%post
if [ -d /run/systemd/system ]; then
    systemctl --system daemon-reload || true
fi

%preun
# The program goes; what it has made active stays, and starts the machine as before.
if [ "$1" = 0 ] && [ -e /var/lib/signpost/held.json ]; then
    echo "signpost: the boot menu that was applied goes on starting this machine; to remove it, install the package again and run \"signpost apply --remove\"" >&2
fi

%postun
# Nothing on an EFI system partition is touched: what starts the machine is not the package's.
if [ "$1" = 0 ]; then
    for unit in signpost-hold.service signpost-hold.path signpost-hold.timer signpost-confirm.service \
        signpost-survey.service signpost-survey.timer; do
        rm -f "/etc/systemd/system/multi-user.target.wants/$unit" "/etc/systemd/system/paths.target.wants/$unit" \
            "/etc/systemd/system/timers.target.wants/$unit"
    done
fi

%files
%defattr(-,root,root)
/usr/bin/signpost
/usr/lib/signpost
/usr/lib/systemd/system/signpost-*
/usr/lib/kernel/install.d/95-signpost.install
/usr/share/bash-completion/completions/signpost
/usr/share/zsh/site-functions/_signpost
/usr/share/fish/vendor_completions.d/signpost.fish
/usr/share/man/man?/*
%doc /usr/share/doc/signpost
