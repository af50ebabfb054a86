# snapshot.sh FENCE RUN UNIT {PATH BASE CANDIDATE}...: copies what stands at each
# path aside and checks it against the reviewed base. Notes how the unit stands,
# and writes restore.sh beside it all, for a person without us. Running it twice
# is the same as once, as long as nothing is placed.
fence "$1"
run=$state/runs/$2 unit=$3
shift 3
mkdir -p "$run"
chmod 700 "$run"
if [ ! -s "$run/unit" ]; then
	active=unknown enabled=unknown
	if managed; then
		active=$(systemctl is-active -- "$unit" 2>/dev/null) || :
		enabled=$(systemctl is-enabled -- "$unit" 2>/dev/null) || :
	fi
	printf '%s %s\n' "${active:-unknown}" "${enabled:-not-found}" >"$run/unit.new"
	put "$run/unit.new" "$run/unit"
fi
: >"$run/manifest.new"
n=0
while [ $# -gt 0 ]; do
	path=$1 base=$2 candidate=$3
	shift 3
	if [ "$(stands "$path")" != "$base" ]; then
		printf '{"changed":"%s"}\n' "$(text "$path")"
		exit 0
	fi
	rm -f "$run/$n.new"
	if [ "$base" != none ]; then
		if ! cp -a -- "$path" "$run/$n.new"; then
			rm -f "$run/$n.new"
			printf '{"failed":"%s"}\n' "$(text "$path could not be copied to $run; is the disk full?")"
			exit 0
		fi
		if [ "$(stands "$run/$n.new")" != "$base" ]; then
			printf '{"changed":"%s"}\n' "$(text "$path")"
			exit 0
		fi
		put "$run/$n.new" "$run/$n.base"
	fi
	printf '%s %s %s\n' "$(b64 "$path")" "$base" "$candidate" >>"$run/manifest.new"
	n=$((n + 1))
done
put "$run/manifest.new" "$run/manifest"
cat >"$run/restore.sh.new" <<'END'
#!/bin/sh
# Puts back what stood here before this run of Wide Ladder. Run it as root; then
# restart the service. The manifest holds a line for each path: the path in
# base64, how it stood, how it was to stand.
set -eu
cd "$(dirname "$0")"
n=$(wc -l <manifest)
while [ "$n" -gt 0 ]; do
	line=$(sed -n "${n}p" manifest)
	n=$((n - 1))
	path=$(printf %s "${line%% *}" | base64 -d && printf x)
	path=${path%x}
	line=${line#* }
	if [ "${line%% *}" = none ]; then
		rm -f -- "$path"
		printf 'took away %s, which was not there\n' "$path"
	else
		cp -a -- "$n.base" "$path.wladder-restore"
		mv -f -T -- "$path.wladder-restore" "$path"
		printf 'put back %s\n' "$path"
	fi
done
END
chmod 700 "$run/restore.sh.new"
put "$run/restore.sh.new" "$run/restore.sh"
printf '{"snapshot":"%s"}\n' "$(text "$run")"
