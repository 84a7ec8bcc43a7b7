# Runs a command in a session of its own, within a limit that the device itself keeps, and keeps what became of it in a
# folder. The folder's making is a fence: who makes it second runs nothing.
# $1 the folder  $2 the command  $3 the limit in seconds
# In the folder: pid, out, err, exit (its exit code), why ("limit": its time ran out).
# Exit code 124: it was ended. 125: the folder could not be made. Else the command's own.
d=$1
mkdir -m 700 "$d" || exit 125
exec 3<&0
# shellcheck disable=SC2016,SC2094
setsid sh -c '
	d=$0
	trap : TERM HUP
	echo $$ >"$d/p"
	mv "$d/p" "$d/pid"
	(
		trap "" TERM
		n=0
		while [ $n -lt $2 ]; do
			sleep 1
			[ -f "$d/exit" ] || [ ! -d "$d" ] && exit
			n=$((n + 1))
		done
		echo limit >"$d/why"
		kill -TERM -$$
		sleep 3
		kill -KILL -$$
	) <&- >&- 2>&- 3<&- &
	sh -c "$1" 3<&-
	echo $? >"$d/e"
	mv "$d/e" "$d/exit"
' "$d" "$2" "$3" <&3 3<&- >"$d/out" 2>"$d/err" &
exec 3<&- <&-
wait $!
cat "$d/out"
cat "$d/err" >&2
[ -f "$d/exit" ] || exit 124
exit "$(cat "$d/exit")"
