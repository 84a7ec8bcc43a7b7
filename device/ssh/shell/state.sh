# Prints the state of a command that run.sh started: "fs-stands STATE [CODE] [limit]". STATE is never (and it never
# will be: the folder is made here), starting, running, gone, or ended with its exit code.
# $1 the folder
d=$1
mkdir -m 700 "$d" 2>/dev/null && { echo fs-stands never; exit; }
p=$(cat "$d/pid" 2>/dev/null) || { echo fs-stands starting; exit; }
S=gone
for f in /proc/[0-9]*/stat; do
	{ read -r l <"$f"; } 2>/dev/null || continue
	# shellcheck disable=SC2086
	set -- ${l##*) }
	[ "$4" = "$p" ] && [ "$1" != Z ] && S=running
done
w=
[ -f "$d/why" ] && w=limit
[ -f "$d/exit" ] && S="ended $(cat "$d/exit")"
echo "fs-stands $S $w"
