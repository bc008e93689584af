#!/bin/sh
# Stands before a compiler: runs it, and notes the headers and libraries that it lacks. One
# that is among the answers is there for this one call, empty; a test for which that is not
# enough succeeds, as it would with the real one. FL_LISTEN is a directory to write in.
real=$FL_COMPILERS/${0##*/}
case $0 in *++) lang=c++; echo "language c++" >>"$FL_LISTEN/notes" ;; *) lang=c ;; esac
test= text= out= how=link next= first= libs=" "
for a; do
	test -z "$next" || { out=$a next=; continue; }
	case $a in
	conftest.c | conftest.cc | conftest.cpp | conftest.cxx | conftest.C) test=$a text=$a ;;
	*.c | *.cc | *.cpp | *.cxx | *.C) text=$a ;;
	-o) next=out ;;
	-c | -E | -S) how=$a ;;
	-l*) first=${first:-${a#-l}} libs="$libs${a#-l} " ;;
	esac
done

# What it uses of the trees that it is given is asked for, too.
if [ -s "$FL_ANSWERS" ] && { [ "$text" ] || [ "$first" ]; }; then
	test -f "$text" || text=/dev/null
	awk -v libs="$libs" 'NR == FNR { have[$0]; next }
		/^[ \t]*#[ \t]*include[ \t]*[<"]/ { gsub(/^[^<"]*[<"]|[>"].*$/, ""); name = "header " $0; if (name in have) found = found name "\n" }
		END { n = split(libs, l, " "); for (i = 1; i <= n; i++) if (("library " l[i]) in have) print "library " l[i]; printf "%s", found }' \
		"$FL_ANSWERS" "$text" >>"$FL_LISTEN/notes" 2>/dev/null
fi

# The answer to the same test is kept, so that a further run takes the shell's time only.
kept=
if [ "$test" ]; then
	kept=$({ printf '%s\n' "$0" "$@" && cat "$test"; } | sha1sum)
	kept=$FL_KEPT/${kept%% *}
	test "$out" || case $how in -c) out=conftest.o ;; link) out=a.out ;; esac
fi
err=$FL_LISTEN/err.$$
if [ "$kept" ] && [ -f "$kept.status" ]; then
	read -r status <"$kept.status"
	test ! -f "$kept.out" || cat "$kept.out"
	test ! -f "$kept.file" || cp "$kept.file" "$out"
	cp "$kept.err" "$err"
elif [ "$kept" ]; then
	"$real" "$@" >"$err.out" 2>"$err"
	status=$?
	cat "$err.out"
	test ! -s "$err.out" || cp "$err.out" "$kept.out"
	test $status != 0 || test ! -f "$out" || { cp "$out" "$err.file" && mv "$err.file" "$kept.file"; }
	cp "$err" "$kept.err"
	echo $status >"$err.out"
	mv "$err.out" "$kept.status"
else
	"$real" "$@" 2>"$err"
	status=$?
fi
finish() {
	cat "$err" >&2
	rm -f "$err"
	test ! -d "$stubs" || rm -rf "$stubs"
	exit $1
}
stubs=
test $status != 0 || finish 0

lacking() {
	sed -n -e 's/.*fatal error: \([^: ]*\): No such file or directory.*/header \1/p' \
		-e "s/.*error: #error \"Header '\\([^' ]*\\)' could not be found\".*/header \\1/p" \
		-e 's/.*cannot find -l\([^: ]*\).*/library \1/p' "$err" | sort -u
}
tries=0 headers=
while lacks=$(lacking) && [ "$lacks" ] && [ $tries -lt 20 ]; do
	tries=$((tries + 1))
	printf '%s\n' "$lacks" >"$FL_LISTEN/lacks.$$"
	all=yes
	while read -r kind name; do
		case $kind\ $name in
		library\ fl-module-*) ;;
		*)
			echo "$kind $name" >>"$FL_LISTEN/notes"
			grep -Fqx "$kind $name" "$FL_ANSWERS" || all=no
			;;
		esac
	done <"$FL_LISTEN/lacks.$$"
	test $all = yes || break
	stubs=$FL_LISTEN/stubs.$$
	mkdir -p "$stubs/include" "$stubs/lib"
	while read -r kind name; do
		case $kind in
		header)
			headers=yes
			case $name in */*) mkdir -p "$stubs/include/${name%/*}" ;; esac
			: >"$stubs/include/$name"
			;;
		library) printf '!<arch>\n' >"$stubs/lib/lib$name.a" ;;
		esac
	done <"$FL_LISTEN/lacks.$$"
	"$real" "$@" -idirafter "$stubs/include" "-L$stubs/lib" 2>"$err" && rm -f "$FL_LISTEN/lacks.$$" && finish 0
done
rm -f "$FL_LISTEN/lacks.$$"
case " $*" in *" $FL_STUBS/"*) headers=yes stubs=${stubs:-$FL_STUBS/none} ;; esac
if [ -z "$stubs" ] || [ "$lacks" ]; then
	finish $status
fi

# What is left of the failure is what an empty file cannot have. With a library alone, that is
# a function of it, unless the library was brought by an earlier test. A test for a function
# of the system can be for one of the library as well, so that is asked for, too.
if [ -z "$headers" ]; then
	if grep -q innocuous_ "${test:-/dev/null}"; then
		function=$(sed -n 's/^char \([A-Za-z_0-9]*\) ().*/\1/p' "$test")
		echo "function $function" >>"$FL_LISTEN/notes"
		grep -Fqx "function $function" "$FL_ANSWERS" || finish $status
	fi
	case $libs in *" $first "*" $first "*) ;; *)
		! grep -Fqx "$first" "$FL_LISTEN/linked" 2>/dev/null || finish $status
		;;
	esac
	echo "$first" >>"$FL_LISTEN/linked"
fi
case $how in
-E) ;;
-c | -S) "$real" -x $lang $how -o "${out:-a.o}" /dev/null 2>/dev/null ;;
link) echo 'int main(void) { return 0; }' | "$real" -x $lang -o "${out:-a.out}" - 2>/dev/null ;;
esac
: >"$err"
finish 0
