# make.sh FENCE RUN N CANDIDATE SECONDS WORDS...: has a command of the approved
# definition make what is to stand at path N, below the run's own folder; {path}
# and {secret:NAME} in its words stand for paths; secrets come as packed tar on stdin,
# named secret-NAME. What is made already is kept.
keeping=yes
fence "$1"
run=$state/runs/$2 n=$3 candidate=$4 seconds=$5
shift 5
mkdir -p "$run"
chmod 700 "$run"
if [ ! -s "$run/$n.made.sum" ] || [ "$(sum "$run/$n.made")" != "$(cat "$run/$n.made.sum")" ]; then
	rm -rf "$run/making"
	mkdir -m 700 "$run/making"
	gzip -dc | tar -xf - -C "$run/making"
	make_file "$run/making" "$run/making" "$seconds" "$@"
	if [ "$code" != 0 ] || [ ! -s "$run/making/made" ]; then
		rm -rf "$run/making"
		printf '{"failed":"%s"}\n' "$(text "the command that makes it ended with status $code: $said")"
		exit 0
	fi
	give_to "$run/making/made" "${candidate#made:}"
	put "$run/making/made" "$run/$n.made"
	sum "$run/$n.made" >"$run/$n.made.new"
	put "$run/$n.made.new" "$run/$n.made.sum"
	rm -rf "$run/making"
fi
printf '{"made":"%s"}\n' "$(cat "$run/$n.made.sum")"
