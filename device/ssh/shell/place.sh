# Puts a copy of one file in the place of another, whole or not at all, with the owner and mode of the one that was there.
# $1 the file  $2 what is copied  $3 its mode, empty: as it was
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
cat "$2" >"$t" || { rm -f "$t"; exit 9; }
cmp -s "$2" "$t" 2>/dev/null || [ "$(wc -c <"$t")" -eq "$(wc -c <"$2")" ] || { rm -f "$t"; exit 9; }
[ -z "$3" ] || chmod "$3" "$t" || exit 1
sync 2>/dev/null
mv -f "$t" "$f"
