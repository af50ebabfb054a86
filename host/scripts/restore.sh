# restore.sh FENCE RUN {PATH BASE CANDIDATE}...: puts the snapshot back, the last
# path first. Where a path is neither as it was nor as we placed it, somebody
# edited it since: nothing is done, and the answer says so. Twice is the same.
fence "$1"
shift
put_back "$@"
case $trouble in
'')
	undone=false # by the run's guard, which has acted, too
	if [ -e "$state/runs/$1/guard.undone" ]; then undone=true; fi
	printf '{"restored":true,"undone":%s}\n' "$undone"
	;;
other*) printf '{"other":"%s"}\n' "$(text "${trouble#other }")" ;;
*) printf '{"failed":"%s"}\n' "$(text "${trouble#failed }")" ;;
esac
