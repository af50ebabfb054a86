# restore.sh FENCE RUN {PATH BASE CANDIDATE}...: puts the snapshot back, the last
# path first. Where a path is neither as it was nor as we placed it, somebody
# edited it since: nothing is done, and the answer says so. Twice is the same.
fence "$1"
shift
put_back "$@"
case $trouble in
'') printf '{"restored":true}\n' ;;
other*) printf '{"other":"%s"}\n' "$(b64 "${trouble#other }")" ;;
*) printf '{"failed":"%s"}\n' "$(b64 "${trouble#failed }")" ;;
esac
