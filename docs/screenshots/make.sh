#!/bin/sh
# Makes the pictures in this folder from the demonstration's garden: each
# command runs in an xterm of 1280x800 on a display that nobody sees.
set -e
here=$(cd "$(dirname "$0")" && pwd)
program=$here/../../bin/fernladder
work=$(mktemp -d)
chmod 755 "$work"
mkdir "$work/word" && chmod 777 "$work/word" # builds at level open, which are other users, leave word in it
trap 'kill $server $site 2>/dev/null; rm -rf "$work"' EXIT
mkdir "$work/bin" && ln -s "$(realpath "$program")" "$work/bin/fernladder"
export PATH="$work/bin:$PATH" DISPLAY=:97
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
sleep 1

# shot NAME FOLDER COMMANDS [KEYS]: runs the commands there, each shown before it
# runs, and takes a picture when they are done or, for a picture in the middle, when
# they have made the file "now". With keys, the last command is a screen on which
# those are pressed before.
shot() {
	{
		echo "cd '$2'"
		[ -z "$4" ] || echo "touch '$work/word/now'"
		printf '%s\n' "$3" | while IFS= read -r line; do
			printf "printf '\\033[1m$ %%s\\033[0m\\\\n' '%s'\n%s\n" "$(printf %s "$line" | sed "s/'/'\\\\''/g")" "$line"
		done
		echo "touch '$work/word/now'; sleep 60"
	} >"$work/script"
	rm -f "$work/word/now"
	xterm -geometry 142x42+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#fbfaf6' -fg '#222222' -xrm 'XTerm*color8: #8a8a80' -xrm 'XTerm*allowSendEvents: true' -e sh "$work/script" &
	terminal=$!
	for i in $(seq 300); do [ -e "$work/word/now" ] && break; sleep 0.1; done
	[ -z "$4" ] || sleep 2
	for key in $4; do xdotool key --window "$(xdotool search --class xterm 2>/dev/null | tail -1)" "$key" 2>/dev/null; sleep 0.2; done
	sleep 0.5
	import -window root -strip "$here/$1.png"
	kill $terminal 2>/dev/null || true
	wait $terminal 2>/dev/null || true
}

(cd "$here/../.." && CGO_ENABLED=0 go build -o "$work/serve" ./demo/serve)
"$work/serve" "$work/garden" >"$work/served" &
site=$!
until grep -q served "$work/served"; do sleep 0.1; done
cd "$work/garden"

mkdir drafts && printf 'root = "root"\nshelves = ["drafts", "recipes"]\n' >drafts.toml
url=$(sed 's/.* //' "$work/served")
shot draft . "fernladder draft $url/dl/glasshouse-1.0.0.tar.gz --settings drafts.toml
sed -n '/^.option/,/^method/p' drafts/glasshouse/recipe.toml"
shot plan . 'fernladder plan glasshouse
fernladder build sporegen dewcalc
fernladder plan glasshouse'
fernladder plan glasshouse --draw "$here/ladder.png" >/dev/null
shot options . 'fernladder options mistplan' 'Down space Down Down Return BackSpace BackSpace BackSpace BackSpace 2 5 0 Return Up Up Up space'
shot install . 'fernladder install glasshouse
fernladder install glasshouse'
# The picture of a build under way is taken by the build itself. An earlier one says how long it takes.
cp -r recipes slow && sed 's/recipes/slow/; s/root *= .*/root = "slow-root"/' fernladder.toml >slow.toml
for name in loamdb sporegen mistplan frondplot; do
	grep -q '^\[steps\]' slow/$name/recipe.toml || printf '\n[steps]\n' >>slow/$name/recipe.toml
	printf "before_compile = '''\nfor i in \$(seq 10 9 99); do echo \"[ \$i%%] Building C object $name.c.o\"; sleep 0.3; [ \$i -lt 60 ] || touch $work/word/now || :; done\n'''\n" >steps
	sed -i '/^\[steps\]/r steps' slow/$name/recipe.toml
