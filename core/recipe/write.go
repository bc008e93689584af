package recipe

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"fernladder/core/durable"
	"fernladder/core/host"
	"fernladder/core/tomlfile"
)

// Change edits the file of a recipe; everything that edit does not change stays as it is. The
// file is replaced as a whole.
func (r *Recipe) Change(edit func(*tomlfile.Edit)) error {
	return r.Rewrite(func(text []byte) ([]byte, error) {
		e, err := tomlfile.Parse(r.File, text)
		if err != nil {
			return nil, err
		}
		edit(e)
		return e.Bytes()
	})
}

// Rewrite replaces the file of a recipe by the result of change, in one step; other processes
// that use this wait.
func (r *Recipe) Rewrite(change func(text []byte) ([]byte, error)) error {
	unlock, err := r.lock()
	if err != nil {
		return err
	}
	defer unlock()
	file := filepath.Join(r.Dir, FileName)
	text, err := r.OnShelf(FileName).ReadFile(Largest)
	if err != nil {
		return err
	}
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	before := tomlfile.Read(r.File, text, Keys(&Recipe{File: r.File, Dir: r.Dir}))
	if text, err = change(text); err != nil {
		return err
	}
	if len(text) > Largest {
		return fmt.Errorf("%s would have %d MiB, and at most %d are read", r.File, len(text)>>20, Largest>>20)
	}
	if after := tomlfile.Read(r.File, text, Keys(&Recipe{File: r.File, Dir: r.Dir})); len(before) == 0 && len(after) > 0 {
		return after
	}
	return durable.WriteFile(file, text, info.Mode().Perm())
}

// lock keeps other programs from changing the recipe meanwhile. The lock is on its folder,
// because a file that is replaced cannot have one. A change takes no time, so a process that
// holds the lock for a second is no writer: anyone who may read the folder can hold it, and the
// change goes on.
func (r *Recipe) lock() (unlock func(), err error) {
	dir, err := os.Open(r.Dir)
	if err != nil {
		return nil, err
	}
	const pause = 10 * time.Millisecond
	for range 100 {
		if err = unix.Flock(int(dir.Fd()), unix.LOCK_EX|unix.LOCK_NB); !errors.Is(err, unix.EINTR) &&
			!errors.Is(err, unix.EWOULDBLOCK) {
			break
		}
		time.Sleep(pause)
	}
	return func() { dir.Close() }, nil
}

// entry is a table in its written form: keys with their values, in order.
type entry struct {
	table string
	about string // behind the head of the table
	lines [][3]string
}

func (e *entry) add(key, value, remark string) {
	if value != "" {
		e.lines = append(e.lines, [3]string{key, value, remark})
	}
}

// text is the table without a line break at its end.
func (e *entry) text() string {
	width := 0
	for _, line := range e.lines {
		if !strings.HasPrefix(line[1], "{") { // tables are not aligned with the others
			width = max(width, len(line[0]))
		}
	}
	text := "[[" + e.table + "]]"
	if e.about != "" {
		text += "   # " + e.about
	}
	for _, line := range e.lines {
		text += fmt.Sprintf("\n%-*s = %s", width, line[0], line[1])
		if line[2] != "" {
			text += "   # " + line[2]
		}
	}
	return text
}

// A NeedEntry is a need on another recipe, to write into a recipe.
type NeedEntry struct {
	Recipe  string
	Version string // a range, or "" for any
	Role    Role
	When    string // the condition under which it is needed, or ""
	Options string // a table of how it must have been built, or ""
	Remark  string // behind the recipe's name
}

// Text is the need in its written form.
func (n NeedEntry) Text() string {
	e := entry{table: "need"}
	e.add("recipe", tomlfile.Quote(n.Recipe), n.Remark)
	if n.Version != "" {
		e.add("version", tomlfile.Quote(n.Version), "")
	}
	e.add("role", tomlfile.Quote(string(n.Role)), "")
	if n.When != "" {
		e.add("when", tomlfile.Quote(n.When), "")
	}
	e.add("options", n.Options, "")
	return e.text()
}

// A HostEntry is a need on the operating system, to write into a recipe.
type HostEntry struct {
	host.Question
	Version  string          // a range, or "" for any
	When     string          // the condition under which it is needed, or ""
	Packages []tomlfile.Pair // by family
	Others   []string        // packages that would do as well
	About    string          // behind the head
	Remark   string          // behind the name
}

// OfFamily is the packages of a HostEntry if those of only one family are known. Families that
// recipes do not distinguish have none.
func OfFamily(family string, packages ...string) []tomlfile.Pair {
	if !slices.Contains(host.Families, family) || len(packages) == 0 || packages[0] == "" {
		return nil
	}
	return []tomlfile.Pair{{Name: family, Values: packages[:1]}}
}

// Text is the need in its written form.
func (h HostEntry) Text() string {
	e := entry{table: "host", about: h.About}
	e.add(string(h.Kind), tomlfile.Quote(h.Name), h.Remark)
	if h.Version != "" && (h.Kind == host.Module || h.Kind == host.Program) {
		e.add("version", tomlfile.Quote(h.Version), "")
	}
	if h.When != "" {
		e.add("when", tomlfile.Quote(h.When), "")
	}
	var named []string
	for _, p := range h.Packages {
		named = append(named, p.Name+" = "+tomlfile.Quote(p.Values[0]))
	}
	others := ""
	if len(h.Others) > 0 {
		others = "or " + strings.Join(h.Others, ", ")
	}
	if len(named) > 0 {
		e.add("packages", "{ "+strings.Join(named, ", ")+" }", others)
	}
	return e.text()
}

// ReleaseText is a release in its written form, its values aligned with those of the others.
func ReleaseText(column int, x *Release) string {
	width := max(column-1, 0)
	var b strings.Builder
	b.WriteString("[[release]]\n")
	line := func(key, value string) { fmt.Fprintf(&b, "%-*s = %s\n", width, key, value) }
	line("version", tomlfile.Quote(x.Version.String()))
	if x.Track != Stable {
		line("track", tomlfile.Quote(string(x.Track)))
	}
	if len(x.Archive) > 0 {
		line("archive", tomlfile.QuoteList(x.Archive))
	}
	if len(x.Signature) > 0 {
		line("signature", tomlfile.QuoteList(x.Signature))
	}
	line(x.Digest.Algorithm, tomlfile.Quote(x.Digest.Hex))
	if x.Size > 0 {
		line("size", fmt.Sprint(x.Size))
	}
	return b.String()
}

// Lists are the kinds of things that a package offers, by their keys in a recipe; those with any
// entries, in their order.
func (o Offers) Lists() (keys []string, lists map[string][]string) {
	lists = map[string][]string{"modules": o.Modules, "programs": o.Programs, "libraries": o.Libraries, "cmake": o.CMake}
	for _, key := range OfferKeys {
		if len(lists[key]) > 0 {
			keys = append(keys, key)
		}
	}
	return keys, lists
}

// OfferKeys are the keys of [offers].
var OfferKeys = []string{"modules", "programs", "libraries", "cmake"}

// SetOffers gives a recipe the table [offers].
func SetOffers(e *tomlfile.Edit, o Offers) {
	keys, lists := o.Lists()
	quoted := map[string]string{}
	for _, key := range keys {
		quoted[key] = tomlfile.QuoteList(lists[key])
	}
	e.SetTable("offers", keys, quoted)
}
