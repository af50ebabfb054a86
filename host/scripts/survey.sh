# survey.sh [unit:PATTERN|path:PATTERN|package:NAME]...: what kind of machine this is, and
# what is there of what is named. Reads only.
trait() {
	printf '{"trait":"%s","value":"' "$1"
	text "$2"
	printf '"}\n'
}

id='' like='' version=''
while IFS='=' read -r key value; do
	value=${value#\"}
	value=${value%\"}
	case $key in
	ID) id=$value ;;
	ID_LIKE) like=$value ;;
	VERSION_ID) version=$value ;;
	esac
done </etc/os-release
trait os "$id"
trait family "${like:-$id}"
trait os_version "$version"
kernel=
{ read -r kernel </proc/sys/kernel/osrelease; } 2>/dev/null || kernel=$(uname -r)
trait kernel "$kernel"
arch=
{ read -r arch </proc/sys/kernel/arch; } 2>/dev/null || arch=$(uname -m)
trait arch "$arch"
trait cores "$(nproc)"
read -r up _ </proc/uptime
trait uptime "${up%%.*}"
trait clock "$(date +%s)"
while read -r key value _; do
	if [ "$key" = MemTotal: ]; then trait memory "$((value * 1024))"; fi
done </proc/meminfo

# What is named comes first among the words; one program is asked for all of a kind.
units='' packages=''
while [ $# -gt 0 ]; do
	case $1 in
	unit:*) units="$units ${1#unit:}" ;;
	package:*) packages="$packages ${1#package:}" ;;
	path:*)
		IFS=
		for at in ${1#path:}; do
			if [ -e "$at" ]; then trait path "$at"; fi
		done
		unset IFS
		;;
	*) break ;;
	esac
	shift
done
if [ -n "$units" ]; then
	set -f
	# shellcheck disable=SC2086 # they are patterns of units, without blanks
	shown=$(systemctl show --property=Id --property=LoadState --property=LimitNOFILE --property=MemoryMax --property=User --property=AmbientCapabilities -- $units 2>/dev/null) || shown=
	set +f
	ports=0
	{ read -r ports </proc/sys/net/ipv4/ip_unprivileged_port_start; } 2>/dev/null || ports=1024
	unit='' loaded='' files=- memory=- user=- binds=no
	while IFS='=' read -r key value; do
		case $key in
		Id) unit=$value ;;
		LoadState) loaded=$value ;;
		LimitNOFILE) files=${value:--} ;;
		MemoryMax) memory=${value:--} ;;
		User) user=${value:--} ;;
		AmbientCapabilities) case " $value " in *" cap_net_bind_service "*) binds=yes ;; esac ;;
		'') # ends a unit
			if [ "$loaded" = loaded ]; then trait unit "$unit $files $memory $user $binds $ports"; fi
			unit='' loaded='' files=- memory=- user=- binds=no
			;;
		esac
	done <<-END
		$shown

	END
fi
if [ -n "$packages" ]; then
	set -f
	# shellcheck disable=SC2086 # they are names of packages, without blanks
	if [ -x /usr/bin/dpkg-query ]; then
		shown=$(dpkg-query -W -f='${Package} ${Version} ${db:Status-Abbrev}\n' -- $packages 2>/dev/null) || :
	else
		shown=$(rpm -q --qf '%{NAME} %{VERSION}-%{RELEASE} ii\n' -- $packages 2>/dev/null) || :
	fi
	set +f
	while read -r name value status _; do
		if [ "$status" = ii ]; then trait package "$name $value"; fi
	done <<-END
		$shown
	END
fi
