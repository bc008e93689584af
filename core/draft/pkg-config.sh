#!/bin/sh
# Stands in for pkg-config: notes the modules that are asked for, and knows those that are
# among the answers (module NAME VERSION), by the real one where a tree has them. FL_LISTEN is
# a directory to write in.
what=exists given= loud=no least= next=
for a; do
	test -z "$next" || a=$next=$a next=
	case $a in
	--atleast-version | --exact-version | --max-version | --variable | --define-variable | --atleast-pkgconfig-version) next=$a ;;
	--version) echo 1.8.1 && exit 0 ;;
	--atleast-pkgconfig-version*) exit 0 ;;
	--list-all) exit 0 ;;
	--modversion) what=version ;;
	--cflags* | --libs*) case $what in flags | exists) what=flags ;; esac; case $a in --libs*) libs="${libs-} $a" ;; *) cflags="${cflags-} $a" ;; esac ;;
	--variable=*) what=variable variable=$a ;;
	--print-errors) loud=yes ;;
	--atleast-version=*) least=">= ${a#*=}" ;;
	--exact-version=*) least="= ${a#*=}" ;;
	--max-version=*) least="<= ${a#*=}" ;;
	-*) ;;
	*) given="$given $a" ;;
	esac
done
real() { test "$FL_PKG_CONFIG" && "$FL_PKG_CONFIG" "$@" 2>/dev/null; }
given=$(printf '%s\n' "$given $least" | sed -e 's/,/ /g' -e 's/\([<>!]=\|[<>=]\)/ \1 /g')
missing= found=
set -- $given
while [ $# -gt 0 ]; do
	name=$1 range=
	shift
	case ${1-} in
	'<' | '>' | '=' | '<=' | '>=' | '!=') range="$1 ${2-}" && shift && test $# = 0 || shift ;;
	esac
	echo "module $name${range:+ $range}" >>"$FL_LISTEN/notes"
	if line=$(grep -F "module $name " "$FL_ANSWERS"); then
		found="$found$name "
		test $what != version || real --modversion "$name" || echo "${line##* }"
	else
		missing="$missing$name "
	fi
done
if [ "$missing" ]; then
	for name in $missing; do
		test $what = exists && test $loud = no || echo "Package $name was not found in the pkg-config search path." >&2
	done
	exit 1
fi
case $what in
flags)
	text=
	for name in $found; do
		if real --exists "$name"; then
			text="$text$(real ${cflags-} ${libs-} "$name") "
		elif [ "${libs-}" ]; then
			text="$text-lfl-module-$name "
		fi
	done
	echo "$text"
	;;
variable) real "$variable" $found || echo "$FL_LISTEN" ;;
esac
exit 0
