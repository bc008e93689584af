#!/bin/sh
# tell.sh TEXT COMMAND... runs a command, and says every few seconds what it has printed last. What
# it has printed is shown if it fails.
text=$1
shift
echo "$text"
log=$(mktemp)
trap 'rm -f "$log"' EXIT
"$@" >"$log" 2>&1 &
work=$!
count=0
while sleep 1 && kill -0 $work 2>/dev/null; do
	count=$((count + 1))
	[ $((count % 4)) = 0 ] && printf '  %3d s  %.100s\n' $count "$(tail -n 1 "$log")"
done
wait $work && exit 0
status=$?
tail -n 40 "$log" >&2
exit $status
