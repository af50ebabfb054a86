# make_file DIRECTORY SECRETS SECONDS WORDS...: runs the command with {path} as
# DIRECTORY/made and {secret:NAME} as SECRETS/secret-NAME. Sets $code and $said.
make_file() {
	making=$1 secrets=$2 seconds=$3
	shift 3
	count=$#
	while [ "$count" -gt 0 ]; do
		word=$1
		shift
		rest=$word word=
		while :; do
			case $rest in
			*'{path}'*) word=$word${rest%%'{path}'*}$making/made rest=${rest#*'{path}'} ;;
			*'{secret:'*'}'*)
				word=$word${rest%%'{secret:'*} rest=${rest#*'{secret:'}
				word=$word$secrets/secret-${rest%%'}'*} rest=${rest#*'}'}
				;;
			*) break ;;
			esac
		done
		set -- "$@" "$word$rest"
		count=$((count - 1))
	done
	timeout -k 3 "$seconds" "$@" >"$making/said" 2>&1 </dev/null 3>&- && code=0 || code=$?
	said=$(tail -c 2000 "$making/said")
}

# give_to PATH MODE:OWNER:GROUP
give_to() {
	owner=${2#*:}
	chown -h -- "$owner" "$1"
	chmod "${2%%:*}" "$1"
}
