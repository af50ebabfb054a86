# guard.sh HOW RUN: the host's own way back, left there by arm.sh and run by its
# timer, at boot, or by a waiting process. One that wakes early waits for the
# rest: the deadline may have been pushed on. Takes the host's lock, then the
# marker; where somebody else has the marker, does nothing.
how=$1 id=$2
run=$state/runs/$id
if [ "${3-}" != locked ]; then
	while [ "$how" != boot ] && [ -e "$state/pending/$id" ]; do
		rest=$(left "$id")
		if [ "$rest" -le 0 ]; then break; fi
		if [ "$rest" -gt 10 ]; then rest=10; fi
		sleep "$rest"
	done
	exec flock -w 900 "$state/lock" sh "$run/guard/guard.sh" "$how" "$id" locked
fi
if [ ! -e "$state/firing/$id" ]; then
	# Pushed on while we waited for the lock: this comes again.
	if [ "$how" != boot ] && [ -e "$state/pending/$id" ] && [ "$(left "$id")" -gt 0 ]; then exit 0; fi
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
acted=no code=0
if [ -e "$run/placed" ] || [ -e "$run/act.begun" ]; then acted=yes; fi
put_back "$id" "$@"
unit=$(cat "$run/guard/unit")
if [ "$acted" = yes ] && [ "$how" = boot ]; then
	# Services have yet to start with the old files; those that run already
	# began with the new ones.
	if managed && systemctl is-active --quiet -- "$unit"; then systemctl --no-block restart -- "$unit" || :; fi
elif [ "$acted" = yes ]; then
	light=$(cat "$run/guard/light") heavy=$(cat "$run/guard/heavy")
	if ! managed; then light=$heavy; fi
	run_back "$id" guard-act "$unit" "$(cat "$run/guard/seconds")" "$light" "$heavy"
fi
printf '%s\n' "$trouble" >"$run/guard.trouble"
# All is as it was, acted on: whoever looks need not act again.
if [ -z "$trouble" ] && [ "$code" = 0 ]; then : >"$run/guard.undone"; fi
sync "$run/guard.trouble"
ended_firing "$id"
quiet_timer "$id" # it would come again, in case this had been cut
