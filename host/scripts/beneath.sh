# What is done beside people who may write in a path's directory, such as the
# service's own user: nothing of ours goes through a name that they could change
# meanwhile. We go into the directory, which no rename can take from us then, and
# work there by names without a slash; what has to be written is written in a folder
# of our own, and comes by one rename.

# enter PATH: goes into its directory, and sets $name to what it is called there.
# Fails where the directory is not there, or not reached without a link any more.
enter() {
	name=./${1##*/} dir=${1%/*}
	cd -P -- "${dir:-/}" 2>/dev/null || return 1
	if [ "$(pwd -P)" = "${dir:-/}" ]; then return 0; fi
	cd / # nothing is done where somebody else has led us
	return 1
}

# ground DIRECTORY: where on its file system, on the way to it, nobody but root can
# change what is there: the first directory of that file system, if root alone may
# write in it and in all above it. Sets $ground, empty where there is none, and
# $shared to yes where others may write in DIRECTORY or on the way to it.
ground() {
	if [ "$1" = "${grounded-}" ]; then return 0; fi
	grounded=$1
	up=$1
	set --
	while [ -n "$up" ] && [ "$up" != / ]; do
		if [ -d "$up" ]; then set -- "$up" "$@"; fi
		up=${up%/*}
	done
	set -- / "$@"
	ways=$(stat -L -c '%u %g %a %d' -- "$@")
	ground='' shared='' on='' last=''
	while read -r owner group mode device; do
		case $owner/$group/$mode in
		0/*[2367] | 0/[1-9]*/*[2367]?) shared=yes ;;
		0/*) if [ -z "$shared" ] && [ "$device" != "$on" ]; then ground=$1 on=$device; fi ;;
		*) shared=yes ;;
		esac
		last=$device
		shift
	done <<-END
		$ways
	END
	# shellcheck disable=SC2034 # for who calls it
	if [ "$on" != "$last" ]; then ground=''; fi
}

# judged NAME DEVICE:INODE: what the file of that name, in the directory that we are in,
# holds, in base64, if it is still the one that was looked at; fails where it is not.
# Among others, a name may lead elsewhere a moment later.
judged() {
	# shellcheck disable=SC2016 # the inner shell expands these
	timeout 20 sh -c '{ [ "$(stat -L -c %d:%i /proc/self/fd/0)" = "$1" ] && base64 | tr -d "\n"; } <"$2"' judged "$2" "$1" 2>/dev/null
}
