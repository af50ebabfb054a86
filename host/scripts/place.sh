# place.sh FENCE RUN {PATH BASE CANDIDATE}...: has each path stand as its
# candidate (packed tar on stdin: 0, 1, …; a link's text as a file). All must be as
# reviewed, or placed already, before the first is touched; each is checked
# again at its rename. Else what was placed goes back and the answer says so.
# Where nothing is to keep (a new file), owner and mode are the candidate's;
# else all else about a file stays. Without an armed guard nothing is placed.
fence "$1"
id=$2 run=$state/runs/$2
shift 2
rm -rf "$run/new"
mkdir -m 700 "$run/new"
gzip -dc | tar -xf - -C "$run/new"
if [ ! -e "$state/pending/$id" ]; then
	printf '{"failed":"%s"}\n' "$(text "its guard has fired, or is not armed")"
	exit 0
fi
all=$# n=0 path='' base='' candidate=''

pick() {
	nth "$n" "$@"
	candidate=$(wanted "$id" "$n" "$candidate")
}

# give_up {PATH BASE CANDIDATE}...: path was edited by somebody: what we placed
# goes back, theirs stays, and there is nothing left to guard.
give_up() {
	theirs=$path others=leave
	put_back "$id" "$@"
	if [ -n "$trouble" ]; then
		printf '{"failed":"%s"}\n' "$(text "$theirs was edited meanwhile, and then: ${trouble#failed }")"
	else
		disarmed "$id" || :
		printf '{"changed":"%s"}\n' "$(text "$theirs")"
	fi
	exit 0
}

while [ "$((n * 3))" -lt "$all" ]; do
	pick "$@"
	now=$(stands "$path")
	if [ "$now" != "$base" ] && [ "$now" != "$candidate" ]; then
		give_up "$@"
	fi
	n=$((n + 1))
done
: >"$run/placed"
sync "$run/placed" "$run/."

# directories PATH: makes those on the way to it that are not there, noting them.
directories() {
	if [ -d "$1" ] || [ -z "$1" ]; then return 0; fi
	directories "${1%/*}"
	{
		printf '%s\n' "$(b64 "$1")"
		if [ -s "$run/made-directories" ]; then cat "$run/made-directories"; fi
	} >"$run/made-directories.new"
	put "$run/made-directories.new" "$run/made-directories"
	mkdir -- "$1"
}

# beside: writes the candidate of path N beside it.
beside() {
	rm -f -- "$near.new" "$near.old"
	case $candidate in
	link:*)
		target=$(cat "$run/new/$n" && printf x)
		ln -s -- "${target%x}" "$near.new"
		;;
	*)
		content=$run/new/$n
		if [ -e "$run/$n.made" ]; then content=$run/$n.made; fi
		case $base in
		file:*) cp -a -- "$path" "$near.new" && cat "$content" >"$near.new" ;;
		*) (umask 077 && cat "$content" >"$near.new") ;;
		esac || return 1
		meta=${candidate#file:*:}
		if [ "$(stat -c %a:%U:%G -- "$near.new")" != "$meta" ]; then
			chown -- "${meta#*:}" "$near.new" && chmod "${meta%%:*}" "$near.new" || return 1
		fi
		;;
	esac
	[ "$(stands "$near.new")" = "$candidate" ]
}

# exchange A B: has two names change places at once, where the host has a tool for
# it: exch of util-linux 2.40, mv of coreutils 9.5.
exchange() {
	if [ -x /usr/bin/exch ]; then
		exch "$1" "$2" 2>/dev/null
	else
		mv --exchange -T -- "$1" "$2" 2>/dev/null
	fi
}

# swap: puts it in place; fails where the path is not as reviewed after all.
swap() {
	if [ "$base" = none ]; then
		# A link fails where something came about meanwhile; a rename would not.
		case $candidate in
		link:*) ln -s -T -- "${target%x}" "$path" ;;
		*) sync "$near.new" && ln -T -- "$near.new" "$path" ;;
		esac || return 1
		rm -f -- "$near.new"
		sync "${path%/*}/."
		return 0
	fi
	# The inode that stands here stays, in the run's folder where that is on the
	# same file system, else beside until the end.
	kept=$run/$n.live
	rm -f -- "$kept"
	# All that takes long comes before the second name is made.
	if [ "$candidate" != none ] && [ ! -L "$near.new" ]; then sync "$near.new"; fi
	names=$(stat -c %h -- "$path")
	if ! ln -T -- "$path" "$kept" 2>/dev/null; then
		kept=$near.old
		ln -T -- "$path" "$kept" || return 1
	fi
	if [ "$candidate" = none ]; then
		mv -f -T -- "$path" "$near.new"
		if [ "$(stands "$near.new")" != "$base" ]; then
			mv -f -T -- "$near.new" "$path"
			return 1
		fi
		rm -f -- "$near.new"
		sync "${path%/*}/."
	elif exchange "$near.new" "$path"; then
		# Whatever stood here is beside now, an edit of the last moment too.
		if [ "$(stands "$near.new")" != "$base" ]; then
			exchange "$near.new" "$path"
			return 1
		fi
		rm -f -- "$near.new"
		sync "${path%/*}/."
	else
		# An editor that renames takes the first name from the inode we hold.
		if [ "$(stat -c %h -- "$kept")" != "$((names + 1))" ]; then return 1; fi
		mv -f -T -- "$near.new" "$path"
		sync "${path%/*}/."
		if [ "$(stands "$kept")" != "$base" ]; then
			mv -f -T -- "$kept" "$path"
			return 1
		fi
	fi
	if [ "$kept" = "$near.old" ]; then rm -f -- "$kept"; fi
}

n=0
while [ "$((n * 3))" -lt "$all" ]; do
	pick "$@"
	near=${path%/*}/.wladder-$id-$n
	if [ "$base" = "$candidate" ]; then
		: # held
	elif [ "$(stands "$path")" = "$candidate" ]; then
		rm -f -- "$near.new" "$near.old" # of a place that was cut
	else
		trouble=
		if [ "$candidate" != none ]; then
			if ! directories "${path%/*}" || ! beside 2>"$run/said"; then
				trouble="$path cannot be written: $(tail -c 300 "$run/said" 2>/dev/null)"
			fi
		fi
		if [ -n "$trouble" ]; then
			rm -f -- "$near.new"
			wrong=$trouble
			put_back "$id" "$@"
			printf '{"failed":"%s"}\n' "$(text "$wrong${trouble:+; and then: $trouble}")"
			exit 0
		fi
		if ! swap 2>"$run/said"; then
			rm -f -- "$near.new" "$near.old"
			wrong=$path why=$(tail -c 300 "$run/said")
			if [ "$(stands "$path")" = "$base" ]; then
				put_back "$id" "$@"
				printf '{"failed":"%s"}\n' "$(text "$wrong cannot be replaced: $why")"
				exit 0
			fi
			give_up "$@"
		fi
		if [ "$(stands "$path")" != "$candidate" ]; then
			printf '{"failed":"%s"}\n' "$(text "$path does not read back as it was written")"
			exit 0
		fi
	fi
	n=$((n + 1))
done
rm -rf "$run/new"
printf '{"placed":%s}\n' "$n"
