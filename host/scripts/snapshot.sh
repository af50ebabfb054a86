# snapshot.sh FENCE RUN {PATH BASE META}...: copies the live files aside and
# checks them against the reviewed base, hash and META (mode:owner:group). Writes
# restore.sh beside them, for a person without us. Running it twice is the same.
fence "$1"
run=$state/runs/$2
shift 2
mkdir -p "$run"
chmod 700 "$run"
: >"$run/manifest.new"
n=0
while [ $# -gt 0 ]; do
	path=$1 base=$2 meta=$3
	shift 3
	if [ "$(sum "$path")" != "$base" ] || [ "$(stat -c %a:%U:%G -- "$path")" != "$meta" ]; then
		printf '{"changed":"%s"}\n' "$(b64 "$path")"
		exit 0
	fi
	rm -f "$run/$n.new"
	cp -a -- "$path" "$run/$n.new"
	if [ "$(sum "$run/$n.new")" != "$base" ]; then
		printf '{"changed":"%s"}\n' "$(b64 "$path")"
		exit 0
	fi
	put "$run/$n.new" "$run/$n.base"
	printf '%s\n' "$(b64 "$path")" >>"$run/manifest.new"
	n=$((n + 1))
done
put "$run/manifest.new" "$run/manifest"
cat >"$run/restore.sh.new" <<'END'
#!/bin/sh
# Puts back the files that stood here before this run of Wide Ladder. Run it as
# root; then restart the service. The manifest holds one path a line, in base64.
set -eu
cd "$(dirname "$0")"
n=0
while read -r line; do
	path=$(printf %s "$line" | base64 -d)
	cp -a -- "$n.base" "$path.wladder-restore"
	mv -f -T -- "$path.wladder-restore" "$path"
	printf 'put back %s\n' "$path"
	n=$((n + 1))
done <manifest
END
chmod 700 "$run/restore.sh.new"
put "$run/restore.sh.new" "$run/restore.sh"
printf '{"snapshot":"%s"}\n' "$(b64 "$run")"
