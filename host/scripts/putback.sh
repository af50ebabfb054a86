# leave OTHER paths as they are, where set to leave; else nothing is done then.
others=refuse

# alike A B: the same kind and content, whatever mode and owner.
alike() {
	a=$1 b=$2
	case $a in file:*)
		a=${a#file:}
		a=file:${a%%:*}
		;;
	esac
	case $b in file:*)
		b=${b#file:}
		b=file:${b%%:*}
		;;
	esac
	[ "$a" = "$b" ]
}

# nth N {PATH BASE CANDIDATE}...: sets path, base and candidate to those of path N.
nth() {
	shift $(($1 * 3 + 1))
	path=$1 base=$2 candidate=$3
}

# put_back RUN {PATH BASE CANDIDATE}...: has every path as it was, the last one
# first. Unless every path is as it was or as we placed it, nothing is done and
# $trouble says "other PATH"; where something fails it says "failed …".
put_back() {
	id=$1 run=$state/runs/$1 trouble='' reload='' all=$(($# - 1))
	shift
	n=$((all / 3)) path='' base='' candidate=''
	while [ "$n" -gt 0 ]; do
		n=$((n - 1))
		nth "$n" "$@"
		if [ "$base" = "$candidate" ]; then continue; fi # held, never placed
		now=$(stands "$path")
		candidate=$(wanted "$id" "$n" "$candidate")
		if [ "$now" != "$base" ] && ! alike "$now" "$base" && ! alike "$now" "$candidate" && [ "$now" != none ] && [ "$others" = refuse ]; then
			trouble="other $path"
			return 0
		fi
	done
	n=$((all / 3))
	while [ "$n" -gt 0 ]; do
		n=$((n - 1))
		nth "$n" "$@"
		if [ "$base" != "$candidate" ]; then put_one_back; fi
		if [ -n "$trouble" ]; then return 0; fi
	done
	if [ -s "$run/made-directories" ]; then
		while read -r line; do
			plain "$line"
			if enter "$plain"; then rmdir -- "$name" 2>/dev/null || :; fi
		done <"$run/made-directories"
	fi
	clear_stages "$id"
	rm -f -- "$run"/*.made # their hashes stay
	if [ -n "$reload" ] && managed; then
		timeout 60 systemctl daemon-reload 3>&- || trouble="failed systemctl daemon-reload"
	fi
}

# put_one_back: path, base and candidate are path N's.
put_one_back() {
	if ! enter "$path"; then
		if [ "$base" != none ] || [ -e "$path" ]; then trouble="failed the directory of $path is another than it was; the old file is $run/$n.base"; fi
		return 0
	fi
	now=$(stands "$name")
	if unit_file "$path"; then reload=yes; fi
	if [ "$now" != "$base" ] && { [ "$others" = refuse ] || alike "$now" "$(wanted "$id" "$n" "$candidate")" || [ "$now" = none ]; }; then
		case $base in
		none)
			if unit_file "$path" && managed && [ "${path%.d/*}" = "$path" ]; then
				# It leaves with the file, and so do the links that enable it.
				timeout 60 systemctl ${late:+"$late"} disable --now -- "${path##*/}" >/dev/null 2>&1 3>&- || :
			fi
			rm -f -- "$name"
			;;
		*)
			if ! private "$id" 2>/dev/null; then
				trouble="failed $path cannot be written (is its disk full?); the old file is $run/$n.base"
				return 0
			fi
			back=$stage/$n.back
			rm -f -- "$back"
			# The very file that stood here needs no room on a full disk.
			if [ "$(stands "$stage/$n.live")" = "$base" ] && ln -T -- "$stage/$n.live" "$back" 2>/dev/null; then
				:
			elif [ "$(stands "$run/$n.base")" != "$base" ]; then
				trouble="failed the snapshot of $path in $run is damaged"
				return 0
			elif ! cp -a -- "$run/$n.base" "$back" 2>/dev/null; then
				rm -f -- "$back"
				trouble="failed $path cannot be written (is its disk full?); the old file is $run/$n.base"
				return 0
			fi
			put "$back" "$name"
			;;
		esac
		sync .
		if [ "$(stands "$name")" != "$base" ]; then
			trouble="failed $path does not read back as it was"
			return 0
		fi
	fi
	# The live file's second name goes, else it would count as a hard link.
	rm -f -- "$run/stage/$n.new" "$run/stage/$n.live" "$run/$n.live"
}
late=
