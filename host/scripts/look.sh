# look.sh FENCE RUN LABEL UNIT {PATH BASE CANDIDATE}...: how the host stands:
# each file old, new, other or missing; the unit; whether the act LABEL began
# and ended. Takes the host over (it raises the fence), changes nothing else.
fence "$1"
run=$state/runs/$2 label=$3 unit=$4
shift 4
while [ $# -gt 0 ]; do
	case $(sum "$1") in
	"$2") stands=old ;;
	"$3") stands=new ;;
	none) stands=missing ;;
	*) stands=other ;;
	esac
	printf '{"file":"%s","stands":"%s"}\n' "$(b64 "$1")" "$stands"
	shift 3
done
ended=-1
if [ -s "$run/$label.ended" ]; then ended=$(cat "$run/$label.ended"); fi
began=false
if [ -e "$run/$label.begun" ]; then began=true; fi
printf '{"began":%s,"ended":%s}\n' "$began" "$ended"
unit_report "$unit" "$run/$label.begun"
