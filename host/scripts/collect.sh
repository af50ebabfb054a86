# collect.sh [closed:]PATH...: what stands at the end of each path's links, with
# all that a replacement must keep, and what speaks against replacing it. Reads
# only.
# Of a closed path the content stays here, and its hash comes.

# hazard CODE DETAIL
hazard() { hazards="$hazards${hazards:+,}[\"$1\",\"$(text "$2")\"]"; }

# parents DIRECTORY: looks for others' rights in it and on the way to it. Sets $shared
# to yes where there are some.
parents() {
	ground "$1"
	if [ -z "$shared" ]; then return 0; fi
	up=$1
	set --
	while [ -n "$up" ]; do
		if [ -d "$up" ]; then set -- "$@" "$up"; fi
		up=${up%/*}
	done
	shown=$(stat -c '%a %U %G' -- "$@")
	while read -r mode owner group; do
		case $mode in
		*[2367]) hazard open-parent "$1" ;;
		esac
		case $owner/$group/$mode in
		root/root/*) ;;
		root/*/*[2367]?) hazard own-parent "group $group ($1)" ;;
		root/*) ;;
		*) hazard own-parent "$owner ($1)" ;;
		esac
		shift
	done <<-END
		$shown
	END
	if [ -z "$ground" ] && [ "$(stat -c %d -- "$state" 2>/dev/null || stat -c %d /var/lib)" != "$last" ]; then hazard no-private "$1"; fi
}

# swaps DIRECTORY NAME: marks that editors leave beside what they have open.
swaps() {
	for swap in "$1/.$2.swp" "$1/.$2.swo" "$1/.#$2" "$1/#$2#" "$1/.$2.kate-swp" "$1/.~lock.$2#"; do
		if [ -e "$swap" ] || [ -L "$swap" ]; then hazard swap-file "$swap"; fi
	done
}

# owned PATH: the package that it belongs to, unless it may be configured.
owned() {
	case $1 in
	/usr/* | /lib/* | /lib64/* | /bin/* | /sbin/*) ;;
	*) return 0 ;;
	esac
	package=
	if [ -d /var/lib/dpkg/info ]; then
		for name in "$1" "${1#/usr}"; do
			found=$(grep -lxF -e "$name" /var/lib/dpkg/info/*.list 2>/dev/null) || continue
			found=${found%%.list*}
			if grep -qxF -e "$name" "$found.conffiles" 2>/dev/null; then return 0; fi
			package=${found##*/}
		done
	elif [ -d /var/lib/rpm ]; then
		package=$(rpm -qf --qf '%{NAME}' -- "$1" 2>/dev/null) || package=
		if rpm -qc -- "$package" 2>/dev/null | grep -qxF -e "$1"; then package=; fi
	fi
	if [ -n "$package" ]; then hazard package-file "$package"; fi
}

# marks PATH: attributes of chattr(1).
marks() {
	flags=$(lsattr -d -- "$1" 2>/dev/null) || return 0
	flags=${flags%% *}
	case $flags in *i*) hazard immutable "$1" ;; esac
	case $flags in *a*) hazard append-only "$1" ;; esac
}

# mounted PATH: is something mounted just there?
mounted() {
	special=
	case $1 in *[!A-Za-z0-9._/@+:=,-]*) special=yes ;; esac # mountinfo writes these otherwise; see proc(5)
	if [ -n "$special" ] || [ ! -r /proc/self/mountinfo ]; then
		mountpoint -q -- "$1" 2>/dev/null
		return $?
	fi
	while read -r _ _ _ _ at _; do
		if [ "$at" = "$1" ]; then return 0; fi
	done </proc/self/mountinfo
	return 1
}

