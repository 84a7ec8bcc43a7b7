# Ends every process of the session of a command that run.sh started. Prints "fs-all-ended" when none is left.
# $1 the folder
d=$1
p=$(cat "$d/pid" 2>/dev/null) || exit 0
scan() {
	L=
	for f in /proc/[0-9]*/stat; do
		{ read -r l <"$f"; } 2>/dev/null || continue
		n=${f#/proc/}
		n=${n%/stat}
		# shellcheck disable=SC2086
		set -- ${l##*) }
		[ "$4" = "$p" ] && [ "$1" != Z ] && L="$L $n"
	done
}
echo ended >"$d/why" 2>/dev/null
scan
# shellcheck disable=SC2086
[ -n "$L" ] && kill -TERM $L 2>/dev/null
i=0
while [ $i -lt 6 ]; do
	scan
	[ -z "$L" ] && break
	sleep 0.5 2>/dev/null || sleep 1
	i=$((i + 1))
done
i=0
while [ $i -lt 20 ]; do
	scan
	[ -z "$L" ] && break
	# shellcheck disable=SC2086
	kill -KILL $L 2>/dev/null
	sleep 0.2 2>/dev/null || sleep 1
	i=$((i + 1))
done
[ -z "$L" ] && echo fs-all-ended
