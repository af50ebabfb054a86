# confirm.sh FENCE RUN DAYS {PATH BASE CANDIDATE}...: holds that every path still
# stands as its candidate, and confirms the run: from that one rename of its guard's
# marker on, the new files stay. Says it again when it is asked again. Then takes away
# what runs that ended more than DAYS ago have kept here.
fence "$1"
id=$2 days=$3
shift 3
case $(guard_stands "$id") in
none)
	printf '{"failed":"%s"}\n' "$(text "its guard is gone from $state")"
	exit 0
	;;
pending)
	n=0
	count=$#
	while [ "$count" -gt 0 ]; do
		path=$1 base=$2 candidate=$(wanted "$id" "$n" "$3")
		if [ "$(stands "$path")" != "$candidate" ]; then
			printf '{"changed":"%s"}\n' "$(text "$path")"
			exit 0
		fi
		shift 3
		set -- "$@" "$path" "$base" "$candidate"
		n=$((n + 1)) count=$((count - 3))
	done
	;;
esac

# expire RUN DAYS: this run's folder tells the time, having been used just now. A
# run whose guard is armed is not over.
expire() {
	now=
	stat -c '%Y %n' -- "$state/runs/$1" "$state/runs"/* 2>/dev/null | while read -r at folder; do
		if [ -z "$now" ]; then now=$at; fi
		old=${folder##*/}
		if [ "$((now - at))" -le "$(($2 * 86400))" ] || [ -e "$state/pending/$old" ] || [ -e "$state/firing/$old" ]; then continue; fi
		rm -rf -- "$folder"
		rm -f -- "$state/ended/$old"
	done
}

clear_stages "$id"
if disarmed "$id"; then
	printf '{"confirmed":true}\n'
	expire "$id" "$days"
else
	printf '{"fired":true,"trouble":"%s"}\n' "$(text "$(cat "$state/runs/$id/guard.trouble" 2>/dev/null)")"
fi
