package diagnose

import (
	"regexp"
	"slices"
	"strings"
)

// Build files also say in words of their own what is missing. What such words
// name is only likely the cause, unless something has been looked for under that
// name before.

// conclude finds out what a message says is missing, given what was looked for
// before it and not found, the last one first. The first line of a message says
// more than those after it.
func conclude(c *Cause, text string, failed []check) bool {
	c.Without = without(text)
	first, _, _ := strings.Cut(strings.TrimLeft(text, "\n *"), "\n")
	return c.named(first, failed) || c.named(text, failed) || c.nearest(failed)
}

// named looks for what is missing in a text.
func (c *Cause) named(text string, failed []check) bool {
	named := map[string]string{}
	for _, word := range words.FindAllString(text, -1) {
		named[plain(word)] = word
	}
	for _, as := range []func(check) string{check.plain, check.family, check.stem, check.unnumbered} {
		for _, f := range failed {
			word, is := named[as(f)]
			kind := f.kindIn(text)
			if !is || c.Kind != Unknown && c.Kind != kind {
				continue
			}
			name := f.name
			if strings.HasSuffix(name, "-config") && !strings.HasSuffix(word, "-config") { // which tells of it
				kind, name = Missing, strings.TrimRight(word, ".-+")
			}
			said := strings.TrimRight(word, ".-+")
			if kind == MissingProgram && strings.HasPrefix(strings.ToLower(said), "lib") {
				kind = Missing
			}
			if kind == Missing && plain(said) == f.plain() && !f.warned {
				name = said
			} else if kind == Missing && strings.ToUpper(name) == name { // what its variables are called
				name = strings.ToLower(name)
			}
			c.Kind, c.Range = kind, f.rang
			if !slices.Contains(c.Names, name) {
				c.Names = append([]string{name}, c.Names...)
			}
			if kind != MissingProgram { // one thing is looked for in several ways; of several programs, one will do
				return true
			}
		}
		if len(c.Names) > 0 {
			return true
		}
	}
	if c.worded(text, false) {
		return true
	}
	for _, f := range failed {
		if f.last && slices.Contains([]Kind{MissingHeader, MissingLibrary, MissingModule, MissingPerl}, f.kind) {
			return c.nearest(failed)
		}
	}
	if c.worded(text, true) {
		return true
	}
	for _, word := range words.FindAllString(text, -1) {
		if library := libraryOf(word); library != "" {
			c.Kind, c.Names, c.Likely = MissingLibrary, []string{library}, true
			return true
		}
	}
	return false
}

// worded looks for one of the ways to say that something is missing: of the kinds
// of things, or else of those that only have a name.
func (c *Cause) worded(text string, anything bool) bool {
	for _, w := range wordings {
		if (w.kind == Missing) != anything {
			continue
		}
		for _, match := range w.pattern.FindAllStringSubmatch(text, -1) {
			name := strings.TrimRight(match[1], ".-_+")
			if len(name) < 2 || slices.Contains(commonWords, strings.ToLower(name)) || name == "pkg-config" && !pkgConfigItself.MatchString(text) {
				continue
			}
			c.Kind, c.Names, c.Likely = w.kind, []string{name}, true
			if w.kind == MissingHeader && !strings.Contains(name, ".") {
				c.Names[0] += ".h"
			}
			if library := libraryOf(name); library != "" && anything {
				c.Kind, c.Names[0] = MissingLibrary, library
			}
			if len(match) > 2 {
				c.Range = strings.TrimSpace(match[2])
			}
			return true
		}
	}
	return false
}

// pkgConfigItself matches what says that pkg-config is missing; other messages
// only give it as a way to look for something else.
var pkgConfigItself = re(`pkg-config\S* (?:\S+ )?(?:is |was |could )?(?:not |missing|required|needed)`)

// near is how many answers before a message can be what it is about.
const near = 8

