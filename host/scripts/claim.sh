# claim.sh FENCE RUN: takes the host for a run: from now on lower fences are
# refused. Run under the host's lock. Running it twice is the same as once.
fence "$1"
mkdir -p "$state/runs/$2"
chmod 700 "$state/runs" "$state/runs/$2"
printf '{"claimed":true}\n'
