# trial.sh SECONDS NEEDS NET COVERS COVER... SET {PATH CANDIDATE MAKE}... WORDS
# COMMAND... DUMP...: has the service's own checker look at candidates (tar on
# stdin: 0, 1, …) at their real paths, in the mount namespace that this runs in.
# The untouched paths come first. Nothing live is written; directories that the
# checker writes to are covered. MAKE is the command that makes a candidate, one
# line of words in base64, or empty: what it makes here is thrown away. Secrets
# for it come in the same tar as secret-NAME. NET is own where this runs without
# the host's network; NEEDS are further capabilities, as in ,+sys_chroot. WORDS
# counts COMMAND's words; the rest are DUMP's, run on the candidates.
seconds=$1 grants=$2 net=$3 covers=$4
shift 4
if [ "$net" = own ]; then ip link set lo up 2>/dev/null || :; fi
work=$state/trial
if [ ! -d "$work" ]; then
	mkdir -p "$work"
	chmod 700 "$state" "$work"
fi
mount -t tmpfs -o mode=700,size=64m wladder "$work"
# Folders for all covers at once, and for what comes in.
n=0 made=
while [ "$n" -lt "$covers" ]; do
	made="$made $work/cover$n"
	n=$((n + 1))
done
# shellcheck disable=SC2086 # names of our own
mkdir "$work/new" $made
gzip -dc | tar -xf - -C "$work/new"

# cover DIRECTORY BY: makes the folder BY like DIRECTORY, with the directories in
# it, empty.
cover() {
	from=$1 by=$2
	set -- .
	for inner in "$from"/*/; do
		if [ -d "$inner" ]; then
			inner=${inner%/}
			set -- "$@" "./${inner##*/}"
		fi
	done
	tar -C "$from" --no-recursion --numeric-owner -cf - "$@" | tar -C "$by" --numeric-owner -xpf -
}

n=0
while [ "$n" -lt "$covers" ]; do
	if [ -d "$1" ] && [ "$1" != "$work" ]; then
		cover "$1" "$work/cover$n"
		mount --bind "$work/cover$n" "$1"
	fi
	n=$((n + 1))
	shift
done
files=$1
shift
n=0
while [ "$n" -lt "$files" ]; do
	eval "path$n=\$1 candidate$n=\$2 make$n=\$3"
	n=$((n + 1))
	shift 3
done
words=$1
shift

# check NAME FROM COUNT WORDS...: runs COUNT of the words behind the first FROM.
check() {
	name=$1 skip=$2 take=$3
	shift 3
	shift "$skip"
	count=$#
	while [ "$count" -gt 0 ]; do
		word=$1
		shift
		if [ "$take" -gt 0 ]; then
			set -- "$@" "$word"
			take=$((take - 1))
		fi
		count=$((count - 1))
	done
	set -- timeout -k 2 "$seconds" setpriv --bounding-set "-all,+chown,+dac_override,+fowner,+fsetid,+setuid,+setgid,+setpcap,+net_bind_service$grants" -- "$@"
	"$@" >"$work/said" 2>&1 </dev/null && code=0 || code=$?
	printf '{"trial":"%s","exit":%s,"output":"' "$name" "$code"
	if [ -s "$work/said" ]; then base64 <"$work/said" | tr -d '\n'; fi
	printf '"}\n'
}
# make_here DIRECTORY LINE: makes a throwaway file by the command in LINE.
make_here() {
	into=$1 line=$2
	set --
	set -f
	for word in $line; do
		plain "$word"
		set -- "$@" "$plain"
	done
	set +f
	make_file "$into" "$work/new" "$seconds" "$@"
}

check untouched 0 "$words" "$@"

# layer DIRECTORY: lays an overlay over a directory in which names come or go. Its
# upper part is on our own tmpfs; what is below is not copied, however large. Where
# the kernel cannot (overlays over overlays have a limit), a small directory is
# copied, and a large one says that it cannot be tried.
layer() {
	case ":${laid:-}:" in *":$1:"*) return 0 ;; esac
	mkdir "$work/upper$n" "$work/work$n"
	chown --reference="$1" "$work/upper$n"
	chmod --reference="$1" "$work/upper$n"
	if ! mount -t overlay -o "lowerdir=$1,upperdir=$work/upper$n,workdir=$work/work$n" wladder "$1" 2>/dev/null; then
		used=$(timeout 20 du -sk -- "$1" | cut -f 1)
		if [ "${used:-99999}" -gt 16384 ]; then
			printf 'overlays are not to be had here, and it holds %s KiB' "$used"
			return 1
		fi
		cp -a -- "$1/." "$work/upper$n" && mount --bind "$work/upper$n" "$1" || return 1
	fi
	laid=${laid:-}:$1
}

# over_file: is it a file that comes over a file? Then nothing else of its
# directory is touched.
over_file() {
	case $candidate in
	file:* | made:*) [ -f "$path" ] && [ ! -L "$path" ] ;;
	*) return 1 ;;
	esac
}

# All layers first: one laid later would hide what is bound below it.
n=0 path='' candidate='' make=''
while [ "$n" -lt "$files" ]; do
	eval "path=\$path$n candidate=\$candidate$n"
	if ! over_file; then
		dir=${path%/*}
		while [ ! -d "$dir" ]; do dir=${dir%/*}; done
		if ! layer "${dir:-/}" >"$work/said" 2>&1; then
			printf '{"trial":"made","exit":1,"output":"%s"}\n' "$(text "$dir cannot be laid over here, so that nothing new in it can be tried: $(cat "$work/said")")"
			exit 0
		fi
	fi
	n=$((n + 1))
done
n=0
while [ "$n" -lt "$files" ]; do
	eval "path=\$path$n candidate=\$candidate$n make=\$make$n"
	over=
	if over_file; then over=$path; fi
	case $candidate in
	none) rm -f -- "$path" ;;
	link:*)
		target=$(cat "$work/new/$n" && printf x)
		mkdir -p "${path%/*}"
		rm -f -- "$path"
		ln -s -- "${target%x}" "$path"
		;;
	*)
		content=$work/new/$n
		case $candidate in
		made:*)
			mkdir -m 700 "$work/making$n"
			make_here "$work/making$n" "$make"
			if [ "$code" != 0 ]; then
				printf '{"trial":"made","exit":%s,"output":"%s"}\n' "$code" "$(text "$said")"
				exit 0
			fi
			content=$work/making$n/made
			;;
		esac
		owner=${candidate#made:}
		owner=${owner#file:*:}
		if [ -n "$over" ]; then
			give_to "$content" "$owner"
			mount --bind "$content" "$path"
		else
			mkdir -p "${path%/*}"
			if [ -L "$path" ]; then rm -f -- "$path"; fi
			cat "$content" >"$path"
			give_to "$path" "$owner"
		fi
		;;
	esac
	n=$((n + 1))
done
check candidate 0 "$words" "$@"
if [ $# -gt "$words" ]; then check dump "$words" $(($# - words)) "$@"; fi