// nearest takes what was looked for last, where nothing says that it is what is
// missing. Of libraries that were looked for one after the other, one will do.
func (c *Cause) nearest(failed []check) bool {
	for _, f := range failed[:min(len(failed), near)] {
		switch {
		case c.Kind == Unknown && f.warned:
			c.Kind, c.Names, c.Likely = Missing, []string{f.name}, true
		case c.Kind == Unknown && f.kind == functionCheck && libraryOf(f.name) != "":
			c.Kind, c.Names, c.Likely = MissingLibrary, []string{libraryOf(f.name)}, true
		case c.Kind == Unknown && slices.Contains([]Kind{MissingHeader, MissingLibrary, MissingModule, MissingPerl}, f.kind):
			c.Kind, c.Names, c.Range, c.Likely = f.kind, []string{f.name}, f.rang, true
		case c.Kind == MissingLibrary && f.kind == MissingLibrary:
			if !slices.Contains(c.Names, f.name) {
				c.Names = append([]string{f.name}, c.Names...)
			}
		case c.Kind != Unknown:
			return true
		}
	}
	return true
}

// words are what names can be in a message. An option is one word.
var words = re(`-{0,2}[A-Za-z][\w.+/:-]*`)

// apartVersion is a version at the end of a name, as in leaf-2.0.
var apartVersion = re(`-[\d.]+$`)

// plain is a name as it is compared: lib, -l, -config, a version that stands apart,
// and capitals make no difference.
func plain(name string) string {
	name = strings.ToLower(strings.TrimRight(name, ".,:-+"))
	name = strings.TrimSuffix(apartVersion.ReplaceAllString(name, ""), "-config")
	return strings.TrimPrefix(strings.TrimPrefix(name, "-l"), "lib")
}

// plain is the name of what was looked for, as it is compared.
func (f check) plain() string {
	if f.kind == MissingLibrary && f.name == "z" {
		return "zlib" // as everybody calls it
	}
	return plain(f.name)
}

// family is what a header is called after: its directory, or its own name.
func (f check) family() string {
	dir, _, _ := strings.Cut(f.name, "/")
	return plain(strings.TrimSuffix(dir, ".h"))
}

// unnumbered is the name without a version at its end.
func (f check) unnumbered() string { return strings.TrimRight(f.plain(), "0123456789.-") }

// stem is the name of a header without its directory.
func (f check) stem() string {
	if f.kind != MissingHeader {
		return plain(f.name)
	}
	return plain(strings.TrimSuffix(f.name[strings.LastIndexByte(f.name, '/')+1:], ".h"))
}

// kindIn says what was looked for under a mere name, by the words around it in a
// message. Programs are what configure scripts look for most.
func (f check) kindIn(text string) Kind {
	switch {
	case f.kind == functionCheck:
		return Unknown
	case f.kind != Missing:
		return f.kind
	case strings.HasPrefix(f.name, "lib") && !strings.HasSuffix(f.name, "-config"),
		regexp.MustCompile(`(?i)librar|header|support|-dev\b|-devel\b`).MatchString(text) && !strings.HasSuffix(f.name, "-config"),
		strings.ToLower(f.name) != f.name: // as programs are not called
		return Missing
	}
	return MissingProgram
}

