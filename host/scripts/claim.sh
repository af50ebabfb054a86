# claim.sh FENCE RUN: takes the host for a run: from now on lower fences are
# refused. Where another run's guard is still armed over files that it placed, or over a
# service that is out of the way, says which. Running it twice is the same as once.
fence "$1"
mkdir -p "$state/runs/$2" "$state/pending" "$state/firing" "$state/ended"
chmod 700 "$state/runs" "$state/runs/$2" "$state/pending" "$state/firing" "$state/ended"
armed=
for marker in "$state"/pending/* "$state"/firing/*; do
	other=${marker##*/}
	if [ ! -e "$marker" ] || [ "$other" = "$2" ]; then continue; fi
	if [ -e "$state/firing/$other" ]; then
		# Cut in the middle, since we hold the lock: it ends here.
		sh "$state/runs/$other/guard/guard.sh" timer "$other" locked >/dev/null 2>&1 || :
	elif [ -e "$state/runs/$other/placed" ] || out_of_the_way "$other" || ! disarmed "$other"; then armed=$other; fi
done
printf '{"claimed":true,"armed":"%s"}\n' "$(text "$armed")"
