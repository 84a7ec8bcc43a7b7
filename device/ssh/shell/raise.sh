# Reads a password from the first line of standard input and runs a command that may ask a program for it.
# $1 the program  $2 the command
# Exit code 125: no password came.
IFS= read -r FS_WORD || exit 125
SUDO_ASKPASS=$1
export FS_WORD SUDO_ASKPASS
exec sh -c "$2"
