# snapshot.sh FENCE RUN UNITS {PATH BASE CANDIDATE}...: copies what stands at each
# path aside and checks it against the reviewed base. Notes how the units stand
# (UNITS are words of one text), and writes restore.sh beside it all, for a person without us. Running it twice
# is the same as once, as long as nothing is placed.
fence "$1"
run=$state/runs/$2 units=$3
shift 3
mkdir -p "$run"
chmod 700 "$run"
if [ ! -s "$run/units" ]; then
	for unit in $units; do
		active=unknown enabled=unknown
		if managed; then
			active=$(systemctl is-active -- "$unit" 2>/dev/null) || :
			enabled=$(systemctl is-enabled -- "$unit" 2>/dev/null) || :
		fi
		printf '%s %s %s\n' "$unit" "${active:-unknown}" "${enabled:-not-found}"
	done >"$run/units.new"
	put "$run/units.new" "$run/units"
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
		if ! enter "$path"; then
			printf '{"changed":"%s"}\n' "$(text "$path")"
			exit 0
		fi
		if ! cp -a -- "$name" "$run/$n.new"; then
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
	# Where restore.sh may write before it renames: nobody else may.
	near=${path%/*}
	while [ ! -d "${near:-/}" ]; do near=${near%/*}; done
	ground "${near:-/}"
	printf '%s %s %s %s\n' "$(b64 "$path")" "$base" "$candidate" "$(b64 "${ground:-none}")" >>"$run/manifest.new"
	n=$((n + 1))
done
put "$run/manifest.new" "$run/manifest"
cat >"$run/restore.sh.new" <<'END'
#!/bin/sh
# Puts back what stood here before this run of Wide Ladder. Run it as root; then
# restart the service. The manifest holds a line for each path: the path in
# base64, how it stood, how it was to stand, and in base64 the directory in which the
# old file may be made ready, since root alone may write there.
set -eu
run=$(cd -P -- "$(dirname -- "$0")" && pwd -P)
said() { printf %s "$1" | base64 -d && printf x; }
n=$(wc -l <"$run/manifest")
while [ "$n" -gt 0 ]; do
	line=$(sed -n "${n}p" "$run/manifest")
	n=$((n - 1))
	path=$(said "${line%% *}")
	path=${path%x} near=$(said "${line##* }")
	near=${near%x} line=${line#* } dir=${path%/*}
	if ! cd -P -- "${dir:-/}" || [ "$(pwd -P)" != "${dir:-/}" ]; then
		printf 'LEFT %s: its directory is another than it was. The old file is %s\n' "$path" "$run/$n.base"
	elif [ "${line%% *}" = none ]; then
		rm -f -- "./${path##*/}"
		printf 'took away %s, which was not there\n' "$path"
	elif [ "$near" = none ]; then
		printf 'LEFT %s: others may write beside it. The old file is %s\n' "$path" "$run/$n.base"
	else
		stage=$(mktemp -d -- "${near%/}/.wladder-restore.XXXXXXXX")
		cp -a -- "$run/$n.base" "$stage/old"
		mv -f -T -- "$stage/old" "./${path##*/}"
		rmdir -- "$stage"
		printf 'put back %s\n' "$path"
	fi
done
END
chmod 700 "$run/restore.sh.new"
put "$run/restore.sh.new" "$run/restore.sh"
printf '{"snapshot":"%s"}\n' "$(text "$run")"
