package diagnose

import (
	"strings"

	"fernladder/core/pattern"
)

// words are texts that may be names in a message. An option is one word.
var words = re(`-{0,2}[A-Za-z][\w.+/:-]*`)

// Phrases for a missing thing. The first group is its name, the second, if there is one, the
// acceptable versions.
var wordings = []struct {
	kind    Kind
	pattern *pattern.Pattern
}{
	{Missing, re(`\b(?:but|and|with|has|have|there is|found) no ([A-Za-z][\w.+-]*) support\b`)},
	{MissingModule, re(`([\w.+-]+?)(?: *([<>=]+ *[\d.]+))? not found using pkg-config`)},
	{Missing, re(`(?i)(?:not be found|not found|missing) for ([a-z][\w.+-]*)`)},
	{Missing, re(`(?i)\bmake sure (?:that )?(?:you have )?(?:the )?([a-z][\w.+-]*)`)},
	{Missing, re(`(?i)\byou(?:'ll| will)? need (?:to |have |install |the |an? |either )*` + open + `([a-z][\w.+-]*)`)},
	{Missing,
		re(`(?i)development (?:files|headers|libraries|packages?)(?: and \w+)? (?:for|of) (?:(?:any|the|supported` +
			`|installed|versions?|of|a) )*([a-z][\w.+-]*)`)},
	{Missing, re(`(?:library|package|program) (?:called|named) ` + open + `([\w.+-]+)`)},
	{MissingHeader, re(`link test program to (Python)`)}, // the usual spelling of a look-up for Python.h
	{MissingHeader, re(`([\w+-]+(?:/[\w+.-]+)*\.h(?:pp|h)?)\b`)},
	{MissingPython, re(`(?i)\bpython[\d.]* (?:is missing )?(?:modules?:?|packages?:?)? *` + open + `([\w.-]+)` + close +
		` (?:is )?(?:missing|module|required|not found)`)},
	{MissingPython, re(`(?i)\bpython[\d.]* is missing modules: ([\w.-]+)`)},
	{MissingPython, re(`(?i)\bpython[\d.]* .*?\b([a-z][\w.-]*) module (>= ?[\d.]+)?`)},
	{MissingPerl, re(`\b(\w+(?:::\w+)+)\b`)},
	{MissingLibrary, re(`(?:^|[\s(])-l(\w[\w+.-]*)`)},
	{MissingProgram, re(`\b([\w.+-]+-config)\b`)},
	{MissingProgram, re(`(?i)(?:program|command|executable|utility) ` + open + `([a-z][\w.+-]*)` + close +
		` (?:is |was |could )?(?:not|missing|required|needed)`)},
	{MissingProgram,
		re(`(?i)` + open + `\b([a-z][\w.+-]*)` + close +
			` (?:program|command|executable|compiler|interpreter|assembler|binary|tool) (?:is |was |could |must |needs ` +
			`|\w+ )*(?:not|missing|required|needed|found|installed)`)},
	{Missing,
		re(`(?i)\b(?:could not|couldn't|cannot|can't|can not|unable to|failed to|did not|didn't) (?:find|locate|detect` +
			`|link)(?: an?y?| the| your| working| usable| suitable| with| against| installed)* ` + open + `([a-z][\w.+-]*)` +
			close + `(?: *(>=? ?[\d.]+))?`)},
	{Missing,
		re(`(?i)\bno (?:usable |suitable |working )?([a-z][\w.+-]*)(?: [\w+-]+){0,3} (?:found|available|installed)`)},
	{Missing,
		re(`(?i)` + open + `\b([a-z][\w.+-]*)` + close +
			`(?: *(>=? ?[\d.]+))?(?: (?:lib|library|libraries|headers?|development|files?|packages?|scripts?|tools?` +
			`|utilit(?:y|ies)|programs?|support|configuration|or|newer|later|and|is|was|are|were|not|be|could|must|version` +
			`|[\d.]+))* (?:not found|found|missing|required|needed|not installed|installed|not available|unavailable` +
			`|not present)`)},
	{Missing,
		re(`\b(?:[Rr]equires?|[Nn]eeds?|[Mm]issing|[Ii]nstall|need|[Dd]epends on)(?: an?y?| the| working| usable` +
			`| suitable| to install| have)* ` + open + `([A-Za-z][\w.+-]*)` + close + `(?: *(>=? ?[\d.]+))?`)},
	{Missing, re(`(?i)\b([a-z][\w+-]*) librar(?:y|ies)\b`)},
}

// commonWords occur in such messages, and are not names.
var commonWords = strings.Fields(`
	the a an any it its this that these those you your some all either neither both one more required missing needed
	found installed available support system version versions package packages library libraries lib libs header
	headers file files directory dir path prefix option options program command module modules development devel dev
	working usable suitable recent newer older later least and or not no if for with without to in of on at as by be
	is are was were has have must should please sure install installed use using used try set see get build building
	built compile compiler configure source sources software function functions test tests type types error fatal
	sorry again also only then there here where which when both correct properly first latest can could cannot will
	would does do done least http https www found. needs need want wants requires require enable enabled disable
	disabled following either/or problem encountered dependency dependencies backend terminal crypto cryptographic
	regular expression them this necessary scripts configuration find locate detect before above below messages
	consult running again following programs tools information details more c c++ posix unix linux windows ansi iso
	gnu`)

