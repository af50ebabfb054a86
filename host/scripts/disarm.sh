# disarm.sh FENCE RUN: takes the run's guard away, or says that it has fired.
# Removes what a script that was cut may have left.
fence "$1"
id=$2
clear_stages "$id"
if disarmed "$id"; then
	printf '{"disarmed":true}\n'
else
	printf '{"fired":true,"trouble":"%s"}\n' "$(text "$(cat "$state/runs/$id/guard.trouble" 2>/dev/null)")"
fi