// A thing that is named in one of these ways is missing. The first group is its
// name, the second, where there is one, the versions that will do.
var wordings = []struct {
	kind    Kind
	pattern *regexp.Regexp
}{
	{MissingModule, re(`([\w.+-]+?)(?: *([<>=]+ *[\d.]+))? not found using pkg-config`)},
	{Missing, re(`(?i)(?:not be found|not found|missing) for ([a-z][\w.+-]*)`)},
	{Missing, re(`(?i)\bmake sure (?:that )?(?:you have )?(?:the )?([a-z][\w.+-]*)`)},
	{Missing, re(`(?i)\byou(?:'ll| will)? need (?:to |have |install |the |an? |either )*["'‘` + "`" + `]?([a-z][\w.+-]*)`)},
	{Missing, re(`(?:library|package|program) (?:called|named) ["'‘` + "`" + `]([\w.+-]+)`)},
	{MissingHeader, re(`link test program to (Python)`)}, // as everybody writes it who looks for Python.h
	{MissingHeader, re(`([\w+-]+(?:/[\w+.-]+)*\.h(?:pp|h)?)\b`)},
	{MissingPython, re(`(?i)\bpython[\d.]* (?:is missing )?(?:modules?:?|packages?:?)? *["'‘` + "`" + `]?([\w.-]+)["'’` + "`" + `]? (?:is )?(?:missing|module|required|not found)`)},
	{MissingPython, re(`(?i)\bpython[\d.]* is missing modules: ([\w.-]+)`)},
	{MissingPython, re(`(?i)\bpython[\d.]* .*?\b([a-z][\w.-]*) module (>= ?[\d.]+)?`)},
	{MissingPerl, re(`\b(\w+(?:::\w+)+)\b`)},
	{MissingLibrary, re(`(?:^|[\s(])-l(\w[\w+.-]*)`)},
	{MissingProgram, re(`\b([\w.+-]+-config)\b`)},
	{MissingProgram, re(`(?i)(?:program|command|executable|utility) ["'‘` + "`" + `]?([a-z][\w.+-]*)["'’` + "`" + `]? (?:is |was |could )?(?:not|missing|required|needed)`)},
	{MissingProgram, re(`(?i)["'‘` + "`" + `]?\b([a-z][\w.+-]*)["'’` + "`" + `]? (?:program|command|executable|compiler|interpreter|assembler|binary|tool) (?:is |was |could |must |needs |\w+ )*(?:not|missing|required|needed|found|installed)`)},
	{Missing, re(`(?i)\b(?:could not|couldn't|cannot|can't|can not|unable to|failed to|did not|didn't) (?:find|locate|detect|link)(?: an?y?| the| your| working| usable| suitable| with| installed)* ["'‘` + "`" + `]?([a-z][\w.+-]*)["'’` + "`" + `]?(?: *(>=? ?[\d.]+))?`)},
	{Missing, re(`(?i)\bno (?:usable |suitable |working )?([a-z][\w.+-]*)(?: [\w+-]+){0,3} (?:found|available|installed)`)},
	{Missing, re(`(?i)["'‘` + "`" + `]?\b([a-z][\w.+-]*)["'’` + "`" + `]?(?: *(>=? ?[\d.]+))?(?: (?:lib|library|libraries|headers?|development|files?|packages?|scripts?|tools?|utilit(?:y|ies)|programs?|support|configuration|or|newer|later|and|is|was|are|were|not|be|could|must|version|[\d.]+))* (?:not found|found|missing|required|needed|not installed|installed|not available|unavailable|not present)`)},
	{Missing, re(`\b(?:[Rr]equires?|[Nn]eeds?|[Mm]issing|[Ii]nstall|need|[Dd]epends on)(?: an?y?| the| working| usable| suitable| to install| have)* ["'‘` + "`" + `]?([A-Za-z][\w.+-]*)["'’` + "`" + `]?(?: *(>=? ?[\d.]+))?`)},
	{Missing, re(`(?i)\b([a-z][\w+-]*) librar(?:y|ies)\b`)},
}

// commonWords are in such messages, and are no names.
var commonWords = strings.Fields(`
the a an any it its this that these those you your some all either neither both one more required missing needed found installed available support
system version versions package packages library libraries lib libs header headers file files directory dir path prefix option options program command module modules
development devel dev working usable suitable recent newer older later least and or not no if for with without to in of on at as by be is are was were has have must should
please sure install installed use using used try set see get build building built compile compiler configure source sources software function functions test tests type types
error fatal sorry again also only then there here where which when both correct properly first latest can could cannot will would does do done least
http https www found. needs need want wants requires require enable enabled disable disabled following either/or problem encountered dependency dependencies backend terminal crypto cryptographic regular expression
them this necessary scripts configuration find locate detect before above below messages consult running again following programs tools information details more c c++ posix unix linux windows ansi iso gnu`)

