# trial.sh SECONDS GRANTS NET FLAGS COVERS SET {PATH CANDIDATE MAKE}... WORDS COMMAND...
# DUMP...: has the service's own checker look at candidates (tar on stdin: 0, 1, …)
# at their real paths, behind walls: this runs in mount, process, IPC, name and,
# where NET is own, network namespaces of its own. The untouched paths come first.
# Every mount is read-only; what is written lies on one small tmpfs, mounted with
# FLAGS, and goes with it. Nothing on the host is made, changed or left. /run, /tmp,
# /var/tmp and the directories COVERS (words of one text) are covered by empty ones,
# sockets elsewhere by empty files, /dev has five devices. MAKE is the command that
# makes a candidate, one line of words in base64, or empty: what it makes here is
# thrown away. Secrets for it come in the same tar as secret-NAME. GRANTS are
# capabilities, as in ,+chown; there are no others. WORDS counts COMMAND's words;
# the rest are DUMP's, run on the candidates.
seconds=$1 grants=$2 net=$3 flags=$4 covers="/run /var/tmp $5"
shift 5
if [ "$net" = own ]; then ip link set lo up 2>/dev/null || :; fi
work=/tmp/wladder
known_kept

# cannot TEXT: ends without an answer of the checker.
cannot() {
	printf '{"trial":"walls","exit":1,"output":"%s"}\n' "$(text "$1")"
	exit 0
}

# ours PATH: does it lie where the walls put something of their own?
ours() {
	case $1/ in /proc/* | /dev/* | /tmp/*) return 0 ;; esac
	for cover in $covers; do
		case $1/ in "$cover"/*) return 0 ;; esac
	done
	return 1
}

# skeleton: the directories of all covers, empty, into $work/over.
skeleton() {
	set --
	for cover in $covers; do
		for inner in "$cover" "$cover"/*/ "$cover"/*/*/; do
			if [ -d "${inner%/}" ] && [ ! -L "${inner%/}" ]; then set -- "$@" ".${inner%/}"; fi
		done
	done
	tar -C / --no-recursion --numeric-owner -cf - "$@" | tar -C "$work/over" --numeric-owner -xpf -
}

# walls: the table of what is mounted, for one mount(8): everything read-only,
# then what is ours over it.
walls() {
	while read -r _ _ _ _ at _; do
		if ! ours "$at"; then printf 'wladder %s none remount,bind,ro,nosuid,nodev 0 0\n' "$at"; fi
	done </proc/self/mountinfo
	for cover in $covers; do
		if [ -d "$work/over$cover" ]; then printf '%s %s none bind 0 0\n' "$work/over$cover" "$cover"; fi
	done
	# What daemons listen on, wherever it lies; the kernel escapes nothing here, so
	# that a name with a blank is left alone, as is one of another root.
	while read -r _ _ _ _ _ _ _ at more; do
		case $at in
		*[!A-Za-z0-9._/:@+,=%-]*) ;;
		/*) if [ -z "$more" ] && [ -S "$at" ] && ! ours "$at"; then printf '%s %s none bind,ro 0 0\n' "$work/socket" "$at"; fi ;;
		esac
	done </proc/1/net/unix
	if [ -d "$state" ]; then printf '%s %s none bind,ro 0 0\n' "$work/none" "$state"; fi
	for device in null zero full random urandom; do
		: >"$work/dev/$device"
		printf '/dev/%s %s none bind,ro 0 0\n' "$device" "$work/dev/$device"
	done
	printf '%s /dev none rbind 0 0\n' "$work/dev"
	printf 'wladder /proc proc ro,nosuid,nodev,noexec 0 0\n'
	# What is said has room of its own, whatever a checker fills.
	printf 'wladder %s tmpfs size=8m,mode=700,nosuid,nodev,noexec 0 0\n' "$work/says"
}

mount -n -t tmpfs -o "mode=1777,size=64m,nr_inodes=16k,$flags" wladder /tmp
mkdir -m 700 "$work"
mkdir "$work/over" "$work/dev" "$work/new" "$work/none" "$work/says"
: >"$work/socket"
gzip -dc | tar -xf - -C "$work/new"
if [ "$net" = host ] && [ -L /etc/resolv.conf ]; then cat /etc/resolv.conf >"$work/resolv" 2>/dev/null || :; fi
skeleton 2>"$work/said" || cannot "the directories that are covered could not be made: $(head -c 500 "$work/said")"
walls >"$work/table"
mount -n -o remount,bind,ro,nosuid,nodev / 2>"$work/said" || : # mount -a leaves it out
mount -n -a -T "$work/table" 2>>"$work/said" || :
# What counts is how it is, not what mount said. The last one at a place is on top.
open='' stand=''
while read -r _ _ _ _ at how rest; do
	case $stand in *" $at "*) stand=${stand%%" $at "*}${stand#*" $at "} ;; esac
	case " $rest" in *' - '*' wladder '*) stand="$stand $at " ;; esac
	if ours "$at"; then continue; fi
	case $open in *" $at "*) open=${open%%" $at "*}${open#*" $at "} ;; esac
	case $how in ro | ro,*) ;; *) open="$open $at " ;; esac
done </proc/self/mountinfo
if [ -n "$open" ]; then cannot "not everything can be made read-only for a trial:$open$(head -c 500 "$work/said")"; fi
for cover in /proc /dev $covers; do
	case $stand in *" $cover "*) continue ;; esac
	if [ -d "$cover" ] && [ ! -L "$cover" ]; then cannot "$cover cannot be covered for a trial: $(head -c 500 "$work/said")"; fi
done
if [ -s "$work/resolv" ]; then
	resolve /etc/resolv.conf
	case $resolved in /run/*)
		mkdir -p "${resolved%/*}"
		cat "$work/resolv" >"$resolved"
		;;
	esac
fi

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
	set -- timeout -k 2 "$seconds" setpriv --no-new-privs --inh-caps -all --bounding-set "-all$grants" -- "$@"
	"$@" >"$work/says/said" 2>&1 </dev/null && code=0 || code=$?
	if keeps "$work/says/said"; then
		sed "${covering#;}" <"$work/says/said" >"$work/covered"
		cat "$work/covered" >"$work/says/said"
	fi
	printf '{"trial":"%s","exit":%s,"output":"' "$name" "$code"
	if [ -s "$work/says/said" ]; then head -c 4194304 "$work/says/said" | base64 | tr -d '\n'; fi
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
	if [ "$1" = :fill ]; then
		make_file "$into" "$work/new" "$seconds" "$@"
	else
		make_file "$into" "$work/new" "$seconds" setpriv --no-new-privs --inh-caps -all --bounding-set "-all$grants" -- "$@"
	fi
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
	if ! mount -n -t overlay -o "$flags,lowerdir=$1,upperdir=$work/upper$n,workdir=$work/work$n" wladder "$1" 2>/dev/null; then
		used=$(timeout 20 du -sk -- "$1" | cut -f 1)
		if [ "${used:-99999}" -gt 16384 ]; then
			printf 'overlays are not to be had here, and it holds %s KiB' "$used"
			return 1
		fi
		cp -a -- "$1/." "$work/upper$n" && mount -n --bind "$work/upper$n" "$1" || return 1
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
		file:*) if [ ! -e "$content" ]; then # it keeps what it holds
			n=$((n + 1))
			continue
		fi ;;
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
			mount -n --bind "$content" "$path"
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
rm -f -- "$work"/new/secret-*
check candidate 0 "$words" "$@"
if [ $# -gt "$words" ]; then check dump "$words" $(($# - words)) "$@"; fi
