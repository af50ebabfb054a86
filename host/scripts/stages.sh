# Where a run makes ready what it places.

# private RUN: a folder of our own on the file system of the directory that we are
# in: the run's, or one on its ground.
# Sets $stage; fails where there is none.
private() {
	stage=$state/runs/$1/stage
	there=$(stat -c %d . "$state/runs/$1")
	if [ "${there%%[!0-9]*}" != "${there##*[!0-9]}" ]; then
		ground "$(pwd -P)"
		if [ -z "$ground" ]; then return 1; fi
		stage=${ground%/}/.wladder-$1
		if [ ! -d "$stage" ]; then printf '%s\n' "$(b64 "$stage")" >>"$state/runs/$1/stages"; fi
	fi
	[ -d "$stage" ] || mkdir -m 700 -- "$stage"
}

# clear_stages RUN: takes the folders away in which a run wrote what it placed.
clear_stages() {
	rm -rf -- "$state/runs/$1/stage"
	if [ -s "$state/runs/$1/stages" ]; then
		while read -r line; do
			plain "$line"
			rm -rf -- "$plain"
		done <"$state/runs/$1/stages"
		rm -f -- "$state/runs/$1/stages"
	fi
}
