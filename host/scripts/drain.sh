# drain.sh FENCE RUN WAY AT UNIT SECONDS COMMAND: has a service of the run get out of the
# way of those who use it (WAY is out), or come back (in), bounded by SECONDS; pushes the guard on
# for that long. COMMAND is as commands of act are. AT is drain, or drain-N for the services
# behind the first: while AT.begun is there, the run's guard has the service come back, too.
fence "$1"
if [ "$3" = out ] && [ ! -e "$state/pending/$2" ]; then
	printf '{"fired":true,"trouble":""}\n'
	exit 0
fi
push "$2" $(($6 + 5))
if [ "$3" = out ]; then
	run_acts "$2" "$4" "$5" "$6" "$7"
else
	readmit "$2" "$4" "$5" "$6" "$7"
fi
printf '{"exit":%s,"output":"%s"}\n' "$code" "$(text "$said")"
