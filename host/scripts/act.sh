# act.sh FENCE RUN LABEL UNIT SECONDS LIGHT HEAVY: has the service take its files
# up, once, bounded by SECONDS. LIGHT and HEAVY are commands, one a line, words
# in base64; HEAVY is for a unit that is not active. On the way back (LABEL is not
# act, nor act-N for the services of a run behind the first) as run_back says. Notes when it began and how it ended.
fence "$1"
case $3 in
act | act-[0-9]*)
	choose "$4" "$6" "$7"
	run_acts "$2" "$3" "$4" "$5" "$commands"
	;;
*)
	if [ -e "$state/runs/$2/guard.undone" ]; then # the run's guard has fired since, put back and acted
		printf '{"exit":0,"output":"","undone":true}\n'
		exit 0
	fi
	run_back "$2" "$3" "$4" "$5" "$6" "$7"
	;;
esac
printf '{"exit":%s,"output":"%s"}\n' "$code" "$(text "$said")"
