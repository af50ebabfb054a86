# ask.sh RUN LABEL QUESTION...: what the host finds of itself; each QUESTION is
# one line of words in base64. Reads only. An answer that cannot be had says why.
# Blocks marked #: KIND are sent only where a question of that kind is asked.
run=$1 label=$2
shift 2

failure() { printf '{"n":%s,"failure":"%s"}\n' "$n" "$(text "$1")"; }

#: process
# ask_process NAME: as /proc/PID/comm has it, at most 15 letters. Only for those
# that fit is another program started.
ask_process() {
	want=$1
	while [ "${#want}" -gt 15 ]; do want=${want%?}; done
	count=0 users='' age=-1 hertz=$(getconf CLK_TCK)
	read -r up _ </proc/uptime
	for dir in /proc/[0-9]*; do
		{ IFS= read -r name <"$dir/comm"; } 2>/dev/null || continue
		if [ "$name" != "$want" ]; then continue; fi
		stat=$(cat "$dir/stat" 2>/dev/null) || continue
		user=$(stat -c %U -- "$dir" 2>/dev/null) || continue
		count=$((count + 1))
		case " $users " in *" $user "*) ;; *) users="$users${users:+ }$user" ;; esac
		old=$((${up%%.*} - $(printf %s "${stat##*) }" | cut -d ' ' -f 20) / hertz))
		if [ "$age" -lt 0 ] || [ "$old" -lt "$age" ]; then age=$old; fi
	done
	printf '{"n":%s,"count":%s,"users":"%s","age":%s}\n' "$n" "$count" "$(text "$users")" "$age"
}

#: port served
# unit_of PID: the service whose process it is, as systemd has it in cgroups, into $group.
unit_of() {
	group=
	while read -r line; do
		case ${line##*/} in *.service) group=${line##*/} ;; esac
	done 2>/dev/null <"/proc/$1/cgroup" || :
}

#: port
# ask_port PROTOCOL NUMBER
ask_port() {
	kind=-t
	if [ "$1" = udp ]; then kind=-u; fi
	if [ "$1" = any ]; then kind=-tu; fi
	shown=$(ss -Hlnp "$kind" "sport = :$2" 2>&1) || {
		failure "ss: $shown"
		return 0
	}
	units='' rest=$shown # whose the processes are, as systemd has them in cgroups
	while :; do
		case $rest in *pid=*) rest=${rest#*pid=} ;; *) break ;; esac
		unit_of "${rest%%[!0-9]*}"
		case " $units " in *" $group "*) ;; *) units="$units${units:+ }$group" ;; esac
	done
	printf '{"n":%s,"units":"%s","sockets":"%s"}\n' "$n" "$(text "$units")" "$(text "$(printf %s "$shown" | head -c 65536)")"
}

#: property
# ask_property UNIT NAME
ask_property() {
	shown=$(systemctl show -p "$2" --value -- "$1" 2>/dev/null) || shown=
	printf '{"n":%s,"value":"%s"}\n' "$n" "$(text "$shown")"
}

#: variable
# ask_variable NAME: what the database works with, asked as root by its own socket.
ask_variable() {
	client=mariadb
	if ! command -v mariadb >/dev/null 2>&1; then client=mysql; fi
	shown=$(timeout -k 2 10 "$client" -BN -e "select @@global.$1" 2>&1 </dev/null 3>&-) || {
		failure "the database does not say: $(printf %s "$shown" | head -c 200)"
		return 0
	}
	printf '{"n":%s,"value":"%s"}\n' "$n" "$(text "$shown")"
}

