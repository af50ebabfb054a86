# watch.sh FENCE SECONDS RUN LABEL QUESTION...: pushes the run's guard on to SECONDS
# from now, if it is armed, then asks as ask.sh does.
fence "$1"
push "$3" "$2"
shift 2
