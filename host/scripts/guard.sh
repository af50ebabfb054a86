# guard.sh HOW RUN: the host's own way back, left there by arm.sh and run by its
# timer, at boot, or by a waiting process. One that wakes early waits for the
# rest: the deadline may have been pushed on. Takes the host's lock, then the
# marker; where somebody else has the marker, does nothing. HOW is timer, boot or detached; late,
# behind a boot's first half, for what that could not start; or readmit, once a boot is over:
# services that were out of the way when it began come back.
how=$1 id=$2
run=$state/runs/$id

# readmit_all has each service come back that is out of the way. One that does not stays noted:
# who looks has it come back.
readmit_all() {
	n=-1
	while [ -e "$run/guard/unit-$((n + 1))" ]; do
		n=$((n + 1)) at=drain
		if [ "$n" -gt 0 ]; then at=drain-$n; fi
		if [ ! -e "$run/$at.begun" ]; then continue; fi
		readmit "$id" "$at" "$(cat "$run/guard/unit-$n")" "$(cat "$run/guard/within-$n")" "$(cat "$run/guard/readmit-$n")"
	done
}

# awaited: is this the boot that reboot.sh told of? Then the time begins anew, once; late
# starts its timer.
awaited() {
	if [ ! -s "$run/reboot" ]; then return 1; fi
	read -r ended span <"$run/reboot"
	this_boot
	rm -f "$run/reboot"
	sync "$run/."
	if [ "$ended" = "$boot" ] || ! managed; then return 1; fi
	read -r up _ </proc/uptime
	printf '%s\n' "$((${up%%.*} + span))" >"$run/deadline"
	sync "$run/deadline"
}

# late: systemd-run waits for a boot to come as far as this.
if [ "$how" = late ]; then
	if [ -e "$state/pending/$id" ]; then
		rest=$(left "$id")
		if [ "$rest" -lt 1 ]; then rest=1; fi
		start_timer "$id" "$rest" --no-block || :
	elif out_of_the_way "$id"; then
		systemd-run --quiet --no-block --collect --unit="wladder-readmit-$id" --on-active=1s --timer-property=AccuracySec=100ms -p After=multi-user.target \
			sh "$run/guard/guard.sh" readmit "$id" 2>/dev/null 3>&- || :
	fi
	exit 0
fi

if [ "${3-}" != locked ]; then
	while [ "$how" != boot ] && [ "$how" != readmit ] && [ -e "$state/pending/$id" ]; do
		rest=$(left "$id")
		if [ "$rest" -le 0 ]; then break; fi
		if [ "$rest" -gt 10 ]; then rest=10; fi
		sleep "$rest"
	done
	exec flock -w 900 "$state/lock" sh "$run/guard/guard.sh" "$how" "$id" locked
fi
if [ "$how" = readmit ]; then
	if [ -e "$state/ended/$id" ]; then readmit_all; fi
	unguarded
	exit 0
fi
if [ ! -e "$state/firing/$id" ]; then
	# Pushed on while we waited for the lock: this comes again.
	if [ "$how" != boot ] && [ -e "$state/pending/$id" ] && [ "$(left "$id")" -gt 0 ]; then exit 0; fi
	if [ "$how" = boot ] && awaited; then exit 0; fi
	if ! mv -T -- "$state/pending/$id" "$state/firing/$id" 2>/dev/null; then
		quiet_timer "$id"
		exit 0
	fi
	sync "$state/firing/." "$state/pending/."
fi
others=leave
if [ "$how" = boot ]; then late=--no-block; fi
set --
while read -r path base candidate; do
	plain "$path"
	set -- "$@" "$plain" "$base" "$candidate"
done <"$run/guard/set"
placed=no failed=0 n=0
if [ -e "$run/placed" ]; then placed=yes; fi
put_back "$id" "$@"
# The services, numbered as they were acted on, go back in reverse.
while [ -e "$run/guard/unit-$((n + 1))" ]; do n=$((n + 1)); done
while [ "$n" -ge 0 ]; do
	at=$n mark=''
	n=$((n - 1))
	if [ "$at" -gt 0 ]; then mark=-$at; fi
	# Of the first, reading the new files by itself is enough.
	if [ ! -e "$run/act$mark.begun" ] && { [ "$at" -gt 0 ] || [ "$placed" = no ]; }; then continue; fi
	unit=$(cat "$run/guard/unit-$at")
	if [ "$how" = boot ]; then
		# Services have yet to start with the old files; those that run already
		# began with the new ones.
		if managed && systemctl is-active --quiet -- "$unit"; then systemctl --no-block restart -- "$unit" || :; fi
		continue
	fi
	light=$(cat "$run/guard/light-$at") heavy=$(cat "$run/guard/heavy-$at")
	if ! managed; then light=$heavy; fi
	run_back "$id" "guard-act$mark" "$unit" "$(cat "$run/guard/seconds-$at")" "$light" "$heavy"
	if [ "$code" != 0 ]; then failed=$code; fi
done
# At a boot, what takes it in again may want what has yet to start: late sees to that.
if [ "$how" != boot ]; then readmit_all; fi
printf '%s\n' "$trouble" >"$run/guard.trouble"
# All is as it was, acted on: whoever looks need not act again.
if [ -z "$trouble" ] && [ "$failed" = 0 ]; then : >"$run/guard.undone"; fi
sync "$run/guard.trouble"
ended_firing "$id"
quiet_timer "$id" # it would come again, in case this had been cut
