# Puts standard input in the place of a file, whole or not at all. It is written beside the place and moved there; owner
# and mode of the old file are taken over.
# $1 the file  $2 its size in bytes  $3 its mode, empty: as it was
# Exit code 9: it did not arrive whole.
f=$1
[ -L "$f" ] && f=$(readlink -f "$f")
t=$f.fs-new
rm -f "$t"
if [ -f "$f" ]; then
	cp -p "$f" "$t" || exit 1
else
	(umask 077; : >"$t") || exit 1
fi
cat >"$t" || { rm -f "$t"; exit 9; }
[ "$(wc -c <"$t")" -eq "$2" ] || { rm -f "$t"; exit 9; }
[ -z "$3" ] || chmod "$3" "$t" || exit 1
sync 2>/dev/null
mv -f "$t" "$f"
