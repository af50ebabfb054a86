# ask_surroundings PATTERN...: the files that patterns of file names mean (glob(7)),
# with their contents; links are followed. At most 500 files of at most 1 MiB each,
# 4 MiB in all of one script: of what is beyond, the path alone.
left=4194304
ask_surroundings() {
	room=500
	for pattern; do
		IFS=
		# shellcheck disable=SC2086 # the pattern is meant to expand; without IFS it does not fall into words
		for file in $pattern; do
			if [ ! -f "$file" ]; then continue; fi
			unset IFS
			resolve "$file"
			ground "${file%/*}"
			ours=yes
			if [ "$resolved" != "$file" ]; then
				# Who may change the link chooses what we read.
				if [ -n "$shared" ]; then ours=; fi
				ground "${resolved%/*}"
			fi
			name=$resolved
			if [ -n "$shared" ] && ! enter "$resolved"; then ours=; fi
			size=$(stat -c '%s %d:%i' -- "$name") || size='0 0:0'
			inode=${size#* } size=${size% *}
			printf '{'
			field path "$file"
			field resolved "$resolved"
			if [ -n "$ours" ] && [ "$room" -gt 0 ] && [ "$size" -le 1048576 ] && [ "$size" -le "$left" ] && [ -r "$file" ]; then
				if [ -z "$shared" ]; then
					printf '"content":"'
					file64 "$resolved" "$size"
					printf '",'
				elif held=$(judged "$name" "$inode"); then
					printf '"content":"%s",' "$held"
				fi
				room=$((room - 1)) left=$((left - size))
			fi
			printf '"n":%s}\n' "$n"
		done
		unset IFS
	done
	printf '{"n":%s,"room":%s}\n' "$n" "$room"
}
