package main

import (
	"archive/zip"
	"bufio"
	"fmt"
	"os"
	"strings"
)

// care looks 500 builds up in a made-up database, and lists what they are made of.
func (w *work) care() []row {
	const builds, entries = 500, 300_000
	prepared := ""
	dir := func() string {
		if prepared == "" {
			prepared = w.path(w.grove(builds, 20))
			w.database(prepared+"/all.zip", builds, entries)
			settings := "root = \"root\"\nshelves = [\"recipes\"]\n[[advisories]]\npath = \"all.zip\"\n"
			must(os.WriteFile(prepared+"/fernladder.toml", []byte(settings), 0o644))
		}
		return prepared
	}
	look := func(first bool) side {
		return func() cost {
			d := dir()
			if first {
				must(os.RemoveAll(d + "/root/advisories"))
			}
			return watched(d, w.program, "advisories", "--severity", "critical")
		}
	}
	sh := func(script string) side { return func() cost { return timed(dir(), "sh", "-c", script) } }
	return []row{
		{name: "500 builds in 300,000 advisories, first time", anchor: "bsdtar -xO", aim: "3 s at most",
			ours: look(true), theirs: sh("bsdtar -xOf all.zip >/dev/null"),
			show: func(ours, _ cost) string { return fmt.Sprintf("peak %d MiB", ours.peak>>20) }},
		{name: "500 builds in 300,000 advisories, again", anchor: "cat of their 500 receipts", aim: "0.2 s at most",
			ours: look(false), theirs: sh("cat root/trees/*/*/share/fernladder/receipt.json >/dev/null")},
		{name: "bill of materials, 500 builds with files", anchor: "sha256sum of the files", aim: "1 s at most",
			ours:   func() cost { return timed(dir(), w.program, "sbom", "--landing", "--files") },
			theirs: sh("find root/trees -type f -print0 | xargs -0 sha256sum >/dev/null")},
	}
}

// database is a zip archive with advisories, some 2 KB each, as databases publish them. Of each
// of the builds' packages one has a hole, which is mended.
func (w *work) database(file string, builds, entries int) {
	out, err := os.Create(file)
	must(err)
	buffer := bufio.NewWriterSize(out, 1<<20)
	z := zip.NewWriter(buffer)
	details := strings.Repeat("A reading that is longer than its buffer is copied without a look at its length. ", 6)
	for i := range entries {
		name := fmt.Sprintf("moss%d", i%(entries/5))
		if i < builds {
			name = fmt.Sprintf("plant%05d", i)
		}
		var versions []string
		for k := range 20 {
			versions = append(versions, fmt.Sprintf("\"0.%d.%d\"", k, i%7))
		}
		entry, err := z.Create(fmt.Sprintf("VALE-%d.json", i))
		must(err)
		_, err = fmt.Fprintf(entry, `{"schema_version":"1.7.0","id":"VALE-%d","modified":"2026-%02d-%02dT09:00:00Z",`+
			`"aliases":["CVE-2026-%d"],"summary":"A reading overruns a buffer","details":%q,`+
			`"severity":[{"type":"CVSS_V3","score":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:L/I:L/A:H"}],`+
			`"affected":[{"package":{"ecosystem":"OSS-Fuzz","name":%q,"purl":"pkg:generic/%s"},"ranges":[{"type":"GIT",`+
			`"repo":"https://vale.example/%s.git","events":[{"introduced":"0"},{"fixed":"%040x"}]},{"type":"ECOSYSTEM",`+
			`"events":[{"introduced":"0"},{"fixed":"0.%d.9"}]}],"versions":[%s]}],`+
			`"references":[{"type":"ADVISORY","url":"https://vale.example/advisories/%d"}]}`,
			i, 1+i%12, 1+i%28, i, details+fmt.Sprint(i*7919), name, name, name, i, i%30, strings.Join(versions, ","), i)
		must(err)
	}
	must(z.Close())
	must(buffer.Flush())
	must(out.Close())
}
