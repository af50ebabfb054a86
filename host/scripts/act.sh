# act.sh FENCE RUN LABEL UNIT SECONDS WORDS COMMAND... HEAVIEST...: has the
# service take its files up, once, bounded by SECONDS. COMMAND has WORDS words;
# the words behind it are used instead where the unit is not active, since a
# reload needs something that runs. Notes when it began and how it ended.
fence "$1"
run=$state/runs/$2 label=$3 unit=$4 seconds=$5 words=$6
shift 6
if systemctl is-active --quiet -- "$unit"; then
	count=$# n=0
	while [ "$n" -lt "$count" ]; do
		first=$1
		shift
		if [ "$n" -lt "$words" ]; then set -- "$@" "$first"; fi
		n=$((n + 1))
	done
else
	shift "$words"
	# A unit that failed too often refuses to start until this is said.
	systemctl reset-failed -- "$unit" 2>/dev/null || :
fi
mkdir -p "$run"
chmod 700 "$run"
rm -f "$run/$label.ended"
read -r up _ </proc/uptime
printf '%s\n' "$up" >"$run/$label.new"
put "$run/$label.new" "$run/$label.begun"
output=$(timeout -k 5 "$seconds" "$@" 2>&1 </dev/null) && code=0 || code=$?
printf '%s\n' "$code" >"$run/$label.new"
put "$run/$label.new" "$run/$label.ended"
printf '{"exit":%s,"output":"%s"}\n' "$code" "$(b64 "$output")"
