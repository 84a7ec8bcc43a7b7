# Removes what is in a folder, one name aside. (csh would take a pattern with an exclamation mark for its history.)
# $1 the folder  $2 the name
[ -d "$1" ] || exit 0
for f in "$1"/* "$1"/.*; do
	case "${f##*/}" in
	"$2" | . | .. | "*" | ".*") ;;
	*) rm -rf "$f" || exit 1 ;;
	esac
done