var (
	useWithout = re(`(?:--(?:without|disable)-[\w-]+|-D[\w.:-]+=(?i:off|false|disabled|no|0))`)
	doWithout  = re(`--(?:without|disable)-[\w-]+(?:=\w+)?|--with-[\w-]+=no|--enable-[\w-]+=no`)
)

// without returns the argument by which a message says that the source is built
// without what is missing, or "".
func without(text string) string {
	if option := useWithout.FindString(text); option != "" {
		return option
	}
	return doWithout.FindString(text)
}

// libraryOf returns the library that is known for a function, or "".
func libraryOf(function string) string {
	for _, f := range functions {
		// What has a capital or ends with a line is how all functions of a library begin.
		begins := f.begins != strings.ToLower(f.begins) || strings.HasSuffix(f.begins, "_")
		if function == f.begins || begins && strings.HasPrefix(function, f.begins) {
			return f.library
		}
	}
	return ""
}

// functions are what libraries of many systems are looked for by.
var functions = []struct{ begins, library string }{
	{"tgetent", "tinfo"}, {"tgetnum", "tinfo"}, {"tputs", "tinfo"}, {"tigetstr", "tinfo"}, {"tigetflag", "tinfo"}, {"setupterm", "tinfo"}, {"tparm", "tinfo"},
	{"initscr", "ncurses"}, {"newwin", "ncurses"}, {"readline", "readline"}, {"add_history", "readline"}, {"crypt", "crypt"},
	{"inflate", "z"}, {"deflate", "z"}, {"gzopen", "z"}, {"zlibVersion", "z"}, {"compress2", "z"}, {"crc32", "z"},
	{"SSL_", "ssl"}, {"TLS_", "ssl"}, {"EVP_", "crypto"}, {"MD5_", "crypto"}, {"SHA1_", "crypto"}, {"SHA256_", "crypto"}, {"RAND_", "crypto"}, {"BN_", "crypto"},
	{"XML_Parser", "expat"}, {"curl_", "curl"}, {"png_", "png"}, {"jpeg_", "jpeg"}, {"TIFF", "tiff"}, {"sqlite3_", "sqlite3"}, {"event_", "event"},
	{"pcre2_", "pcre2-8"}, {"pcre_", "pcre"}, {"pcap_", "pcap"}, {"gdbm_", "gdbm"}, {"db_create", "db"}, {"ldap_", "ldap"}, {"pam_", "pam"}, {"cap_", "cap"},
	{"getfilecon", "selinux"}, {"is_selinux_enabled", "selinux"}, {"uuid_generate", "uuid"}, {"BZ2_", "bz2"}, {"lzma_", "lzma"}, {"ZSTD_", "zstd"}, {"LZ4_", "lz4"},
	{"XOpenDisplay", "X11"}, {"XCreate", "X11"}, {"glX", "GL"}, {"snd_", "asound"}, {"ares_", "cares"}, {"idn2_", "idn2"}, {"gnutls_", "gnutls"}, {"gcry_", "gcrypt"},
	{"__gmpz_", "gmp"}, {"mpz_", "gmp"}, {"mpfr_", "mpfr"}, {"archive_", "archive"}, {"libusb_", "usb-1.0"}, {"usb_", "usb"}, {"yaml_", "yaml"}, {"acl_", "acl"},
	{"hosts_access", "wrap"}, {"FT_", "freetype"}, {"FcInit", "fontconfig"}, {"io_uring_", "uring"}, {"seccomp_", "seccomp"}, {"krb5_", "krb5"}, {"gss_", "gssapi_krb5"},
}