#: served
# ask_served PATH UNIT: the addresses at which a program of UNIT shows the certificate at PATH
# to who asks for its first name by TLS.
ask_served() {
	if ! command -v openssl >/dev/null 2>&1 || ! want=$(openssl x509 -in "$1" -noout -fingerprint -sha256 2>/dev/null </dev/null); then
		failure "no certificate can be read there"
		return 0
	fi
	names=$(openssl x509 -in "$1" -noout -ext subjectAltName 2>/dev/null </dev/null) || names=
	name=
	case $names in *DNS:*) name=${names#*DNS:} name=${name%%[, ]*} ;; esac
	name=${name%%[!A-Za-z0-9.*-]*}
	case $name in '*.'*) name=any${name#'*'} ;; esac
	shown=$(ss -Hltnp 2>/dev/null) || shown=
	found='' tried=0
	while read -r _ _ _ at _ who; do
		case $who in *pid=*) who=${who#*pid=} ;; *) continue ;; esac
		unit_of "${who%%[!0-9]*}"
		if [ "$group" != "$2" ] || [ "$tried" -ge 12 ]; then continue; fi
		tried=$((tried + 1))
		case $at in
		'*:'* | 0.0.0.0:*) at=127.0.0.1:${at##*:} ;;
		'[::]:'*) at='[::1]':${at##*:} ;;
		esac
		seen=$(timeout -k 1 3 openssl s_client -connect "$at" ${name:+-servername "$name"} 2>/dev/null </dev/null | openssl x509 -noout -fingerprint -sha256 2>/dev/null) || continue
		if [ "${seen#*=}" = "${want#*=}" ]; then found="$found${found:+ }$at"; fi
	done <<-END
		$shown
	END
	printf '{"n":%s,"value":"%s"}\n' "$n" "$(text "$found")"
}

#: file
# ask_file PATH [USER]
ask_file() {
	if [ ! -e "$1" ]; then
		printf '{"n":%s,"missing":true}\n' "$n"
		return 0
	fi
	readable=false content=
	if [ -n "${2-}" ]; then
		if runuser -u "$2" -- test -r "$1" 2>/dev/null; then readable=true; fi
	fi
	meta=$(stat -L -c '%a %s %U %G %F' -- "$1")
	if [ -f "$1" ]; then
		if keeps "$1"; then
			content=$(sed "${covering#;}" <"$1" | head -c 65536 | base64 | tr -d '\n')
		else
			content=$(head -c 65536 -- "$1" | base64 | tr -d '\n')
		fi
	fi
	printf '{"n":%s,"stat":"%s","readable":%s,"content":"%s"}\n' "$n" "$(text "$meta")" "$readable" "$content"
}

#: attributes
# ask_attributes PATH [UNIT]: nothing of it is read.
ask_attributes() {
	if ! meta=$(stat -L -c '%a %s %U %G %F' -- "$1" 2>/dev/null); then
		printf '{"n":%s,"missing":true}\n' "$n"
		return 0
	fi
	readable=true
	if [ -n "${2-}" ]; then reads "$1" "$2"; fi
	printf '{"n":%s,"stat":"%s","readable":%s}\n' "$n" "$(text "$meta")" "$readable"
}

#: presence
# ask_presence PATH: nothing of it is read.
ask_presence() {
	present=false
	if [ -e "$1" ]; then present=true; fi
	printf '{"n":%s,"present":%s}\n' "$n" "$present"
}

#: people
# signed_in: who has, newest first, and from where: by the journal, and where wtmp is kept.
signed_in() {
	timeout 20 journalctl -q -r --since=-90days _COMM=sshd _COMM=sshd-session -o cat --grep='^Accepted ' 2>/dev/null | head -n 5000 | sed -n 's/^Accepted [^ ]* for \([^ ]*\) from \([^ ]*\) .*/\1 \2/p' || :
	if command -v last >/dev/null 2>&1; then
		timeout 20 last -w -i -n 1000 2>/dev/null | sed -n 's/^\([^ ]*\)  *[^ ]*  *\([0-9a-fA-F.:]*[.:][0-9a-fA-F.:]*\) .*/\1 \2/p' || :
	fi
}

