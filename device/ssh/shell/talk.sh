# Runs a program on the terminal that it was given, and keeps its session and what becomes of it in a folder, as run.sh
# does.
# $1 the folder  $2 the program
d=$1
mkdir -m 700 "$d" || exit 125
read -r l </proc/$$/stat
# shellcheck disable=SC2086
set -- "$2" ${l##*) }
echo "$5" >"$d/p"
mv "$d/p" "$d/pid"
sh -c "$1"
e=$?
echo $e >"$d/e"
mv "$d/e" "$d/exit"
exit $e
