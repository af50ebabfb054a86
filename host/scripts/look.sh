# look.sh FENCE RUN SECONDS LABEL UNIT {PATH BASE CANDIDATE}...: how the host
# stands: each path old, new, other or missing; whether the act LABEL began and
# how it ended; the guard, and whether it has put all back; the unit. Takes the
# host over (it raises the fence) and pushes the guard on, changes nothing else.
fence "$1"
id=$2 run=$state/runs/$2 label=$4 unit=$5
push "$id" "$3"
shift 5
n=0
while [ $# -gt 0 ]; do
	now=$(stands "$1") candidate=$(wanted "$id" "$n" "$3")
	case $now in
	"$2") is=old ;;
	"$candidate") is=new ;;
	none) is=missing ;;
	*) is=other ;;
	esac
	if [ "$2" = "$3" ]; then is=held; fi
	printf '{"file":"%s","stands":"%s"}\n' "$(text "$1")" "$is"
	n=$((n + 1))
	shift 3
done
ended=-1
if [ -s "$run/$label.ended" ]; then ended=$(cat "$run/$label.ended"); fi
began=false
if [ -e "$run/$label.begun" ]; then began=true; fi
undone=false
if [ -e "$run/guard.undone" ]; then undone=true; fi
printf '{"began":%s,"ended":%s,"guard":"%s","undone":%s}\n' "$began" "$ended" "$(guard_stands "$id")" "$undone"
unit_report "$unit" "$run/$label"
printf '}\n'
