# restore.sh FENCE RUN {PATH BASE CANDIDATE}...: puts the snapshot back, the last
# file first. A file that is neither base nor candidate was edited by somebody
# since: it is left alone, and the answer says so. Running it twice is the same.
fence "$1"
id=$2 run=$state/runs/$2
shift 2
n=$(($# / 3)) path='' base='' candidate=''
while [ "$n" -gt 0 ]; do
	n=$((n - 1))
	eval "path=\$$((n * 3 + 1)) base=\$$((n * 3 + 2)) candidate=\$$((n * 3 + 3))"
	beside=${path%/*}/.wladder-$id-$n.back
	rm -f "$beside" "${path%/*}/.wladder-$id-$n.new" "${path%/*}/.wladder-$id-$n.old"
	case $(sum "$path") in
	"$base") continue ;;
	"$candidate" | none) ;;
	*)
		printf '{"other":"%s"}\n' "$(b64 "$path")"
		exit 0
		;;
	esac
	if [ "$(sum "$run/$n.base")" != "$base" ]; then
		printf '{"failed":"%s"}\n' "$(b64 "the snapshot of $path in $run is damaged")"
		exit 0
	fi
	cp -a -- "$run/$n.base" "$beside"
	put "$beside" "$path"
	if [ "$(sum "$path")" != "$base" ]; then
		printf '{"failed":"%s"}\n' "$(b64 "$path does not read back as it was")"
		exit 0
	fi
done
printf '{"restored":true}\n'
