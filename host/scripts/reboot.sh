# reboot.sh FENCE RUN LABEL UNIT SECONDS: has the host boot anew, once: where it has since
# LABEL began, or that of another service of the run in the same direction, it says so and does
# nothing: all files were in place by then. UNIT has to be one that a boot brings back. The armed
# guard is told which boot ends: at the next one it waits for SECONDS anew instead of firing, once.
fence "$1"
run=$state/runs/$2 mark=$state/runs/$2/$3
this_boot
was=
way=$run/${3%-[0-9]*}
for other in "$way.reboot" "$way"-[0-9]*.reboot; do
	if [ -s "$other" ]; then read -r was <"$other"; fi
	if [ -n "$was" ] && [ "$was" != "$boot" ]; then break; fi
done
if [ -n "$was" ] && [ "$was" != "$boot" ]; then
	printf '0.00 %s\n' "$was" >"$mark.new"
	put "$mark.new" "$mark.begun"
	printf '0\n' >"$mark.new"
	put "$mark.new" "$mark.ended"
	printf '{"exit":0,"output":"","rebooted":true}\n'
	exit 0
fi
# One that was told so before goes down, and its service manager may say nothing any more.
if [ -z "$was" ]; then
	enabled=
	if managed; then enabled=$(systemctl is-enabled -- "$4" 2>/dev/null) || :; fi
	case $enabled in
	enabled | static | indirect | alias | generated) ;;
	*)
		printf '{"failed":"%s"}\n' "$(text "$4 is ${enabled:-not found} at boot, so a boot would not bring it back; the host is not booted anew. Enable it first")"
		exit 0
		;;
	esac
fi
case $3 in
act | act-[0-9]*)
	if [ ! -e "$state/pending/$2" ]; then
		printf '{"fired":true,"trouble":""}\n'
		exit 0
	fi
	;;
esac
if [ -z "$was" ]; then
	note_begun "$mark"
	rm -f "$mark.ended" "$mark.counted"
	printf '%s %s\n' "$boot" "$5" >"$run/reboot.new"
	put "$run/reboot.new" "$run/reboot"
	printf '%s\n' "$boot" >"$mark.new"
	put "$mark.new" "$mark.reboot"
fi
# In a moment, so that this is heard of. It may have been told so before.
systemd-run --quiet --collect --unit="wladder-reboot-$2" --on-active=1s --timer-property=AccuracySec=100ms systemctl reboot 2>/dev/null 3>&- || :
printf '{"exit":0,"output":"","rebooted":false}\n'
