# Prints a file between two marks: what a login shell prints besides stays outside.
# $1 the file  $2 the mark
printf %s "$2"
cat "$1" || exit 1
printf %s "$2"
