# Puts a kept copy back, where the file is as it was written last. Prints "restored" if it did something.
# $1 the file  $2 its copy, see keep.sh; $2.ours: what was written  $3 yes: what is there counts as ours if $2.ours is missing
# Exit code 7: something else is there. 8: no copy is kept. 9: it did not arrive whole.
f=$1
[ -L "$f" ] && f=$(readlink -f "$f")
t=$f.fs-new
rm -f "$t"
b=$2
o=$2.ours
# same compares two files; where the box has no cmp, as texts.
same() {
	cmp -s "$1" "$2" 2>/dev/null
	case $? in
	0) return 0 ;;
	1) return 1 ;;
	esac
	[ "$(cat "$1")" = "$(cat "$2")" ]
}
mine() {
	[ -f "$o" ] || { [ "$1" = yes ]; return; }
	same "$f" "$o"
}
if [ -f "$b.none" ]; then
	[ -e "$f" ] || exit 0
	mine "$3" || exit 7
	rm -f "$f" || exit 1
	echo restored
elif [ -f "$b" ]; then
	if [ -f "$f" ]; then
		same "$f" "$b" && exit 0
		mine "$3" || exit 7
	fi
	cp -p "$b" "$t" || { rm -f "$t"; exit 9; }
	mv -f "$t" "$f" || exit 1
	echo restored
else
	exit 8
fi
