# unit_report UNIT ACT: how the unit stands. ACT.begun holds when an act began, in seconds
# since boot, and the boot: the processes that began at or after that are counted. ACT.counted holds what
# systemd's counter of restarts kept from before the act: that does not count.
unit_report() {
	begun=9999999999999 # no act yet, so nothing began since
	if [ -s "$2.begun" ]; then
		begun_at "$2"
		begun=${begun%.*}${begun#*.}
	fi
	counted=0
	if [ -s "$2.counted" ]; then
		read -r counted <"$2.counted"
	fi
	active=unknown sub=unknown restarts=0 main=0 result=unknown cause=0 status=0 policy=no group=
	shown=$(systemctl show -p ActiveState -p SubState -p NRestarts -p MainPID -p Result -p ExecMainCode -p ExecMainStatus -p Restart -p ControlGroup -- "$1" 2>/dev/null) || shown=
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
		ControlGroup) group=$value ;;
		esac
	done <<-END
		$shown
	END
	if [ "$restarts" -ge "$counted" ] 2>/dev/null; then restarts=$((restarts - counted)); fi # else somebody began it anew
	processes=0 renewed=0
	children=
	if [ "$main" -gt 0 ] 2>/dev/null; then
		{ read -r children <"/proc/$main/task/$main/children"; } 2>/dev/null || : # it has no line end
		children="$main $children"
	elif [ -n "$group" ]; then # some units name no main process: then all that are theirs
		children=$(cat "/sys/fs/cgroup$group/cgroup.procs" "/sys/fs/cgroup/systemd$group/cgroup.procs" 2>/dev/null) || :
	fi
	if [ -n "$children" ]; then
		hertz=$(getconf CLK_TCK)
		for pid in $children; do
			{ read -r stat <"/proc/$pid/stat"; } 2>/dev/null || continue
			case $stat in *') '*) ;; *) stat=$(cat "/proc/$pid/stat" 2>/dev/null) || continue ;; esac # a name may hold line ends
			processes=$((processes + 1))
			# shellcheck disable=SC2086 # its fields
			started_of ${stat##*) }
			if [ $((started * 100 / hertz)) -ge "$begun" ]; then renewed=$((renewed + 1)); fi
		done
	fi
	printf '{'
	field unit "$1"
	field state "$active"
	field sub "$sub"
	field result "$result"
	field policy "$policy"
	printf '"restarts":%s,"main":%s,"cause":%s,"status":%s,"processes":%s,"renewed":%s' "${restarts:-0}" "${main:-0}" "${cause:-0}" "${status:-0}" "$processes" "$renewed"
}

# started_of FIELDS...: when a process began, in ticks since boot, into $started:
# field 22 of proc(5), given those behind the name, which is field 2.
started_of() {
	shift 19
	started=$1
}
