# run_acts RUN LABEL UNIT SECONDS COMMANDS: runs commands, one a line, each word
# as plain reads it, until one fails; all within SECONDS. Notes when it began and how it
# ended. Sets $code, and $said to the last output, with what it hung in.
#
# A restart by hand begins systemd's counter of restarts anew, but not while the unit waits
# for an automatic one: what the counter kept is noted.
run_acts() {
	dir=$state/runs/$1 mark=$state/runs/$1/$2 acting=$3 allowed=$4 code=0 said=''
	mkdir -p "$dir"
	chmod 700 "$dir"
	rm -f "$mark.ended" "$mark.counted"
	count_restarts "$acting"
	was=$main before=$restarts
	note_begun "$mark"
	last=$((${up%%.*} + allowed))
	while read -r line; do
		if [ -z "$line" ]; then continue; fi
		set --
		set -f
		for word in $line; do
			plain "$word"
			set -- "$@" "$plain"
		done
		set +f
		read -r up _ </proc/uptime
		left=$((last - ${up%%.*}))
		if [ "$left" -lt 1 ]; then left=1; fi
		# Into a file: what a command leaves running may hold its output open.
		timeout -k 3 "$left" "$@" >"$mark.said" 2>&1 </dev/null 3>&- && code=0 || code=$?
		said=$(tail -c 4000 "$mark.said")
		if [ "$code" = 124 ] || [ "$code" = 137 ]; then said="$* hung for $allowed s and was ended; $(hung "$acting") $said"; fi
		if [ "$code" != 0 ]; then break; fi
	done <<-END
		$5
	END
	count_restarts "$acting"
	if [ "$main" != "$was" ] && [ "$before" -gt 0 ] && [ "$restarts" -ge "$before" ]; then printf '%s\n' "$before" >"$mark.counted"; fi
	printf '%s\n' "$code" >"$mark.new"
	put "$mark.new" "$mark.ended"
}

# note_begun MARK: notes in MARK.begun that it begins now: the uptime, also in $up, and of which
# boot that is.
note_begun() {
	read -r up _ </proc/uptime
	this_boot
	printf '%s %s\n' "$up" "$boot" >"$1.new"
	put "$1.new" "$1.begun"
}

# count_restarts UNIT: sets $main to its main process, and $restarts to systemd's counter.
count_restarts() {
	main=0 restarts=0 shown=
	if managed; then shown=$(systemctl show -p MainPID -p NRestarts -- "$1" 2>/dev/null) || :; fi
	while IFS='=' read -r key value; do
		case $key in
		MainPID) main=$value ;;
		NRestarts) restarts=$value ;;
		esac
	done <<-END
		$shown
	END
}

# choose UNIT LIGHT HEAVY: sets $commands to one of the two: HEAVY is for a unit
# that is not active, since a reload needs something that runs.
choose() {
	commands=$2
	if [ -n "$2" ] && managed && ! systemctl is-active --quiet -- "$1"; then
		commands=$3
		# A unit that failed too often refuses to start until this is said.
		systemctl reset-failed -- "$1" 2>/dev/null || :
	fi
}

# run_back RUN LABEL UNIT SECONDS LIGHT HEAVY: has the service take the old files
# up, as run_acts does. A unit that did not run before the change is stopped. The
# way back must not end with a service that is down: where what was chosen fails,
# HEAVY is tried, then a restart of the unit.
run_back() {
	active=unknown enabled=unknown
	if [ -s "$state/runs/$1/units" ]; then
		while read -r name is may; do
			if [ "$name" = "$3" ]; then active=$is enabled=$may; fi
		done <"$state/runs/$1/units"
	elif [ -s "$state/runs/$1/unit" ]; then # as older servers wrote it
		read -r active enabled <"$state/runs/$1/unit"
	fi
	case $active,$enabled in
	*,not-found) # it came with the change, and has gone with it
		run_acts "$1" "$2" "$3" "$4" ''
		return 0
		;;
	inactive,* | failed,*)
		run_acts "$1" "$2" "$3" "$4" ".systemctl .stop .$3"
		return 0
		;;
	esac
	choose "$3" "$5" "$6"
	run_acts "$1" "$2" "$3" "$4" "$commands"
	if [ "$code" != 0 ] && [ "$commands" != "$6" ]; then run_acts "$1" "$2" "$3" "$4" "$6"; fi
	if [ "$active" != active ] || ! managed; then return 0; fi
	if [ "$code" != 0 ] || ! systemctl is-active --quiet -- "$3"; then
		systemctl reset-failed -- "$3" 2>/dev/null || :
		run_acts "$1" "$2" "$3" 60 ".systemctl .restart .$3"
	fi
}

# readmit RUN AT UNIT SECONDS COMMAND: has a service come back that got out of the way under
# AT, or may have. It is out until that went well.
readmit() {
	run_acts "$1" "readmit${2#drain}" "$3" "$4" "$5"
	if [ "$code" = 0 ]; then
		rm -f "$state/runs/$1/$2.begun"
		sync "$state/runs/$1/."
	fi
}

# hung UNIT: what a unit that takes too long is doing.
hung() {
	if ! managed; then return 0; fi
	now=$(systemctl show -p ActiveState -p SubState -p MainPID -p ControlPID -- "$1" 2>/dev/null | tr '\n' ' ') || return 0
	printf '%s is at %s' "$1" "$now"
	for pid in $now; do
		case $pid in
		MainPID=0 | ControlPID=0) continue ;;
		MainPID=* | ControlPID=*) pid=${pid#*=} ;;
		*) continue ;;
		esac
		waits=$(cat "/proc/$pid/wchan" 2>/dev/null) || continue
		name=$(tr '\0' ' ' <"/proc/$pid/cmdline" 2>/dev/null) || name=
		printf '; process %s (%s) waits in %s' "$pid" "$name" "${waits:-?}"
	done
	printf '. '
}
