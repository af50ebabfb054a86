# act.sh FENCE RUN LABEL UNIT SECONDS LIGHT HEAVY: has the service take its files
# up, once, bounded by SECONDS. LIGHT and HEAVY are commands, one a line, words
# in base64; HEAVY is for a unit that is not active. On the way back (LABEL is not
# act) as run_back says. Notes when it began and how it ended.
fence "$1"
if [ "$3" = act ]; then
	choose "$4" "$6" "$7"
	run_acts "$2" "$3" "$4" "$5" "$commands"
else
	run_back "$2" "$3" "$4" "$5" "$6" "$7"
fi
printf '{"exit":%s,"output":"%s"}\n' "$code" "$(text "$said")"
