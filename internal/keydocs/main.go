// Keydocs writes the pages of the manual that list keys, from the definitions that read them,
// and the layers of the core, from its imports. With -check it only reports whether the pages
// are up to date.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/settings"
	"fernladder/core/tomlfile"
)

func main() {
	check := flag.Bool("check", false, "write nothing, fail where a page is not up to date")
	flag.Parse()
	pages := map[string]string{"recipe-keys.md": recipePage(), "settings.md": settingsPage()}
	inside, err := os.ReadFile(filepath.Join(flag.Arg(0), "inside.md"))
	if err == nil {
		pages["inside.md"], err = layersPage(inside)
	}
	if err == nil {
		pages["causes.md"], err = causesPage(filepath.Join(flag.Arg(0), "../core/diagnose/causes.toml"))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	for name, text := range pages {
		file := filepath.Join(flag.Arg(0), name)
		if old, err := os.ReadFile(file); err == nil && bytes.Equal(old, []byte(text)) {
			continue
		}
		if *check {
			fmt.Fprintf(os.Stderr, "%s is not what the code says; run: make docs\n", file)
			os.Exit(1)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

const generated = "<!-- Made by `make docs` from the code that reads these keys. -->\n\n"

func recipePage() string {
	var b strings.Builder
	b.WriteString(generated + `# The keys of a recipe

A recipe is ` + "`SHELF/NAME/recipe.toml`" +
		`, a TOML 1.0 file. Keys in **bold** must be there. A key that is not listed here
is refused. How a recipe is written is told in [recipes.md](recipes.md).

`)
	var top []tomlfile.Key
	for _, k := range recipe.Keys(&recipe.Recipe{}) {
		if len(k.Inside()) == 0 && k.Kind == "whole number" {
			top = append(top, k)
		}
	}
	table(&b, top)
	for _, k := range recipe.Keys(&recipe.Recipe{}) {
		switch {
		case k.Kind == tomlfile.KindNamed:
			section(&b, "["+k.Name+".NAME]", k)
		case k.Kind == tomlfile.KindTables:
			section(&b, "[["+k.Name+"]]", k)
		case k.Kind != "whole number":
			section(&b, "["+k.Name+"]", k)
		}
	}
	b.WriteString("\n## Variables\n\nIn texts of a recipe, `$FL_NAME` and `${FL_NAME}` stand for values. Shell steps " +
		"get them in their environment. A name that\nbegins with `FL_` and is not known is a mistake; every other `$` is " +
		"left alone. In URLs there are only `FL_NAME` and\n`FL_VERSION`; in `[env]` and `[[try]]` there is nothing that " +
		"is gone when the build is over.\n\n| variable | value |\n| --- | --- |\n")
	for _, v := range recipe.Variables {
		fmt.Fprintf(&b, "| `%s` | %s |\n", v.Name, v.About)
	}
	return b.String()
}

func settingsPage() string {
	var b strings.Builder
	var shelves []string
	b.WriteString(generated + `# Settings

` + "`fernladder.toml`" + ` is looked for in the current directory and in those above it, then in ` +
		"`$XDG_CONFIG_HOME/fernladder/`" + `
(or ` + "`~/.config/fernladder/`" + `), then in ` + "`/etc/fernladder/`" + `. The first that is there counts; ` +
		"`--settings FILE`" + ` names
one. Relative paths in it start at the file's own directory.

A file that is found counts only if only root and you (or, for root by ` + "`sudo`" +
		`, who called it) owns it and its directory, and
not everyone can write to them; otherwise nothing is done. One that is named counts in any case.

`)
	keys := settings.Keys(&settings.Settings{}, &shelves)
	table(&b, keys)
	for _, k := range keys {
		switch k.Kind {
		case tomlfile.KindTable:
			section(&b, "["+k.Name+"]", k)
		case tomlfile.KindTables:
			section(&b, "[["+k.Name+"]]", k)
		}
	}
	return b.String()
}

func section(b *strings.Builder, title string, k tomlfile.Key) {
	fmt.Fprintf(b, "\n## `%s`\n\n%s", title, k.About)
	if k.Required {
		b.WriteString(" A recipe must have this.")
	}
	b.WriteString("\n")
	if len(k.Inside()) > 0 {
		b.WriteString("\n")
		table(b, k.Inside())
	}
}

func table(b *strings.Builder, keys []tomlfile.Key) {
	b.WriteString("| key | value | meaning |\n| --- | --- | --- |\n")
	for _, k := range keys {
		name := "`" + k.Name + "`"
		if k.Required {
			name = "**" + name + "**"
		}
		fmt.Fprintf(b, "| %s | %s | %s |\n", name, k.Kind, strings.ReplaceAll(k.About, "|", `\|`))
	}
}