var (
	useWithout = re(`--with-[\w-]+=(?:builtin|internal|bundled|included|embedded|vendored|local)\b|(?:--(?:without` +
		`|disable)-[\w-]+|-D ?[\w.:-]+=(?i:off|false|disabled|no|0))`)
	doWithout = re(`--(?:without|disable)-[\w-]+(?:=\w+)?|--with-[\w-]+=no|--enable-[\w-]+=no`)
)

// asking match the argument that a message asks for, or reports as absent.
var asking = []*pattern.Pattern{
	re(`(--(?:enable|with)-[\w-]+|-D ?\w+=(?:ON|TRUE|YES|1|on|true|yes)) (?:is|was|has) not (?:been )?(?:specified` +
		`|given|set|enabled|used)`),
	re(`(?i)\b(?:pass|passing|use|using|add|adding|specify|give|giving|try|set|setting|with|need|requires?` +
		`|configure) (?:the )?(?:option |flag |argument |switch |cmake )?` + open +
		`(--enable-[\w-]+(?:=yes)?|--with-(?:internal|bundled|included|builtin|system)-[\w-]+|-D ?\w+=(?:ON|TRUE|YES|1` +
		`|true))`),
}

// asksFor is the argument that a message asks for, or "".
func asksFor(text string) string {
	for _, p := range asking {
		if match := p.FindStringSubmatch(text); match != nil {
			return strings.Replace(match[1], "-D ", "-D", 1)
		}
	}
	return ""
}

// without returns the argument with which, according to a message, the source is built without
// the missing thing, or "".
func without(text string) string {
	for _, p := range []*pattern.Pattern{useWithout, doWithout} {
		if option := p.FindString(text); option != "" && !strings.Contains(option, "pip-version") {
			return strings.Replace(option, "-D ", "-D", 1)
		}
	}
	return ""
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
	{"pow", "m"}, {"sqrt", "m"}, {"sin", "m"}, {"cos", "m"}, {"tan", "m"}, {"exp", "m"}, {"log", "m"}, {"log10", "m"},
	{"floor", "m"}, {"ceil", "m"}, {"fmod", "m"}, {"atan2", "m"}, {"round", "m"}, {"lround", "m"}, {"hypot", "m"},
	{"pthread_", "pthread"}, {"sem_", "pthread"}, {"dlopen", "dl"}, {"dlsym", "dl"}, {"shm_open", "rt"},
	{"timer_create", "rt"}, {"clock_gettime", "rt"},
	{"tgetent", "tinfo"}, {"tgetnum", "tinfo"}, {"tputs", "tinfo"}, {"tigetstr", "tinfo"}, {"tigetflag", "tinfo"},
	{"setupterm", "tinfo"}, {"tparm", "tinfo"},
	{"initscr", "ncurses"}, {"newwin", "ncurses"}, {"readline", "readline"}, {"add_history", "readline"},
	{"crypt", "crypt"},
	{"inflate", "z"}, {"deflate", "z"}, {"gzopen", "z"}, {"zlibVersion", "z"}, {"compress2", "z"}, {"crc32", "z"},
	{"SSL_", "ssl"}, {"TLS_", "ssl"}, {"EVP_", "crypto"}, {"MD5_", "crypto"}, {"SHA1_", "crypto"}, {"SHA256_", "crypto"},
	{"RAND_", "crypto"}, {"BN_", "crypto"},
	{"XML_Parser", "expat"}, {"curl_", "curl"}, {"png_", "png"}, {"jpeg_", "jpeg"}, {"TIFF", "tiff"},
	{"sqlite3_", "sqlite3"}, {"event_", "event"},
	{"pcre2_", "pcre2-8"}, {"pcre_", "pcre"}, {"pcap_", "pcap"}, {"gdbm_", "gdbm"}, {"db_create", "db"}, {"ldap_", "ldap"},
	{"pam_", "pam"}, {"cap_", "cap"},
	{"getfilecon", "selinux"}, {"is_selinux_enabled", "selinux"}, {"uuid_generate", "uuid"}, {"BZ2_", "bz2"},
	{"lzma_", "lzma"}, {"ZSTD_", "zstd"}, {"LZ4_", "lz4"},
	{"XOpenDisplay", "X11"}, {"XCreate", "X11"}, {"glX", "GL"}, {"snd_", "asound"}, {"ares_", "cares"}, {"idn2_", "idn2"},
	{"gnutls_", "gnutls"}, {"gcry_", "gcrypt"},
	{"__gmpz_", "gmp"}, {"mpz_", "gmp"}, {"mpfr_", "mpfr"}, {"archive_", "archive"}, {"libusb_", "usb-1.0"},
	{"usb_", "usb"}, {"yaml_", "yaml"}, {"acl_", "acl"},
	{"hosts_access", "wrap"}, {"FT_", "freetype"}, {"FcInit", "fontconfig"}, {"io_uring_", "uring"},
	{"seccomp_", "seccomp"}, {"krb5_", "krb5"}, {"gss_", "gssapi_krb5"},
}
