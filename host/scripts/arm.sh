# arm.sh FENCE RUN SECONDS: arms the host's own way back: after SECONDS, or at
# the next boot, whichever comes first, everything that the run placed is put
# back, unless it is disarmed before, or pushed on. The guard itself comes as packed tar on stdin:
# guard.sh, set (PATH BASE CANDIDATE lines, paths in base64), and for each service
# from 0 on unit-N, seconds-N, light-N and heavy-N (commands), and within-N and readmit-N of one
# that gets out of the way. Arming again begins the time anew.
fence "$1"
id=$2 run=$state/runs/$2 seconds=$3
if [ "$(guard_stands "$id")" = firing ]; then
	printf '{"fired":true}\n'
	exit 0
fi
if [ -e "$run/deadline" ]; then quiet_timer "$id"; fi # armed before
rm -rf "$run/guard.new"
mkdir -m 700 "$run/guard.new"
gzip -dc | tar -xf - -C "$run/guard.new"
rm -rf "$run/guard"
sync "$run"/guard.new/*
mv -T -- "$run/guard.new" "$run/guard"
sync "$run/."
cat >"$state/boot.sh.new" <<'END'
#!/bin/sh
# Run at boot while a guard of Wide Ladder is armed, or a service is out of the way: see its
# units. First with boot, and late once systemd takes what is started then.
state=/var/lib/wladder
if [ "$1" = boot ]; then
	for marker in "$state"/pending/* "$state"/firing/*; do
		if [ -e "$marker" ]; then sh "$state/runs/${marker##*/}/guard/guard.sh" boot "${marker##*/}"; fi
	done
	exit 0
fi
for run in "$state"/runs/*; do
	for marker in "$state/pending/${run##*/}" "$run"/drain*.begun; do
		if [ ! -e "$marker" ]; then continue; fi
		sh "$run/guard/guard.sh" late "${run##*/}"
		break
	done
done
END
put "$state/boot.sh.new" "$state/boot.sh"
if managed; then
	cat >"$boot_unit.new" <<'END'
[Unit]
Description=Wide Ladder: put back a change that nobody confirmed
DefaultDependencies=no
RequiresMountsFor=/var/lib/wladder
After=local-fs.target systemd-remount-fs.service
Before=sysinit.target shutdown.target
Conflicts=shutdown.target
ConditionPathExistsGlob=|/var/lib/wladder/pending/*
ConditionPathExistsGlob=|/var/lib/wladder/firing/*

[Service]
Type=oneshot
ExecStart=/bin/sh /var/lib/wladder/boot.sh boot
TimeoutStartSec=120

[Install]
WantedBy=sysinit.target
END
	put "$boot_unit.new" "$boot_unit"
	mkdir -p "$boot_wants"
	ln -sf "$boot_unit" "$boot_wants/wladder-guard.service"
	cat >"$late_unit.new" <<'END'
[Unit]
Description=Wide Ladder: what a guard starts once that can be
DefaultDependencies=no
After=basic.target
Before=shutdown.target
Conflicts=shutdown.target
ConditionPathExists=/var/lib/wladder/boot.sh

[Service]
Type=oneshot
ExecStart=/bin/sh /var/lib/wladder/boot.sh late
TimeoutStartSec=60

[Install]
WantedBy=multi-user.target
END
	put "$late_unit.new" "$late_unit"
	mkdir -p "$late_wants"
	ln -sf "$late_unit" "$late_wants/wladder-guard-late.service"
	sync "$boot_wants/." "$late_wants/." "${boot_unit%/*}/."
fi
rm -f "$run/placed" "$run/guard.undone" "$run/reboot" "$run"/*.reboot
read -r up _ </proc/uptime
printf '%s\n' "$((${up%%.*} + seconds))" >"$run/deadline"
sync "$run/deadline"
printf '%s\n' "$seconds" >"$run/pending.new"
sync "$run/pending.new"
rm -f "$state/ended/$id"
mv -f -T -- "$run/pending.new" "$state/pending/$id"
sync "$state/pending/." "$state/ended/."
how=detached
if managed && [ -x /usr/bin/systemd-run ]; then
	if start_timer "$id" "$seconds" --quiet; then how=timer; fi
fi
if [ "$how" = detached ]; then
	# shellcheck disable=SC2016 # the inner shell expands these
	setsid sh -c 'sleep "$1"; while [ -e "$4/pending/$3" ] || [ -e "$4/firing/$3" ]; do sh "$2" detached "$3"; sleep 10; done' \
		guard "$seconds" "$run/guard/guard.sh" "$id" "$state" </dev/null >/dev/null 2>&1 3>&- &
fi
printf '{"armed":"%s"}\n' "$how"
