package draft

import (
	"context"
	"path"
	"slices"
	"strings"

	"fernladder/core/ground"
	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/source"
)

// A Hint is what a text of the source says of how it is built, for people.
type Hint struct {
	From     string   // file
	Packages []string // that it wants installed on a system of the family that was asked for
	Flags    []string // that it configures with
}

// texts are where sources tell people how they are built.
var texts = []string{"README", "README.md", "README.txt", "README.rst", "README.markdown", "README.adoc", "Readme.md", "readme.md", "INSTALL", "INSTALL.md", "INSTALL.txt", "INSTALL.rst",
	"BUILD.md", "BUILDING", "BUILDING.md", "BUILDING.txt", "COMPILING", "HACKING", "HACKING.md", "docs/INSTALL", "docs/INSTALL.md", "docs/BUILDING.md", "doc/INSTALL", "doc/install.md", "docs/building.md", ".travis.yml"}

var (
	installs = map[string]*pattern.Pattern{
		"debian": pattern.New(`(?m)\b(?:apt|apt-get|aptitude)(?:[ \t]+-\S+)*[ \t]+install((?:[ \t]+\\?\n?[ \t]*[\w.+:=-]+)+)`),
		"fedora": pattern.New(`(?m)\b(?:dnf|yum)(?:[ \t]+-\S+)*[ \t]+install((?:[ \t]+\\?\n?[ \t]*[\w.+:=()-]+)+)`),
		"suse":   pattern.New(`(?m)\bzypper(?:[ \t]+-\S+)*[ \t]+(?:in|install)((?:[ \t]+\\?\n?[ \t]*[\w.+:=-]+)+)`),
		"arch":   pattern.New(`(?m)\bpacman[ \t]+-S\w*((?:[ \t]+\\?\n?[ \t]*[\w.+:=-]+)+)`),
		"alpine": pattern.New(`(?m)\bapk[ \t]+add((?:[ \t]+\\?\n?[ \t]*[\w.+:=-]+)+)`),
	}
	configures = pattern.New(`(?m)(?:\./configure|\bcmake|\bmeson(?:[ \t]+setup)?)((?:[ \t]+\\?\n?[ \t]*[^\s\\` + "`" + `]+)+)`)
	flagWord   = pattern.New(`^(?:--(?:enable|disable|with|without)-[\w.+-]+(?:=[\w.+,-]+)?|-D[\w.:-]+=(?:ON|OFF|TRUE|FALSE|YES|NO|true|false|enabled|disabled))$`)
	usualFlags = pattern.New(`^-D(?:CMAKE_\w+|BUILD_SHARED_LIBS|BUILD_TESTING)|(?:sysroot|debug)`)
)

// Hints reads what the source's own texts say. read gives the text of a file, or "".
func Hints(read func(name string) string, family string) []Hint {
	var hints []Hint
	for _, name := range texts {
		text := read(name)
		if text == "" {
			continue
		}
		h := Hint{From: name}
		if p := installs[family]; p != nil {
			for _, m := range p.FindAllStringSubmatch(text, -1) {
				for _, word := range strings.Fields(strings.ReplaceAll(m[1], `\`, " ")) {
					if !strings.HasPrefix(word, "-") && len(word) > 1 && !slices.Contains([]string{"and", "or", "the", "if", "for", "to", "sudo"}, word) && !slices.Contains(h.Packages, word) {
						h.Packages = append(h.Packages, plainText(word))
					}
				}
			}
		}
		for _, m := range configures.FindAllStringSubmatch(text, -1) {
			for _, word := range strings.Fields(strings.ReplaceAll(m[1], `\`, " ")) {
				if flagWord.MatchString(word) && !usualFlags.MatchString(word) && !slices.Contains(h.Flags, word) {
					h.Flags = append(h.Flags, plainText(word))
				}
			}
		}
		const enough = 24
		if h.Packages = h.Packages[:min(enough, len(h.Packages))]; len(h.Packages)+len(h.Flags) > 0 {
			h.Flags = h.Flags[:min(enough, len(h.Flags))]
			hints = append(hints, h)
		}
	}
	return hints
}

// HintsOf reads those of a source that others may have changed: only regular files of it,
// behind no links.
func HintsOf(dir, family string) []Hint {
	d, err := ground.OpenDir(dir)
	if err != nil {
		return nil
	}
	defer d.Close()
	return Hints(func(name string) string {
		text, err := d.ReadFile(name, longestText)
		if err != nil {
			return ""
		}
		return strings.ToValidUTF8(string(text), "?")
	}, family)
}

// Lines are a hint in words.
func (h Hint) Lines() (lines []string) {
	if len(h.Packages) > 0 {
		lines = append(lines, h.From+" wants installed: "+strings.Join(h.Packages, " "))
	}
	if len(h.Flags) > 0 {
		lines = append(lines, h.From+" configures with: "+strings.Join(h.Flags, " "))
	}
	return lines
}

// ReadmeOf brings an archive, and finds the text by which its source tells people about
// itself; name is "" where there is none. Nothing of it stays unpacked.
func ReadmeOf(ctx context.Context, m *machine.Machine, w source.Wanted) (name, text string, err error) {
	if err := m.Store.Prepare(); err != nil {
		return "", "", err
	}
	dir, done, err := m.Store.Scratch("readme")
	if err != nil {
		return "", "", m.Store.Wrap(err)
	}
	defer done()
	err = m.Archives.Use(ctx, w, func(archive string) error {
		if _, err := source.Unpack(ctx, archive, dir, m.Unpacking); err != nil {
			return err
		}
		top, err := source.Top(dir)
		if err != nil {
			return err
		}
		files, done, err := FilesOf(top)
		if err != nil {
			return err
		}
		defer done()
		t := &tree{files: files, texts: map[string]string{}}
		for _, candidate := range texts {
			if t.has(candidate) && path.Ext(candidate) != ".yml" {
				name, text = candidate, t.text(candidate)
				break
			}
		}
		return nil
	})
	return name, text, m.Stored(err)
}
