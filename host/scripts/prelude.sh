# Stands before every script. Answers are JSON lines whose texts are in base64,
# so that no path, value or program's output can be read as anything but data.
set -eu
LC_ALL=C
PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL PATH
state=/var/lib/wladder

b64() { printf %s "$1" | base64 | tr -d '\n'; }

sum() {
	hashed=$(sha256sum <"$1" 2>/dev/null) || hashed=none
	printf %s "${hashed%% *}"
}

# fence NUMBER: refuses whoever comes with a lower number than seen before.
fence() {
	seen=0
	if [ -e "$state/fence" ]; then seen=$(cat "$state/fence"); fi
	if [ "$1" -lt "$seen" ]; then
		printf '{"fenced":%s}\n' "$seen"
		exit 76
	fi
	if [ "$1" -gt "$seen" ]; then
		printf '%s\n' "$1" >"$state/fence.new"
		sync "$state/fence.new"
		mv -f "$state/fence.new" "$state/fence"
	fi
}

# unit_report UNIT MARK: how the unit stands, and how many of its processes
# began at or after the moment that the file MARK holds, in seconds since boot.
unit_report() {
	begun=9999999999999 # no act yet, so nothing began since
	if [ -s "$2" ]; then
		read -r begun <"$2"
		begun=${begun%.*}${begun#*.}
	fi
	active=unknown sub=unknown restarts=0 main=0 result=unknown
	shown=$(systemctl show -p ActiveState -p SubState -p NRestarts -p MainPID -p Result -- "$1" 2>/dev/null) || shown=
	while IFS='=' read -r key value; do
		case $key in
		ActiveState) active=$value ;;
		SubState) sub=$value ;;
		NRestarts) restarts=$value ;;
		MainPID) main=$value ;;
		Result) result=$value ;;
		esac
	done <<-END
		$shown
	END
	processes=0 renewed=0 hertz=$(getconf CLK_TCK)
	if [ "$main" -gt 0 ] 2>/dev/null; then
		children=$(cat "/proc/$main/task/$main/children" 2>/dev/null) || children=
		for pid in $main $children; do
			stat=$(cat "/proc/$pid/stat" 2>/dev/null) || continue
			processes=$((processes + 1))
			# The start is field 22 of proc(5); the name in field 2 may hold blanks.
			started=$(printf %s "${stat##*) }" | cut -d ' ' -f 20)
			if [ $((started * 100 / hertz)) -ge "$begun" ]; then renewed=$((renewed + 1)); fi
		done
	fi
	printf '{"unit":"%s","state":"%s","sub":"%s","restarts":%s,"main":%s,"result":"%s","processes":%s,"renewed":%s}\n' \
		"$(b64 "$1")" "$(b64 "$active")" "$(b64 "$sub")" "${restarts:-0}" "${main:-0}" "$(b64 "$result")" "$processes" "$renewed"
}

# put BESIDE TARGET: renames BESIDE over TARGET, durably.
put() {
	sync "$1"
	mv -f -T -- "$1" "$2"
	sync "${2%/*}/."
}
