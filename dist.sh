#!/bin/sh
# dist.sh DIR makes a release in DIR: static programs for amd64 and arm64 with manual pages and
# completions, the source with all modules, a recipe for it, checksums and a bill of materials.
# The same commit makes the same bytes, wherever it is built.
set -e
here=$(cd "$(dirname "$0")" && pwd)
cd "$here"
mkdir -p "$1"
out=$(cd "$1" && pwd)
version=$(sed -n 's/^const Version = "\(.*\)"$/\1/p' internal/cli/cli.go)
export SOURCE_DATE_EPOCH=$(git log -1 --format=%ct) CGO_ENABLED=0 GOFLAGS=-mod=mod LC_ALL=C TZ=UTC
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

pack() { # NAME: packs the directory into an archive, the same at any time, by any user
	find "$work/$1" -type d -exec chmod 755 {} + -o -perm -u+x -exec chmod 755 {} + -o -exec chmod 644 {} +
	tar -C "$work" --sort=name --mtime="@$SOURCE_DATE_EPOCH" --owner=0 --group=0 --numeric-owner -cf - "$1" |
		gzip -9n >"$out/$1.tar.gz"
}

source=fernladder-$version
git archive --prefix="$source/" HEAD | tar -C "$work" -xf -
(cd "$work/$source" && go mod vendor)
pack "$source"

go run ./internal/manpages "$work/docs"
for arch in amd64 arm64; do
	name=fernladder-$version-linux-$arch
	mkdir -p "$work/$name/bin"
	(cd "$work/$source" && GOOS=linux GOARCH=$arch GOFLAGS=-mod=vendor \
		go build -trimpath -buildvcs=false -ldflags="-s -w -buildid=" -o "$work/$name/bin/fernladder" ./cmd/fernladder)
	cp -r "$work/docs/share" "$work/$name/"
	mkdir -p "$work/$name/share/doc/fernladder"
	cp -r README.md LICENSE CHANGELOG.md docs "$work/$name/share/doc/fernladder/"
	pack "$name"
done
"$work/fernladder-$version-linux-$(go env GOARCH)/bin/fernladder" sbom --self >"$out/fernladder-$version.spdx.json"

mkdir -p "$out/recipes/fernladder"
sum=$(sha256sum "$out/$source.tar.gz" | cut -d' ' -f1)
sed "s/^version = .*/version = \"$version\"/; s/^sha256 *= .*/sha256  = \"$sum\"/" examples/self/recipe.toml >"$out/recipes/fernladder/recipe.toml"
cd "$out" && sha256sum fernladder-*.tar.gz fernladder-*.json >SHA256SUMS && cat SHA256SUMS
