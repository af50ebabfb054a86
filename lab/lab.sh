#!/bin/bash
# Real hosts on this machine, for tests and the demo: each with its own systemd,
# OpenSSH, daemons, network address and files, booted in a second from one
# cached root.
#
#   lab.sh base              build the root once (two to three minutes)
#   lab.sh enter COMMAND...  run COMMAND where hosts can be booted; they, their
#                            mounts and links vanish when it ends
#   lab.sh boot NUMBER...    inside: boot hosts 10.77.0.(NUMBER+2), until SSH answers
#   lab.sh await NUMBER...   inside: wait until SSH answers (again)
#   lab.sh cut NUMBER        inside: take the power from a host; boot gives it back
#
# A host that asks for a reboot gets one. What is on a host's disk outlives
# power cuts, until enter ends. Every daemon but sshd and journald is disabled;
# tests start what they need.
#
# Needs root, cgroup v2, and what `scripts/setup lab` installs.
set -eu
cache=${WLADDER_LAB:-${XDG_CACHE_HOME:-$HOME/.cache}/wladder-lab}
packages=systemd,systemd-sysv,dbus,libpam-systemd,openssh-server,iproute2,procps,sudo,acl,attr,e2fsprogs,libcap2-bin,openssl
daemons=nginx,apache2,mariadb-server,dovecot-core,rsyslog,redis-server,unbound,chrony,haproxy,tomcat10,postgresql,postfix,bind9,bind9-utils,php-fpm,logrotate
# What the root is made of names it.
root=$cache/root-$( (sed -n '/^base)/,/;;$/p' "$0" && echo "$packages,$daemons") | sha256sum | cut -c1-8)

