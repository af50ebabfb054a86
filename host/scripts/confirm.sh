# confirm.sh FENCE RUN {PATH BASE CANDIDATE}...: holds that every path still stands as
# its candidate, and confirms the run: from that one rename of its guard's marker on,
# the new files stay. Says it again when it is asked again.
fence "$1"
id=$2
shift 2
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

clear_stages "$id"
if disarmed "$id"; then
	printf '{"confirmed":true}\n'
else
	printf '{"fired":true,"trouble":"%s"}\n' "$(text "$(cat "$state/runs/$id/guard.trouble" 2>/dev/null)")"
fi
