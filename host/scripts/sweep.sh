# sweep.sh DAYS: takes away what runs that ended more than DAYS ago have kept here. A
# run whose guard is armed is not over. The time is that of a file written just now.
: >"$state/swept"
now=$(stat -c %Y -- "$state/swept")
stat -c '%Y %n' -- "$state/runs"/* 2>/dev/null | while read -r at folder; do
	old=${folder##*/}
	if [ "$((now - at))" -le "$(($1 * 86400))" ] || [ -e "$state/pending/$old" ] || [ -e "$state/firing/$old" ]; then continue; fi
	rm -rf -- "$folder"
	rm -f -- "$state/ended/$old"
done
printf '{"swept":true}\n'
