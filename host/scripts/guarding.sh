# Where guards are kept: a marker per run, moved by one rename at a time.
#   pending/RUN   armed; who renames it wins
#   firing/RUN    the guard won, and is putting things back
#   ended/RUN     fired or disarmed; its text says which
boot_unit=/etc/systemd/system/wladder-guard.service
boot_wants=/etc/systemd/system/sysinit.target.wants
late_unit=/etc/systemd/system/wladder-guard-late.service
late_wants=/etc/systemd/system/multi-user.target.wants

# left RUN: how many seconds its guard has still to wait. The deadline is in the
# host's uptime, which no clock that is set can move.
left() {
	due=$(cat "$state/runs/$1/deadline" 2>/dev/null) || due=0
	read -r up _ </proc/uptime
	printf %s "$((${due:-0} - ${up%%.*}))"
}

# push RUN SECONDS: has an armed guard wait for SECONDS from now, at least.
push() {
	if [ -e "$state/pending/$1" ] && [ "$(left "$1")" -lt "$2" ]; then
		read -r up _ </proc/uptime
		printf '%s\n' "$((${up%%.*} + $2))" >"$state/runs/$1/deadline.new"
		mv -f -T -- "$state/runs/$1/deadline.new" "$state/runs/$1/deadline"
	fi
}

# start_timer RUN SECONDS WORD: has its guard look at the deadline in SECONDS, and again until
# it has ended. WORD is one more for systemd-run.
start_timer() {
	systemd-run "$3" --collect --unit="wladder-guard-$1" --on-active="${2}s" --on-unit-inactive=10s --timer-property=AccuracySec=100ms \
		sh "$state/runs/$1/guard/guard.sh" timer "$1" 2>/dev/null 3>&-
}

# quiet_timer RUN: takes the run's timer away, if it has one.
quiet_timer() {
	if managed; then systemctl stop "wladder-guard-$1.timer" 2>/dev/null || :; fi
}

# unguarded: takes the boot-time half away once no guard needs it, and nothing is out of the way.
unguarded() {
	for marker in "$state"/pending/* "$state"/firing/*; do
		if [ -e "$marker" ]; then return 0; fi
	done
	for folder in "$state"/runs/*; do
		if out_of_the_way "${folder##*/}"; then return 0; fi
	done
	rm -f "$boot_wants/wladder-guard.service" "$boot_unit" "$late_wants/wladder-guard-late.service" "$late_unit"
}

# ended_firing RUN: notes that its guard has fired.
ended_firing() {
	printf 'fired\n' >"$state/runs/$1/ended.new"
	put "$state/runs/$1/ended.new" "$state/ended/$1"
	rm -f "$state/firing/$1"
	sync "$state/firing/."
	unguarded
}

# disarmed RUN: did taking the guard away win? Twice is the same as once. The one
# rename of the marker decides; on the way forward it is the confirmation.
disarmed() {
	if mv -T -- "$state/pending/$1" "$state/ended/$1" 2>/dev/null; then
		printf 'disarmed\n' >"$state/ended/$1"
		sync "$state/ended/$1" "$state/pending/." "$state/ended/."
		unmade "$1"
		quiet_timer "$1"
		unguarded
		return 0
	fi
	if [ -e "$state/firing/$1" ]; then
		# We hold the lock, so this guard was cut in the middle.
		ended_firing "$1"
		return 1
	fi
	unmade "$1" # it may have been cut there
	[ "$(cat "$state/ended/$1" 2>/dev/null)" != fired ]
}

# out_of_the_way RUN: is a service of the run that got out of the way still out?
out_of_the_way() {
	for drained in "$state/runs/$1"/drain.begun "$state/runs/$1"/drain-*.begun; do
		if [ -e "$drained" ]; then return 0; fi
	done
	return 1
}

# unmade RUN: takes away the second copies of files that were made on this host. Their
# hashes stay.
unmade() { rm -f -- "$state/runs/$1"/*.made; }

# guard_stands RUN: none, pending, firing, fired or disarmed.
guard_stands() {
	if [ -e "$state/pending/$1" ]; then
		printf pending
	elif [ -e "$state/firing/$1" ]; then
		printf firing
	elif [ -s "$state/ended/$1" ]; then
		tr -d '\n' <"$state/ended/$1"
	elif [ -e "$state/ended/$1" ]; then
		printf disarmed # cut between the rename and the text
	else
		printf none
	fi
}
