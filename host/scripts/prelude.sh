# Stands before every script. Answers are JSON lines whose texts are as text
# writes them, so that no path, value or program's output can be read as anything
# but data. Programs are started where the shell cannot do it itself: each costs
# more than all else here.
set -eu
LC_ALL=C
PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL PATH
umask 022
state=/var/lib/wladder

b64() { printf %s "$1" | base64 | tr -d '\n'; }

# text TEXT: as it is, behind a dot, where nothing in it could be read as anything
# else; in base64 where something could.
text() {
	case $1 in
	*[!A-Za-z0-9\ ._/:@+,=%~-]*) b64 "$1" ;;
	*) printf .%s "$1" ;;
	esac
}

# begun_at MARK: when MARK began, in seconds since boot, into $begun; 0.00 where the host has
# booted anew since.
# shellcheck disable=SC2034 # callers read it
begun_at() {
	read -r begun of <"$1.begun"
	this_boot
	if [ -n "$of" ] && [ "$of" != "$boot" ]; then begun=0.00; fi
}

# this_boot: sets $boot to the id of the boot that the host is in; empty where it has none.
this_boot() {
	boot=
	{ read -r boot </proc/sys/kernel/random/boot_id; } 2>/dev/null || :
}

# field KEY TEXT: one text of an answer, with a comma behind it.
field() {
	printf '"%s":"' "$1"
	text "$2"
	printf '",'
}

# known_kept: the secrets that this host keeps, with the words that stand for them, as sed
# takes them, into $known: once.
known_kept() {
	known=
	for at in "$state"/kept/*; do
		if [ ! -s "$at" ]; then continue; fi
		read -r value <"$at" || :
		case $value in '' | *[!A-Za-z0-9]*) continue ;; esac
		known="$known $value/wladder.kept.${at##*/}.kept"
	done
}

# keeps FILE: does it hold such a secret? Then $covering puts the words in their place.
keeps() {
	covering=
	if [ -z "${known+x}" ]; then known_kept; fi
	for pair in $known; do
		if grep -qF -e "${pair%%/*}" -- "$1" 2>/dev/null; then covering="$covering;s/${pair%%/*}/${pair#*/}/g"; fi
	done
	[ -n "$covering" ]
}

# file64 FILE SIZE: what a file holds, in base64 on one line; words stand for secrets that
# this host keeps.
file64() {
	if keeps "$1"; then
		sed "${covering#;}" <"$1" | base64 | tr -d '\n'
		return 0
	fi
	if [ "$2" -gt 262144 ]; then
		base64 <"$1" | tr -d '\n'
		return 0
	fi
	if [ "$2" = 0 ]; then return 0; fi
	set -f
	IFS='
'
	# shellcheck disable=SC2046 # the lines fall apart, and come together again without their ends
	set -- $(base64 <"$1")
	IFS=
	printf %s "$*"
	unset IFS
	set +f
}

# plain WORD: what WORD says as text writes it, into $plain; line ends at its end
# stay.
plain() {
	case $1 in
	.*) plain=${1#.} ;;
	*)
		plain=$(printf %s "$1" | base64 -d && printf x)
		plain=${plain%x}
		;;
	esac
}

# resolve PATH: where the links of an absolute path lead, into $resolved.
resolve() {
	linked='' up=$1
	case $1/ in *//* | */./* | */../*) linked=maybe ;; esac
	while [ -n "$up" ]; do
		if [ -L "$up" ]; then linked=yes; fi
		up=${up%/*}
	done
	resolved=$1
	if [ -n "$linked" ]; then
		resolved=$(readlink -m -n -- "$1" && printf x)
		resolved=${resolved%x}
	fi
}

sum() {
	hashed=$(sha256sum <"$1" 2>/dev/null) || hashed=none
	printf %s "${hashed%% *}"
}

# stands PATH: how a path stands, in one word: none, other,
# file:SHA256:MODE:OWNER:GROUP or link:SHA256 of what the link says.
stands() {
	if [ -L "$1" ]; then
		said=$(readlink -n -- "$1" | sha256sum)
		printf 'link:%s' "${said%% *}"
	elif [ -f "$1" ]; then
		meta=$(stat -c %a:%U:%G -- "$1")
		printf 'file:%s:%s' "$(sum "$1")" "$meta"
	elif [ -e "$1" ]; then
		printf other
	else
		printf none
	fi
}

# wanted RUN N CANDIDATE: the candidate of path N as stands would say it. A file
# made on the host has its hash from where it was made.
wanted() {
	case $3 in
	made:*)
		made=unmade
		if [ -s "$state/runs/$1/$2.made.sum" ]; then made=$(cat "$state/runs/$1/$2.made.sum"); fi
		printf 'file:%s:%s' "$made" "${3#made:}"
		;;
	*) printf %s "$3" ;;
	esac
}

# fence NUMBER: refuses whoever comes with a lower number than seen before.
fence() {
	seen=0
	if [ -s "$state/fence" ]; then seen=$(cat "$state/fence"); fi
	if [ "$1" -lt "$seen" ]; then
		printf '{"fenced":%s}\n' "$seen"
		exit 76
	fi
	if [ "$1" -gt "$seen" ]; then
		if ! printf '%s\n' "$1" 2>/dev/null >"$state/fence.new"; then
			printf '%s cannot be written; is its disk full? Make room there first\n' "$state" >&2
			exit 74
		fi
		put "$state/fence.new" "$state/fence"
	fi
}

# put BESIDE TARGET: renames BESIDE over TARGET, durably.
put() {
	if [ ! -L "$1" ]; then sync "$1"; fi
	mv -f -T -- "$1" "$2"
	sync "${2%/*}/."
}

# managed: does systemd run this machine?
managed() { [ -d /run/systemd/system ]; }

# unit_file PATH: is it one that systemd reads?
unit_file() {
	case $1 in
	/etc/systemd/system/* | /run/systemd/system/* | /usr/local/lib/systemd/system/* | /usr/lib/systemd/system/* | /lib/systemd/system/*) return 0 ;;
	esac
	return 1
}
