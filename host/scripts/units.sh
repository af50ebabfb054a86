# unit_report UNIT MARK: how the unit stands, and how many of its processes
# began at or after the moment that the file MARK holds, in seconds since boot.
unit_report() {
	begun=9999999999999 # no act yet, so nothing began since
	if [ -s "$2" ]; then
		read -r begun <"$2"
		begun=${begun%.*}${begun#*.}
	fi
	active=unknown sub=unknown restarts=0 main=0 result=unknown cause=0 status=0 policy=no
	shown=$(systemctl show -p ActiveState -p SubState -p NRestarts -p MainPID -p Result -p ExecMainCode -p ExecMainStatus -p Restart -- "$1" 2>/dev/null) || shown=
	while IFS='=' read -r key value; do
		case $key in
		ActiveState) active=$value ;;
		SubState) sub=$value ;;
		NRestarts) restarts=$value ;;
		MainPID) main=$value ;;
		Result) result=$value ;;
		ExecMainCode) cause=$value ;;
		ExecMainStatus) status=$value ;;
		Restart) policy=$value ;;
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
	printf '{"unit":"%s","state":"%s","sub":"%s","restarts":%s,"main":%s,"result":"%s","cause":%s,"status":%s,"policy":"%s","processes":%s,"renewed":%s' \
		"$(b64 "$1")" "$(b64 "$active")" "$(b64 "$sub")" "${restarts:-0}" "${main:-0}" "$(b64 "$result")" "${cause:-0}" "${status:-0}" "$(b64 "$policy")" "$processes" "$renewed"
}
