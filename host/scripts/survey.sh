# survey.sh: what kind of machine this is. Reads only.
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
