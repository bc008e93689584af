package draft

import (
	"fmt"
	"strings"

	"fernladder/core/recipe"
)

// Archive is where the source is from.
type Archive struct {
	URL    string // "" for a folder
	SHA256 string // of the file as it is, which nobody has confirmed
}

// Compose writes the recipe. Lines that a person should look at end with a
// remark; what is open stands in a line of its own, in comments.
func (s *Source) Compose(a Archive, known *Known) string {
	c := &composer{}
	c.line("# A draft by Fern Ladder, from the source's own files. Look at the lines with")
	c.line("# remarks; then fernladder check %s", s.Name.Value)
	c.line("format = 1")
	c.line("")
	c.line("[package]")
	c.finding("name   ", s.Name)
	c.finding("summary", s.Summary)
	c.finding("home   ", s.Home)
	c.finding("license", s.License)
	c.line("")
	c.line("[[release]]")
	c.finding("version", s.Version)
	if a.URL == "" {
		c.line("# open: archive = \"https://…\" and sha256 = \"…\", for a folder has neither")
	} else {
		c.line("archive = %s", quote(a.URL))
		c.line("# The digest is of the file as it came; compare it with what its makers publish.")
		c.line("sha256  = %s", quote(a.SHA256))
	}
	for _, o := range s.Options {
		c.option(o)
	}
	c.needs(s.Wishes, known)
	c.line("")
	c.line("[build]")
	c.finding("method", s.Method)
	if s.InTree {
		c.line("in_tree = true   # guessed: this configure script was written by hand")
	}
	for _, r := range s.Remarks {
		if r.Certainty == Open {
			c.line("# open: %s: %s", r.Value, r.From)
		}
	}
	c.steps(s)
	return c.b.String()
}

type composer struct{ b strings.Builder }

func (c *composer) line(format string, args ...any) { fmt.Fprintf(&c.b, format+"\n", args...) }

// finding writes a key, or says that it is open. What must be there and is open
// gets a value that a person recognises.
func (c *composer) finding(key string, f Finding) {
	switch {
	case f.Certainty == Open && strings.TrimSpace(key) == "summary":
		c.line("%s = \"?\"   # open: what it is, in one line", key)
	case f.Certainty == Open && f.Value == "":
		c.line("# open: %s = \"…\"%s", strings.TrimSpace(key), from(f))
	case f.Certainty == Certain:
		c.line("%s = %s", key, quote(f.Value))
	default:
		c.line("%s = %s   # %s%s", key, quote(f.Value), f.Certainty, from(f))
	}
}

func from(f Finding) string {
	if f.From == "" {
		return ""
	}
	return ", " + f.From
}

func (c *composer) option(o Option) {
	c.line("")
	c.line("[option.%s]", o.Name)
	about := o.About
	if about == "" {
		about = o.Name
	}
	c.line("about   = %s", quote(about))
	if o.Values == nil {
		c.line("default = %t", o.Default == "on")
		c.arguments("on     ", o.On)
		c.arguments("off    ", o.Off)
		return
	}
	c.line("default = %s", quote(o.Default))
	values := make([]string, len(o.Order))
	for i, v := range o.Order {
		values[i] = fmt.Sprintf("%s = %s", quote(v), list(o.Values[v]))
	}
	c.line("values  = { %s }", strings.Join(values, ", "))
}

func (c *composer) arguments(key string, args []string) {
	if len(args) > 0 {
		c.line("%s = %s", key, list(args))
	}
}

// needs writes the needs that a recipe on a shelf fulfils, optional ones in
// comments, and lists what the system or a recipe to come has to have.
func (c *composer) needs(wishes []Wish, known *Known) {
	var others []string
	done := map[string]bool{}
	for _, w := range wishes {
		name, sure, found := known.Find(w)
		if !found {
			others = append(others, fmt.Sprintf("#   %s %s %s (%s, %s)", w.Kind, w.Name, w.Version, map[bool]string{true: "required", false: "optional"}[w.Required], w.From))
			continue
		}
		if done[name] {
			continue
		}
		done[name] = true
		mark, remark := "", ""
		if !w.Required {
			mark = "# "
		}
		if !sure {
			remark = fmt.Sprintf("   # guessed by its name, for %s %s", w.Kind, w.Name)
		}
		role := recipe.Library
		if w.Kind == "program" {
			role = recipe.Tool
		}
		c.line("")
		if !w.Required {
			c.line("# %s can do without this; take the marks away to build with it", w.From)
		}
		c.line("%s[[need]]", mark)
		c.line("%srecipe = %s%s", mark, quote(name), remark)
		if w.Version != "" {
			c.line("%sversion = %s", mark, quote(w.Version))
		}
		c.line("%srole   = %s", mark, quote(string(role)))
	}
	if len(others) > 0 {
		c.line("")
		c.line("# The source also looks for these, which no recipe on the shelves has. What is")
		c.line("# required must come from the system or from a recipe to be written.")
		for _, o := range others {
			c.line("%s", o)
		}
	}
}

func (c *composer) steps(s *Source) {
	if s.Prepare != "" {
		c.line("")
		c.line("[steps]")
		c.line("# guessed: there is no configure script\nbefore_configure = '''\n%s\n'''", s.Prepare)
	}
	if s.Method.Value == string(recipe.Script) {
		c.line("")
		c.line("[steps]")
		c.line("# open: how it is built\ncompile = '''\nfalse\n'''")
		c.line("# open: how its files come below $DESTDIR$FL_PREFIX\nplace = '''\nfalse\n'''")
	}
}

func list(args []string) string {
	quotes := make([]string, len(args))
	for i, a := range args {
		quotes[i] = quote(a)
	}
	return "[" + strings.Join(quotes, ", ") + "]"
}

// quote writes a text as a TOML string. Texts from sources may hold anything;
// what does not belong in a line of a recipe is left out.
func quote(text string) string {
	const longest = 200
	text = strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f || c == 0xfeff {
			return -1
		}
		return c
	}, strings.Join(strings.Fields(text), " "))
	if len(text) > longest {
		text = strings.ToValidUTF8(text[:longest], "")
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}