case $1 in
base)
	[ -e "$root/.whole" ] && exit 0
	mkdir -p "$cache"
	[ -e "$cache/id" ] || ssh-keygen -q -t ed25519 -N '' -C lab -f "$cache/id"
	new=$root.new
	rm -rf "$cache"/root-*
	for sources in /etc/apt/sources.list /etc/apt/sources.list.d/*.sources; do [ -s "$sources" ] && break; done
	mmdebstrap --quiet --variant=minbase --dpkgopt='path-exclude=/usr/share/man/*' --dpkgopt='path-exclude=/usr/share/doc/*' \
		--dpkgopt='path-exclude=/usr/share/locale/*' --dpkgopt=force-unsafe-io \
		--aptopt='APT::Install-Recommends "false"' --essential-hook='mkdir -p "$1/usr/share/man/man1"' --include="$packages,$daemons" bookworm "$new" - <"$sources"
	rm -f "$new"/etc/ssh/ssh_host_*
	: >"$new/etc/machine-id"
	rm -f "$new/var/www/html/index.html" # Apache's; nginx has one of its own
	: >"$new/etc/resolv.conf"
	mkdir -p "$new/root/.ssh"
	chmod 700 "$new/root/.ssh"
	cp "$cache/id.pub" "$new/root/.ssh/authorized_keys"
	chroot "$new" useradd -m -s /bin/sh op # reaches root by sudo
	echo 'op ALL=(ALL) NOPASSWD: ALL' >"$new/etc/sudoers.d/op"
	cp -r "$new/root/.ssh" "$new/home/op/.ssh"
	chroot "$new" chown -R op:op /home/op/.ssh
	systemctl --root="$new" -q mask console-getty.service getty@tty1.service e2scrub_reap.service e2scrub_all.timer \
		apt-daily.timer apt-daily-upgrade.timer fstrim.timer dpkg-db-backup.timer dev-hugepages.mount \
		sys-fs-fuse-connections.mount systemd-pstore.service
	systemctl --root="$new" -q disable nginx apache2 mariadb dovecot dovecot.socket rsyslog redis-server unbound unbound-resolvconf chrony haproxy tomcat10 postfix named php8.2-fpm \
		postgresql apache-htcacheclean logrotate.timer systemd-timesyncd networking phpsessionclean.timer man-db.timer 2>/dev/null || :
	systemctl --root="$new" -q set-default multi-user.target
	touch "$new/.whole"
	mv "$new" "$root"
	;;
enter)
	shift
	group=wladder-lab-$$
	mkdir -p "$cache/run"
	status=0
	WLADDER_LAB=$cache LAB_GROUP=$group unshare --mount --net --pid --fork --kill-child --mount-proc --propagation private bash -c '
		set -e
		mount -t tmpfs -o mode=755 run /run
		mkdir -p /run/netns
		mount -t cgroup2 cgroup2 /sys/fs/cgroup
		if [ "$(cat /proc/sys/fs/inotify/max_user_instances)" -lt 2048 ]; then echo 2048 >/proc/sys/fs/inotify/max_user_instances; fi
		mkdir "/sys/fs/cgroup/$LAB_GROUP"
		mount -t tmpfs -o size=8g,mode=755 lab "$1/run"
		ip link set lo up
		ip link add br0 type bridge
		ip addr add 10.77.0.1/16 dev br0
		ip link set br0 up
		shift
		status=0
		"$@" || status=$? # and no exec: this shell reaps what hosts leave behind
		exit $status' lab "$cache" "$@" || status=$?
	groups=$(awk '$3 == "cgroup2" { print $2; exit }' /proc/mounts)
	for _ in 1 2 3 4 5; do
		find "$groups/$group" -depth -type d -exec rmdir {} + 2>/dev/null || sleep 0.2
		[ -d "$groups/$group" ] || break
	done
	exit $status
	;;
boot)
	shift
	for n; do
		host=h$n at=$cache/run/h$n
		if [ ! -d "$at" ]; then
			mkdir -p "$at/upper/etc/ssh" "$at/work" "$at/root"
			echo "$host" >"$at/upper/etc/hostname"
			printf '127.0.0.1 localhost\n10.77.0.%s %s\n' $((n + 2)) "$host" >"$at/upper/etc/hosts"
			ssh-keygen -q -t ed25519 -N '' -C "$host" -f "$at/upper/etc/ssh/ssh_host_ed25519_key"
			mount -t overlay overlay -o "lowerdir=$root,upperdir=$at/upper,workdir=$at/work" "$at/root"
			ip netns add "$host"
			ip link add "v$n" type veth peer name eth0 netns "$host"
			ip link set "v$n" master br0 up
			ip -n "$host" link set lo up
			ip -n "$host" addr add "10.77.0.$((n + 2))/16" dev eth0
			ip -n "$host" link set eth0 up
		fi
		group=/sys/fs/cgroup/$LAB_GROUP/$host
		mkdir -p "$group"
		# systemd-nspawn ends with 133 where the host asked for a reboot.
		# shellcheck disable=SC2016 # the inner shell expands these
		setsid bash -c 'echo $$ >"$1/cgroup.procs"; pid=$2; shift 2
			while
				"$@" &
				echo $! >"$pid"
				wait $!
				[ $? = 133 ]
			do :; done' boot "$group" "$at/pid" \
			systemd-nspawn --quiet --boot --register=no --keep-unit -D "$at/root" --machine="$host" --hostname="$host" \
			--network-namespace-path="/run/netns/$host" --capability=CAP_NET_ADMIN,CAP_LINUX_IMMUTABLE --resolv-conf=off --timezone=off --link-journal=no \
			</dev/null >>"$at/console" 2>&1 &
	done
	exec "$0" await "$@"
	;;
await)
	shift
	for n; do
		for _ in $(seq 300); do
			ssh -i "$cache/id" -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR -o ConnectTimeout=2 \
				-o KexAlgorithms=curve25519-sha256 "root@10.77.0.$((n + 2))" true 2>/dev/null && continue 2
			sleep 0.1
		done
		echo "host $n did not come up; its console:" >&2
		tail -n 20 "$cache/run/h$n/console" >&2
		exit 1
	done
	;;
cut)
	pid=$(cat "$cache/run/h$2/pid")
	# All of the host's processes at once, as without power.
	echo 1 >"/sys/fs/cgroup/$LAB_GROUP/h$2/cgroup.kill"
	for _ in $(seq 250); do
		case $(cut -d ' ' -f 3 "/proc/$pid/stat" 2>/dev/null) in '' | Z) break ;; esac
		sleep 0.02
	done
	;;
esac
