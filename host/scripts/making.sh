# kept_value NAME: the secret of that name that this host keeps, into $value. It is made
# where $keeping says so; elsewhere something of its kind stands in for it.
kept_value() {
	value=0123456789abcdefghijklmnopqrstuv
	if [ -z "${keeping-}" ]; then return 0; fi
	if [ ! -s "$state/kept/$1" ]; then
		mkdir -p "$state/kept"
		chmod 700 "$state/kept"
		head -c 300 /dev/urandom | base64 | tr -dc 'A-Za-z0-9' | cut -c 1-32 >"$state/kept.new"
		chmod 600 "$state/kept.new"
		put "$state/kept.new" "$state/kept/$1"
	fi
	read -r value <"$state/kept/$1"
}

# kept_path NAME: a file that holds it, into $at.
kept_path() {
	kept_value "$1"
	at=$state/kept/$1
	if [ -z "${keeping-}" ]; then
		at=$secrets/kept-$1
		printf '%s\n' "$value" >"$at"
	fi
}

# fill INTO TEXT NAMES...: the text with secrets that this host keeps in place of the words
# for them.
fill() {
	into=$1 from=$2
	shift 2
	filling=
	for name; do
		kept_value "$name"
		filling="$filling;s/wladder\\.kept\\.${name%%.*}\\.${name#*.}\\.kept/$value/g"
	done
	sed "${filling#;}" <"$from" >"$into"
}

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
			*'{kept:'*'}'*)
				word=$word${rest%%'{kept:'*} rest=${rest#*'{kept:'}
				kept_path "${rest%%'}'*}"
				word=$word$at rest=${rest#*'}'}
				;;
			*) break ;;
			esac
		done
		set -- "$@" "$word$rest"
		count=$((count - 1))
	done
	if [ "$1" = :fill ]; then
		shift
		said=''
		fill "$@" && code=0 || code=$?
		return 0
	fi
	timeout -k 3 "$seconds" "$@" >"$making/said" 2>&1 </dev/null 3>&- && code=0 || code=$?
	said=$(tail -c 2000 "$making/said")
}

# give_to PATH MODE:OWNER:GROUP
give_to() {
	owner=${2#*:}
	chown -h -- "$owner" "$1"
	chmod "${2%%:*}" "$1"
}
