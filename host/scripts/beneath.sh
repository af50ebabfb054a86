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
	[ "$(pwd -P)" = "${dir:-/}" ]
}

# nearest DIRECTORY: the last directory on the way from / to it, itself included, in
# which, as in all above it, root alone may write, and which lies on the file system
# of DIRECTORY. Sets $nearest, empty where there is none, and $shared to yes where
# others may write in DIRECTORY or on the way to it.
nearest() {
	up=${1%/*}
	if [ "$1" = / ]; then set --; fi
	while [ -n "$up" ]; do
		set -- "$up" "$@"
		up=${up%/*}
	done
	set -- / "$@"
	ways=$(stat -c '%u %g %a %d' -- "$@")
	nearest='' shared='' on='' last=''
	while read -r owner group mode device; do
		case $owner/$group/$mode in
		0/*[2367] | 0/[1-9]*/*[2367]?) shared=yes ;;
		0/*) if [ -z "$shared" ]; then nearest=$1 on=$device; fi ;;
		*) shared=yes ;;
		esac
		last=$device
		shift
	done <<-END
		$ways
	END
	if [ "$on" != "$last" ]; then nearest=''; fi
}

# private RUN: a folder of our own on the file system of the directory that we are
# in: the run's, or one below the nearest directory in which root alone may write.
# Sets $stage; fails where there is none.
private() {
	stage=$state/runs/$1/stage
	there=$(stat -c %d . "$state/runs/$1")
	if [ "${there%%[!0-9]*}" != "${there##*[!0-9]}" ]; then
		nearest "$(pwd -P)"
		if [ -z "$nearest" ]; then return 1; fi
		stage=${nearest%/}/.wladder-$1
		if [ ! -d "$stage" ]; then printf '%s\n' "$(b64 "$stage")" >>"$state/runs/$1/stages"; fi
	fi
	[ -d "$stage" ] || mkdir -m 700 -- "$stage"
}
