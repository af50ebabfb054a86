# guard.sh HOW RUN: the host's own way back, left there by arm.sh and run by its
# timer, at boot, or by a waiting process. Takes the host's lock, then the
# marker; where somebody else has the marker, does nothing.
how=$1 id=$2
run=$state/runs/$id
if [ "${3-}" != locked ]; then
	exec flock -w 900 "$state/lock" sh "$run/guard/guard.sh" "$how" "$id" locked
fi
if [ ! -e "$state/firing/$id" ]; then
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
acted=no
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
sync "$run/guard.trouble"
ended_firing "$id"
quiet_timer "$id" # it would come again, in case this had been cut
