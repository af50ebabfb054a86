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
			size=$(stat -L -c %s -- "$file")
			printf '{'
			field path "$file"
			field resolved "$resolved"
			if [ "$room" -gt 0 ] && [ "$size" -le 1048576 ] && [ "$size" -le "$left" ] && [ -r "$file" ]; then
				printf '"content":"'
				file64 "$file" "$size"
				printf '",'
				room=$((room - 1)) left=$((left - size))
			fi
			printf '"n":%s}\n' "$n"
		done
		unset IFS
	done
	printf '{"n":%s,"room":%s}\n' "$n" "$room"
}
