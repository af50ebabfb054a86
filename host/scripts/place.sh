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
# goes back, theirs stays, and there is nothing left to guard but a way back for a service
# that is out of the way.
give_up() {
	theirs=$path others=leave
	put_back "$id" "$@"
	if [ -n "$trouble" ]; then
		printf '{"failed":"%s"}\n' "$(text "$theirs was edited meanwhile, and then: ${trouble#failed }")"
	else
		if ! out_of_the_way "$id"; then disarmed "$id" || :; fi
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
	directories "${1%/*}" || return 1
	{
		printf '%s\n' "$(b64 "$1")"
		if [ -s "$run/made-directories" ]; then cat "$run/made-directories"; fi
	} >"$run/made-directories.new"
	put "$run/made-directories.new" "$run/made-directories"
	enter "$1" && mkdir -- "$name"
}

# hold: keeps the inode that stands at path N, which nobody can exchange then, and
# checks that it is the base.
hold() {
	new=$stage/$n.new kept=$stage/$n.live
	rm -f -- "$new" "$kept"
	if [ "$base" = none ]; then
		[ ! -e "$name" ] && [ ! -L "$name" ]
		return
	fi
	names=$(stat -c %h -- "$name")
	ln -T -- "$name" "$kept" && [ "$(stands "$kept")" = "$base" ]
}

# beside: writes the candidate of path N in the folder of our own.
beside() {
	case $candidate in
	none) return 0 ;;
	link:*)
		target=$(cat "$run/new/$n" && printf x)
		ln -s -- "${target%x}" "$new"
		;;
	*)
		content=$run/new/$n
		if [ -e "$run/$n.made" ]; then content=$run/$n.made; fi
		case $base in
		file:*) cp -a -- "$kept" "$new" && { [ ! -e "$content" ] || cat "$content" >"$new"; } ;;
		*) (umask 077 && cat "$content" >"$new") ;;
		esac || return 1
		meta=${candidate#file:*:}
		if [ "$(stat -c %a:%U:%G -- "$new")" != "$meta" ]; then
			chown -h -- "${meta#*:}" "$new" && chmod "${meta%%:*}" "$new" || return 1
		fi
		sync "$new"
		;;
	esac
	[ "$(stands "$new")" = "$candidate" ]
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
		link:*) ln -s -T -- "${target%x}" "$name" ;;
		*) ln -T -- "$new" "$name" ;;
		esac || return 1
	elif [ "$candidate" = none ]; then
		mv -f -T -- "$name" "$new"
		if [ "$(stands "$new")" != "$base" ]; then
			ln -T -- "$new" "$name"
			return 1
		fi
	elif exchange "$new" "$name"; then
		# Whatever stood here is with us now, an edit of the last moment too.
		if [ "$(stands "$new")" != "$base" ]; then
			exchange "$new" "$name"
			return 1
		fi
	else
		# An editor that renames takes the first name from the inode we hold.
		if [ "$(stat -c %h -- "$kept")" != "$((names + 1))" ]; then return 1; fi
		mv -f -T -- "$new" "$name"
		if [ "$(stands "$kept")" != "$base" ]; then
			mv -f -T -- "$kept" "$name"
			sync .
			return 1
		fi
	fi
	rm -f -- "$new"
	sync .
	# The inode that stood here stays with us: its way back needs no room on the disk.
}

# place_one: path N in place; sets $wrong where it cannot be, and $edited where it is
# not what was reviewed.
place_one() {
	wrong='' edited=''
	if [ "$candidate" != none ] && ! directories "${path%/*}" 2>"$run/said"; then
		wrong="cannot be written: its directory cannot be made: $(tail -c 300 "$run/said")"
	elif ! enter "$path"; then
		edited=yes # its directory went, or is another
	elif ! private "$id" 2>"$run/said"; then
		wrong="cannot be written: there is no directory on its file system in which root alone may write: $(tail -c 300 "$run/said")"
	elif ! hold 2>"$run/said"; then
		edited=yes
	elif ! beside 2>"$run/said"; then
		wrong="cannot be written: $(tail -c 300 "$run/said" 2>/dev/null)"
	elif ! swap 2>"$run/said"; then
		edited=yes
	fi
	if [ -n "$edited" ] && [ "$(stands "$path")" = "$base" ]; then
		wrong="cannot be replaced: $(tail -c 300 "$run/said" 2>/dev/null)" edited=''
	fi
}

n=0
while [ "$((n * 3))" -lt "$all" ]; do
	pick "$@"
	if [ "$base" != "$candidate" ] && [ "$(stands "$path")" != "$candidate" ]; then
		place_one
		if [ -n "$edited" ]; then give_up "$@"; fi
		if [ -n "$wrong" ]; then
			wrong="$path $wrong"
			put_back "$id" "$@"
			printf '{"failed":"%s"}\n' "$(text "$wrong${trouble:+; and then: $trouble}")"
			exit 0
		fi
		if [ "$(stands "$name")" != "$candidate" ]; then
			printf '{"failed":"%s"}\n' "$(text "$path does not read back as it was written")"
			exit 0
		fi
	fi
	n=$((n + 1))
done
rm -rf "$run/new"
printf '{"placed":%s}\n' "$n"
