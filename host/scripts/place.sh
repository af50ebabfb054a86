# place.sh FENCE RUN {PATH BASE CANDIDATE}...: renames candidates (tar on stdin,
# named 0, 1, …) over the live files, each of which must have the hash BASE.
# Owner, mode, ACL and labels stay. Where a file is not the base after all, what
# was renamed goes back and the answer says so. What is placed already is left.
fence "$1"
id=$2 run=$state/runs/$2
shift 2
rm -rf "$run/new"
mkdir -m 700 "$run/new"
tar -xf - -C "$run/new"

# undo COUNT PATH...: takes back the first COUNT files from the snapshot.
undo() {
	count=$1
	shift
	k=0
	while [ "$k" -lt "$count" ]; do
		rm -f "${1%/*}/.wladder-$id-$k.back"
		cp -a -- "$run/$k.base" "${1%/*}/.wladder-$id-$k.back"
		put "${1%/*}/.wladder-$id-$k.back" "$1"
		k=$((k + 1))
		shift 3
	done
}

n=0 all=$# path='' base='' candidate=''
while [ "$((n * 3))" -lt "$all" ]; do
	eval "path=\$$((n * 3 + 1)) base=\$$((n * 3 + 2)) candidate=\$$((n * 3 + 3))"
	beside=${path%/*}/.wladder-$id-$n.new old=${path%/*}/.wladder-$id-$n.old
	rm -f "$beside" "$old"
	now=$(sum "$path")
	if [ "$now" != "$candidate" ]; then
		if [ "$now" = "$base" ]; then
			cp -a -- "$path" "$beside"
			cat "$run/new/$n" >"$beside"
			if [ "$(sum "$beside")" != "$candidate" ]; then
				rm -f "$beside"
				undo "$n" "$@"
				printf '{"failed":"%s"}\n' "$(b64 "the candidate for $path arrived damaged")"
				exit 0
			fi
			ln -- "$path" "$old"
			put "$beside" "$path"
			now=$(sum "$old")
			if [ "$now" != "$base" ]; then mv -f -T -- "$old" "$path"; fi
			rm -f "$old"
		fi
		if [ "$now" != "$base" ]; then
			undo "$n" "$@"
			printf '{"changed":"%s"}\n' "$(b64 "$path")"
			exit 0
		fi
		if [ "$(sum "$path")" != "$candidate" ]; then
			printf '{"failed":"%s"}\n' "$(b64 "$path does not read back as it was written")"
			exit 0
		fi
	fi
	n=$((n + 1))
done
rm -rf "$run/new"
printf '{"placed":%s}\n' "$n"