gathered=0
for path in "$@"; do
	closed=
	case $path in closed:*) closed=yes path=${path#closed:} ;; esac
	hazards='' links='' hops=0 at=$path
	ground "${path%/*}"
	open=$shared # others may change where the path leads
	while [ -L "$at" ] && [ "$hops" -lt 40 ]; do
		target=$(readlink -n -- "$at" && printf x)
		target=${target%x}
		links="$links${links:+,}[\"$(text "$at")\",\"$(text "$target")\"]"
		case $target in
		/*) at=$target ;;
		*) at=${at%/*}/$target ;;
		esac
		hops=$((hops + 1))
		ground "${at%/*}"
		open=$open$shared
	done
	resolve "$path"
	if [ -n "$open" ] && [ "$resolved" != "$path" ]; then hazard own-link "$path"; else open=; fi
	dir=${resolved%/*}
	near=$dir
	while [ -n "$near" ] && [ ! -d "$near" ]; do near=${near%/*}; done
	parents "${near:-/}"
	if [ "$near" != "$dir" ]; then hazard no-directory "$dir"; fi
	if [ ! -w "${near:-/}" ]; then hazard read-only "${near:-/}"; fi
	marks "${near:-/}"
	swaps "$dir" "${resolved##*/}"
	for left in dpkg-new dpkg-dist ucf-dist rpmnew rpmsave pacnew; do
		if [ -e "$resolved.$left" ]; then hazard package-leftover "$resolved.$left"; fi
	done
	if [ ! -e "$resolved" ]; then
		printf '{'
		field path "$path"
		field resolved "$resolved"
		printf '"links":[%s],"missing":true,"hazards":[%s]}\n' "$links" "$hazards"
		continue
	fi
	name=$resolved
	if [ -n "$shared" ] && ! enter "$resolved"; then
		hazard swapped "$resolved"
		open=yes
	fi
	meta=$(stat -c '%a %h %s %d:%i %U:%G %F' -- "$name") || meta='0 1 0 0:0 -:- swapped'
	mode=${meta%% *} meta=${meta#* }
	count=${meta%% *} meta=${meta#* }
	size=${meta%% *} meta=${meta#* }
	inode=${meta%% *} meta=${meta#* }
	owner=${meta%% *} kind=${meta#* }
	content=no
	if [ "$kind" = "regular empty file" ]; then kind="regular file"; fi
	if [ "$kind" = "regular file" ]; then
		if [ "$count" -gt 1 ]; then # those that a cut run left in its folder are ours
			ground "$dir"
			ours=$(find "$state/runs" "${ground%/}"/.wladder-* -name '*.live' -samefile "$resolved" -printf x 2>/dev/null | wc -c)
			count=$((count - ours))
		fi
		if [ "$count" -gt 1 ]; then hazard hard-links "$count"; fi
		if mounted "$resolved"; then hazard mount-point "$resolved"; fi
		marks "$resolved"
		owned "$resolved"
		case $(ls -ld -- "$resolved") in
		??????????+*) hazard acl "$resolved" ;;
		esac
		if [ -n "$closed" ]; then
			: # its hash alone
		elif [ "$size" -gt 4194304 ]; then
			hazard too-long "$size"
		elif [ $((gathered + size)) -gt 8388608 ]; then
			hazard too-much "$size"
		else
			gathered=$((gathered + size))
			content=yes held=
			if [ -n "$open" ]; then
				content=no # who may choose what is read does not get it read
			elif [ -n "$shared" ] && ! held=$(judged "$name" "$inode"); then
				content=no
				hazard swapped "$resolved"
			fi
		fi
	fi
	printf '{'
	field path "$path"
	field resolved "$resolved"
	field kind "$kind"
	field owner "${owner%%:*}"
	field group "${owner#*:}"
	if [ -n "$closed" ] && [ "$kind" = "regular file" ]; then printf '"sum":"%s",' "$(sum "$name")"; fi
	if [ "$content" = yes ] && keeps "$name"; then
		printf '"sum":"%s","covered":true,' "$(sum "$name")"
		if [ -n "$held" ]; then held=$(printf %s "$held" | base64 -d | sed "${covering#;}" | base64 | tr -d '\n'); fi
	fi
	printf '"links":[%s],"mode":"%s","hazards":[%s],"content":"' "$links" "$mode" "$hazards"
	if [ "$content" = yes ]; then
		if [ -n "$held" ]; then printf %s "$held"; else file64 "$resolved" "$size"; fi
	fi
	printf '"}\n'
done