# ask_people LOGIN: LOGIN, and accounts that have signed in of late, each once.
ask_people() {
	seen=' ' count=0
	recent=$(signed_in)
	while read -r user address; do
		case $seen in *" $user "*) continue ;; esac
		seen="$seen$user "
		if ! entry=$(getent passwd "$user" 2>/dev/null) || [ "$count" -ge 40 ]; then continue; fi
		count=$((count + 1))
		home=${entry%:*}
		home=${home##*:}
		groups=$(id -Gn -- "$user" 2>/dev/null) || groups=
		password=$(passwd -S -- "$user" 2>/dev/null) || password=
		password=${password#* }
		printf '{"n":%s,%s%s%s%s"password":"%s"}\n' "$n" "$(field person "$user")" "$(field address "$address")" "$(field home "$home")" "$(field groups "$groups")" "${password%% *}"
	done <<-END
		$recent
		$1 none
	END
	printf '{"n":%s,"people":%s}\n' "$n" "$count"
}

#: certificate
# ask_certificate PATH UNIT: of a certificate (x509) what everybody may know of it, and nothing
# else that the file holds.
ask_certificate() {
	if held "$@"; then return 0; fi
	shown=$(openssl x509 -in "$1" -noout -startdate -enddate -ext subjectAltName 2>/dev/null </dev/null) || {
		printf '{"n":%s,"stat":"%s","readable":%s,"none":true}\n' "$n" "$(text "$meta")" "$readable"
		return 0
	}
	public=$(openssl x509 -in "$1" -noout -pubkey 2>/dev/null </dev/null | openssl pkey -pubin -outform DER 2>/dev/null | sha256sum)
	printf '{"n":%s,"stat":"%s","readable":%s,"public":"%s","shown":"%s"}\n' "$n" "$(text "$meta")" "$readable" "${public%% *}" "$(text "$shown")"
}

#: private-key
# ask_private_key PATH UNIT: which public key belongs to a private one. Nothing of that leaves.
ask_private_key() {
	if held "$@"; then return 0; fi
	closed=false
	while IFS= read -r line; do
		case $line in *ENCRYPTED*) closed=true ;; esac
	done <"$1"
	public=
	if openssl pkey -in "$1" -noout -passin pass: 2>/dev/null </dev/null; then
		public=$(openssl pkey -in "$1" -pubout -outform DER -passin pass: 2>/dev/null </dev/null | sha256sum)
		public=${public%% *}
	fi
	printf '{"n":%s,"stat":"%s","readable":%s,"closed":%s,"public":"%s"}\n' "$n" "$(text "$meta")" "$readable" "$closed" "$public"
}

#: certificate private-key attributes
# reads PATH UNIT: may those read it as whom the unit's main process runs? Into $readable.
reads() {
	readable=true main=
	if [ -d /run/systemd/system ]; then main=$(systemctl show -p MainPID --value -- "$2" 2>/dev/null) || main=; fi
	if [ "${main:-0}" = 0 ] || [ ! -r "/proc/$main/status" ]; then return 0; fi
	uid=0 gid=0
	while read -r key _ value _; do
		case $key in Uid:) uid=$value ;; Gid:) gid=$value ;; esac
	done <"/proc/$main/status"
	if [ "$uid" = 0 ] || setpriv --reuid="$uid" --regid="$gid" --clear-groups -- test -r "$1" 2>/dev/null; then return 0; fi
	if ! runuser -u "$(stat -c %U -- "/proc/$main")" -- test -r "$1" 2>/dev/null; then readable=false; fi
}

#: certificate private-key
# held PATH UNIT: whether that is all there is to say; else who may read the file stands in
# $meta, and in $readable whether those may as whom the unit's main process runs.
held() {
	if [ ! -f "$1" ]; then
		printf '{"n":%s,"missing":true}\n' "$n"
		return 0
	fi
	if ! command -v openssl >/dev/null 2>&1; then
		failure "openssl is not there"
		return 0
	fi
	meta=$(stat -L -c '%a %U %G' -- "$1")
	reads "$1" "$2"
	return 1
}