done
fernladder install glasshouse --isolation open --settings slow.toml >/dev/null 2>&1
fernladder history --draw "$here/run.png" --settings slow.toml >/dev/null
mv slow-root earlier && mkdir slow-root && cp earlier/history slow-root/
shot live . 'fernladder install glasshouse --output --isolation open --settings slow.toml'
fernladder report --to page >/dev/null
chromium --headless --no-sandbox --hide-scrollbars --window-size=1280,800 --screenshot="$here/report.png" "file://$PWD/page/index.html" >/dev/null 2>&1
shot list . 'fernladder list
fernladder show mistplan
fernladder files mistplan | head -5'
# A published hole, in a root and on a shelf of its own.
cp -r recipes held && sed 's/recipes/held/; s/root *= .*/root = "held-root"/' fernladder.toml >held.toml
fernladder install glasshouse --settings held.toml >/dev/null 2>&1
FERNLADDER_SETTINGS=$PWD/held.toml shot advisories . 'fernladder advisories
fernladder bump dewcalc 1.4.3 && fernladder upgrade dewcalc
fernladder advisories
fernladder sbom glasshouse | head -4'
cp fernladder.toml handing.toml && printf '[pack]\nprefix = "vale-"\nmaintainer = "Vale Growers <growers@vale-glasshouse.example>"\nsuffix = "vale12"\n' >>handing.toml
export GNUPGHOME=$work/keys && mkdir -m 700 "$work/keys"
gpg --batch -q --passphrase '' --quick-gen-key 'Vale Growers <growers@vale-glasshouse.example>' rsa3072 sign never 2>/dev/null
gpg --batch --armor --export-secret-keys >vale.key && chmod 600 vale.key && gpg --batch --armor --export >vale.asc
mkdir stick && printf '[[depot]]\nname = "stick"\npath = "stick"\nkeys = ["vale.asc"]\nsign = "vale.key"\n' >>handing.toml
fernladder build mistplan --prefix /opt/mistplan >/dev/null 2>&1
FERNLADDER_SETTINGS=$PWD/handing.toml shot handing . 'fernladder pack dewcalc --format deb --to out
fernladder pack mistplan --prefix /opt/mistplan --format rpm --to out
fernladder repository add vale out/*.deb --key vale.key
fernladder share mistplan
mv root builder; fernladder plan mistplan; fernladder build mistplan; rm -r root; mv builder root'
cp -r recipes broken && sed -i 's/sumary/summary/; s/^summary/sumary/; s/role    = "library"/role    = "libary"/; s/storage == loam/storage == sand/; s/^method = .*/method = "configur"/' broken/mistplan/recipe.toml
sed 's/recipes/broken/' fernladder.toml >broken.toml
shot check . 'fernladder check --settings broken.toml'
sed -i 's/>= 1.3/< 1.4/' recipes/glasshouse/recipe.toml
shot conflict . 'fernladder plan glasshouse
fernladder plan glashouse
fernladder plan mistplan:3.*'
sed -i 's/< 1.4/>= 1.3/' recipes/glasshouse/recipe.toml
cp recipes/frondplot/recipe.toml frondplot.toml && sed -i '/^\[\[need\]\]/,/^$/d' recipes/frondplot/recipe.toml
shot failure . 'fernladder build glasshouse'
mv frondplot.toml recipes/frondplot/recipe.toml
# Logs of other builds, and a package manager that knows the garden.
mkdir tools && printf '#!/bin/sh\nprintf "package libpondlife-dev\\n/usr/include/pondlife/pondlife.h\\n/usr/lib64/pkgconfig/pondlife.pc\\npackage sporegen\\n/usr/bin/sporegen\\n"\n' >tools/dnf && chmod +x tools/dnf
printf 'root = "tools/root"\nshelves = ["recipes"]\npath = ["%s"]\n' "$PWD/tools" >tools.toml
fernladder host --refresh --settings tools.toml >/dev/null
printf 'checking for pkg-config... /usr/bin/pkg-config\nchecking for pondlife >= 1.2... no\nchecking for pondlife/pondlife.h... no\nconfigure: error: the pondlife library is needed; build with --without-ponds to do without\n' >ponds.log
printf '[ 40%%] Building C object rain.c.o\nrain.c:7:10: fatal error: dewcalc.h: No such file or directory\n    7 | #include <dewcalc.h>\n      |          ^~~~~~~~~~~\ncompilation terminated.\nmake[2]: *** [rain.dir/build.make:76: rain.c.o] Error 1\n' >rain.log
shot explain . 'fernladder explain ponds.log rain.log --settings tools.toml
fernladder build --watch mistplan'
shot host . 'fernladder host glasshouse
fernladder shelves
fernladder news
fernladder bump dewcalc'
# Life after the build, in a root of its own. The second machine copies a tree.
sed 's/^root *= .*/root = "second"/' fernladder.toml >life.toml && export FERNLADDER_SETTINGS=$PWD/life.toml
fernladder install glasshouse >/dev/null 2>&1
mkdir -p local/bin && echo theirs >local/bin/glasshouse
sed 's,^root,shared_landing = "local"\nroot,' life.toml >shared.toml
shot landing . 'fernladder install mistplan:1.9.4 --beside
ls second/landing/bin
fernladder upgrade
fernladder landing
fernladder landing undo
fernladder landing compare 1 2
fernladder install glasshouse --settings shared.toml
ls -l local/bin | cut -c 40-'
fernladder landing use 2 --settings shared.toml >/dev/null 2>&1
tree=$(ls -d second/trees/dewcalc/*-* | head -1)
echo rust >>"$tree/lib/libdewcalc.so.1" && rm second/landing/bin/mistplan && chmod 700 "$tree/bin"
shot mend . 'fernladder mend
fernladder mend --fix --rebuild
fernladder mend'
shot tinker . 'fernladder tinker mistplan:2.1.0
sed -i "s/minutes in all/dry minutes in all/" mistplan/mistplan.c
fernladder tinker try mistplan -- mistplan --version
fernladder tinker try mistplan
fernladder tinker keep mistplan drier-nights.patch
fernladder tinker drop mistplan'
