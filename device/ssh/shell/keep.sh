# Keeps a copy of a file, or notes that there was none. What is kept already stays as it is.
# $1 the file  $2 its copy; $2.none: there was no file
f=$1
b=$2
if [ -e "$b" ] || [ -e "$b.none" ]; then
	exit 0
fi
if [ -f "$f" ]; then
	cp -p "$f" "$b.new" || exit 1
	mv -f "$b.new" "$b"
elif [ -e "$f" ]; then
	echo "it is not a plain file" >&2
	exit 1
else
	: >"$b.none"
fi