#: size
# ask_size PATH [GLOB]
ask_size() {
	used=$(timeout 20 du -s -B1 -- "$1" 2>&1) || {
		failure "du: $used"
		return 0
	}
	used=$(printf %s "$used" | cut -f 1)
	count=$(timeout 20 find "$1" -type f -name "${2-*}" -printf x | wc -c)
	printf '{"n":%s,"bytes":%s,"count":%s}\n' "$n" "$used" "$count"
}

#: command
# ask_command SECONDS WORDS...: into a file, since what a command leaves running
# may hold its output open.
ask_command() {
	seconds=$1
	shift
	into=$(mktemp)
	timeout -k 2 "$seconds" "$@" >"$into" 2>&1 </dev/null 3>&- && code=0 || code=$?
	if keeps "$into"; then
		sed "${covering#;}" <"$into" >"$into.covered"
		mv -f "$into.covered" "$into"
	fi
	printf '{"n":%s,"exit":%s,"output":"%s"}\n' "$n" "$code" "$(head -c 65536 -- "$into" | base64 | tr -d '\n')"
	rm -f "$into"
}

#: journal
# journal WORDS...: the unit's lines since then, as JSON.
journal() { timeout 20 journalctl -q -u "$unit" "$since" -o json --output-fields=PRIORITY,MESSAGE "$@" 2>/dev/null || :; }

# ask_journal UNIT SEVERITY since:CURSOR fits:PATTERN: since CURSOR, or in the last ten
# minutes: how many lines are as severe as SEVERITY, the last 500 of those, and
# the last 50 of any severity that PATTERN fits; all of them, as far as 500, where
# this journalctl knows no patterns.
ask_journal() {
	unit=$1 severity=$2 since=${3#since:} pattern=${4#fits:}
	if [ -n "$since" ]; then since=--after-cursor=$since; else since=--since=-10min; fi
	severe=$(journal -p "$severity" | wc -l)
	lines=$(journal -p "$severity" -n 500 | tail -c 524288 | base64 | tr -d '\n') || lines=
	fits=
	if [ -n "$pattern" ]; then
		complaint=$(timeout 20 journalctl -q -u "$unit" "$since" --grep="$pattern" 2>&1 >/dev/null) || :
		if [ -z "$complaint" ]; then
			# With a cursor and a pattern, journalctl's own -n gives nothing.
			fits=$(journal --grep="$pattern" --case-sensitive=true | tail -n 50 | tail -c 524288 | base64 | tr -d '\n') || fits=
		else
			fits=$(journal -n 500 | tail -c 524288 | base64 | tr -d '\n') || fits=
		fi
	fi
	last=$(journalctl -q -n 1 -o json --output-fields=PRIORITY 2>/dev/null | base64 | tr -d '\n') || last=
	printf '{"n":%s,"severe":%s,"lines":"%s","fits":"%s","last":"%s"}\n' "$n" "$severe" "$lines" "$fits" "$last"
}

#: last
# ask_last UNIT [MARK]: the last lines of what the unit said since the run's act began.
ask_last() {
	ago=120
	if [ -s "$state/runs/$run/$label${2-}.begun" ]; then
		begun_at "$state/runs/$run/$label${2-}"
		read -r up _ </proc/uptime
		ago=$((${up%%.*} - ${begun%%.*} + 1))
	fi
	printf '{"n":%s,"said":"%s"}\n' "$n" "$(text "$(timeout 20 journalctl -q -u "$1" --since="-${ago}s" -o cat -n 12 2>/dev/null | tail -c 2000)")"
}

#:
n=0
for question; do
	set --
	set -f
	for word in $question; do
		plain "$word"
		set -- "$@" "$plain"
	done
	set +f
	kind=$1
	shift
	case $kind in
	#: guard
	guard) printf '{"n":%s,"guard":"%s"}\n' "$n" "$(guard_stands "$run")" ;;
	#: unit
	unit)
		unit_report "$1" "$state/runs/$run/$label${2-}"
		printf ',"n":%s}\n' "$n"
		;;
	#:
	private-key) ask_private_key "$@" ;;
	#:
	*) "ask_$kind" "$@" ;;
	esac
	n=$((n + 1))
done
