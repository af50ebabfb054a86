# collect.sh PATH...: files with all that a replacement must keep. Reads only.
for path in "$@"; do
	resolved=$(readlink -f -- "$path" 2>/dev/null) || resolved=
	if [ -z "$resolved" ] || [ ! -e "$resolved" ]; then
		printf '{"path":"%s","missing":true}\n' "$(b64 "$path")"
		continue
	fi
	meta=$(stat -c '%a %h %s %U:%G %F' -- "$resolved")
	mode=${meta%% *} meta=${meta#* }
	links=${meta%% *} meta=${meta#* }
	size=${meta%% *} meta=${meta#* }
	owner=${meta%% *} kind=${meta#* }
	dir=${resolved%/*}
	denied=
	case $(stat -c %a -- "${dir:-/}") in
	*[2367]) denied="others may write its directory ${dir:-/}" ;;
	esac
	if [ ! -w "${dir:-/}" ]; then denied="its directory ${dir:-/} cannot be written"; fi
	content=
	if [ "$kind" = "regular empty file" ]; then kind="regular file"; fi
	if [ "$kind" = "regular file" ]; then
		if [ "$size" -gt 16777216 ]; then
			denied="it is $size bytes long; at most 16777216 are read"
		else
			content=$(base64 <"$resolved" | tr -d '\n')
		fi
	fi
	printf '{"path":"%s","resolved":"%s","kind":"%s","owner":"%s","group":"%s","mode":"%s","links":%s,"denied":"%s","content":"%s"}\n' \
		"$(b64 "$path")" "$(b64 "$resolved")" "$(b64 "$kind")" "$(b64 "${owner%%:*}")" "$(b64 "${owner#*:}")" "$mode" "$links" "$(b64 "$denied")" "$content"
done
