# Joins files into one, each ended by a line end.
# $1 the file  $2… its parts
# Exit code 9: it did not arrive whole.
f=$1
t=$f.fs-new
shift
rm -f "$t"
(umask 077; : >"$t") || exit 1
for p in "$@"; do
	[ -f "$p" ] || { echo "$p is not there" >&2; exit 1; }
	cat "$p" >>"$t" || { rm -f "$t"; exit 9; }
	[ -z "$(tail -c 1 "$p")" ] || echo >>"$t"
done
sync 2>/dev/null
mv -f "$t" "$f"
