#!/bin/sh
# Stands before a compiler: runs it, and notes the headers and libraries that it lacks. One
# that is among the answers is there for this one call, empty; a test for which that is not
# enough succeeds, as it would with the real one. FL_LISTEN is a directory to write in, FL_CFLAGS
# are more arguments for the compiler.
real=$FL_COMPILERS/${0##*/}
case $0 in *++) lang=c++; echo "language c++" >>"$FL_LISTEN/notes" ;; *) lang=c ;; esac
test= text= out= how=link next= first= libs=" " bare=$0 trees=$CPATH line="
"
for a; do
	case $a in
	*"$FL_TREES"/*) trees=$trees$line$a ;;
	-idirafter) ;;
	*) bare=$bare$line$a ;;
	esac
	test -z "$next" || { out=$a next=; continue; }
	case $a in
	conftest.c | conftest.cc | conftest.cpp | conftest.cxx | conftest.C) test=$a text=$a ;;
	*.c | *.cc | *.cpp | *.cxx | *.C) text=$a ;;
	-o) next=out ;;
	-c | -E | -S) how=$a ;;
	-l*) first=${first:-${a#-l}} libs="$libs${a#-l} " ;;
	esac
done

lacking() {
	sed -n -e 's/.*fatal error: \([^: ]*\): No such file or directory.*/header \1/p' \
		-e "s/.*error: #error \"Header '\\([^' ]*\\)' could not be found\".*/header \\1/p" \
		-e 's/.*cannot find -l\([^: ]*\).*/library \1/p' "$1" | sort -u
}

# The outcome of the same test is kept, in a directory, so that a further run takes the shell's
# time only: on that way, it starts as few programs as it can. A test that lacks nothing without
# the trees of needs is not made again with them.
own=$FL_LISTEN/cc-$$ kept=
if [ "$test" ]; then
	printf '%s\n' "$bare" >"$FL_LISTEN/args"
	printf '%s\n' "$trees" >"$FL_LISTEN/trees"
	sums=$(sha1sum "$FL_LISTEN/args" "$test" "$FL_LISTEN/trees") text=$test
	a=${sums#*"$line"} kept=$FL_KEPT/${sums%% *}
	kept=$kept-${a%% *} a=${a#*"$line"}
	test -z "$trees" || { test -d "$kept" && test ! -s "$kept/lacks"; } || kept=$kept-${a%% *}
	test "$out" || case $how in -c) out=conftest.o ;; link) out=a.out ;; esac
fi
outcome=$kept
if [ -d "$kept" ]; then
	test ! -f "$kept/file" || cp "$kept/file" "$out"
else
	outcome=$own.outcome
	mkdir "$outcome"
	for a in $libs; do echo "uses library $a"; done >"$outcome/uses"
	test ! -f "$text" ||
		sed -n 's/^[ \t]*#[ \t]*include[ \t]*[<"]\([^">]*\).*/uses header \1/p' "$text" >>"$outcome/uses"
	"$real" "$@" $FL_CFLAGS >"$outcome/out" 2>"$outcome/err"
	status=$?
	echo $status >"$outcome/status"
	test $status = 0 || lacking "$outcome/err" >"$outcome/lacks"
	if [ "$kept" ]; then
		test $status != 0 || test ! -f "$out" || cp "$out" "$outcome/file"
		! mv -T "$outcome" "$kept" 2>/dev/null || outcome=$kept
	fi
fi
read -r status <"$outcome/status"
err=$outcome/err lacks=$outcome/lacks stubs=
test ! -s "$outcome/out" || cat "$outcome/out"
while read -r a; do echo "$a"; done <"$outcome/uses" >>"$FL_LISTEN/notes"
finish() {
	status=$1
	test ! -s "$err" || cat "$err" >&2
	set -- "$own".*
	test ! -e "$1" || rm -rf "$@"
	exit $status
}
test $status != 0 || finish 0

tries=0 headers=
while [ -s "$lacks" ] && [ $tries -lt 20 ]; do
	tries=$((tries + 1)) all=yes
	while read -r kind name; do
		case $kind\ $name in
		library\ fl-module-*) ;;
		*)
			echo "$kind $name" >>"$FL_LISTEN/notes"
			grep -Fqx "$kind $name" "$FL_ANSWERS" || all=no
			;;
		esac
	done <"$lacks"
	test $all = yes || break
	stubs=$own.stubs err=$own.err
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
	done <"$lacks"
	! "$real" "$@" $FL_CFLAGS -idirafter "$stubs/include" "-L$stubs/lib" 2>"$err" || finish 0
	lacks=$own.lacks
	lacking "$err" >"$lacks"
done
case " $*" in *" $FL_STUBS/"*) headers=yes stubs=${stubs:-$FL_STUBS/none} ;; esac
if [ -z "$stubs" ] || [ -s "$lacks" ]; then
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
err=/dev/null
finish 0
