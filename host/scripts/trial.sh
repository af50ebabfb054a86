# trial.sh SECONDS COVERS COVER... FILES PATH... COMMAND...: has the service's
# own checker look at candidates (tar on stdin, named 0, 1, …) at their real
# paths, in a mount namespace of its own. The untouched files come first. The
# live files are not written; directories that the checker writes to are covered.
work=$state/trial
mkdir -p "$work"
chmod 700 "$state" "$work"
# shellcheck disable=SC2016 # the inner shell expands these
exec unshare --mount --propagation private sh -c '
set -eu
work=$1 seconds=$2
shift 2
b64() { printf %s "$1" | base64 | tr -d "\n"; }
mount -t tmpfs -o mode=700 wladder "$work"
mkdir "$work/new"
tar -xf - -C "$work/new"
covers=$1
shift
n=0
while [ "$n" -lt "$covers" ]; do
	if [ -d "$1" ]; then
		mkdir "$work/cover$n"
		chown --reference="$1" "$work/cover$n"
		chmod --reference="$1" "$work/cover$n"
		for inner in "$1"/*/; do
			if [ -d "$inner" ]; then
				copy=$work/cover$n/${inner#"$1"/}
				mkdir "$copy"
				chown --reference="$inner" "$copy"
				chmod --reference="$inner" "$copy"
			fi
		done
		mount --bind "$work/cover$n" "$1"
	fi
	n=$((n + 1))
	shift
done
files=$1
shift
n=0
while [ "$n" -lt "$files" ]; do
	eval "path$n=\$1"
	n=$((n + 1))
	shift
done
check() {
	name=$1
	shift
	output=$(timeout -k 2 "$seconds" "$@" 2>&1 </dev/null) && code=0 || code=$?
	printf "{\"trial\":\"%s\",\"exit\":%s,\"output\":\"%s\"}\n" "$name" "$code" "$(b64 "$output")"
}
check untouched "$@"
n=0
while [ "$n" -lt "$files" ]; do
	eval "path=\$path$n"
	dir=${path%/*}
	case ":${laid:-}:" in
	*":$dir:"*) ;;
	*)
		cp -a "$dir" "$work/dir$n"
		mount --bind "$work/dir$n" "$dir"
		laid=${laid:-}:$dir
		;;
	esac
	cat "$work/new/$n" >"$path"
	n=$((n + 1))
done
check candidate "$@"
' trial "$work" "$@"
