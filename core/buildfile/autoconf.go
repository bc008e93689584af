package buildfile

import (
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/version"
)

// Autoconf reads the source of a configure script, with the package's own macros that it calls.
// macros are the files that may define them.
func Autoconf(file, text string, macros []string) *Reading {
	a := &autoconf{file: file, r: &Reading{}}
	a.define(macros)
	a.text = a.expand(uncommentedM4(text), 0)
	a.switches()
	a.spans = shellSpans(a.text)
	a.lookups()
	a.errors()
	a.r.CXX = cxxMacro.MatchString(a.text)
	a.r.Modules = a.r.Modules || pkgMacro.MatchString(a.text)
	a.r.join()
	return a.r
}

// most is more than any real build file has of anything.
const most = 20_000

var (
	cxxMacro  = pattern.New(`\b(?:AC_PROG_CXX|AC_LANG_CPLUSPLUS|AC_LANG\(\s*\[?C\+\+|AX_CXX_COMPILE_STDCXX\w*)`)
	pkgMacro  = pattern.New(`\b(?:PKG_CHECK_\w+|PKG_PROG_PKG_CONFIG)\b`)
	m4Comment = pattern.New(`(?m)(^|[ \t])(?:dnl\b|#(?:[ \t!]|$)).*$`)
)

func uncommentedM4(text string) string { return m4Comment.ReplaceAllString(text, "$1") }

type autoconf struct {
	file     string
	text     string
	bodies   map[string]string // of macros
	expanded int               // bytes searched for macros
	spans    []span
	given    []span // of switches, with their names as conditions
	r        *Reading
}

var (
	defun   = pattern.New(`(?:AC_DEFUN|AC_DEFUN_ONCE|AU_DEFUN|m4_define)\(\s*\[?(\w+)\]?\s*,`)
	callPat = pattern.New(`\b[A-Z][A-Za-z0-9]*_\w+`)
)

// define reads definitions of macros, except for those that many packages share: these look for
// properties of the system.
func (a *autoconf) define(macros []string) {
	a.bodies = map[string]string{}
	for _, text := range macros {
		if strings.Contains(text, "Free Software Foundation") || strings.Contains(text, "autoconf-archive") ||
			strings.Contains(text, "PKG_CHECK_MODULES(VARIABLE-PREFIX") {
			continue
		}
		text = uncommentedM4(text)
		for _, at := range defun.Compiled().FindAllStringSubmatchIndex(text, most) {
			args, _ := m4Arguments(text, at[1])
			if len(args) > 0 {
				a.bodies[text[at[2]:at[3]]] = args[0]
			}
		}
	}
}

// expand replaces calls of macros by their bodies.
func (a *autoconf) expand(text string, depth int) string {
	const deepest, longest = 4, 4 << 20
	if depth == deepest || len(a.bodies) == 0 || a.expanded > longest {
		return text
	}
	a.expanded += len(text)
	var b strings.Builder
	last := 0
	for _, at := range callPat.Compiled().FindAllStringIndex(text, most) {
		body, known := a.bodies[text[at[0]:at[1]]]
		if !known || pathMacro.MatchString(text[at[0]:at[1]]) || at[0] < last || a.expanded > longest {
			continue
		}
		end := at[1]
		if end < len(text) && text[end] == '(' {
			var args []string
			args, end = m4Arguments(text, end+1)
			for i, arg := range args {
				body = strings.ReplaceAll(body, "$"+string(rune('1'+i)), arg)
				if i == 8 {
					break
				}
			}
		}
		b.WriteString(text[last:at[0]])
		b.WriteString(a.expand(body, depth+1))
		last = end
	}
	b.WriteString(text[last:])
	return b.String()
}

// m4Arguments are the arguments of a macro after its parenthesis, each without its outermost
// quotes, and where it ends.
func m4Arguments(text string, at int) (args []string, end int) {
	const longest = 32 << 10
	brackets, parens, from := 0, 0, at
	take := func(to int) { args = append(args, unquoted(text[from:to])) }
	for i := at; i < len(text) && i < at+longest; i++ {
		switch text[i] {
		case '[':
			brackets++
		case ']':
			brackets = max(0, brackets-1)
		case '(':
			if brackets == 0 {
				parens++
			}
		case ')':
			if brackets > 0 {
				continue
			}
			if parens == 0 {
				take(i)
				return args, i + 1
			}
			parens--
		case ',':
			if brackets == 0 && parens == 0 {
				take(i)
				from = i + 1
			}
		}
	}
	return nil, at
}

func unquoted(arg string) string {
	arg = strings.TrimSpace(arg)
	if strings.HasPrefix(arg, "[") && strings.HasSuffix(arg, "]") {
		return arg[1 : len(arg)-1]
	}
	return arg
}

var (
	acArgument = pattern.New(`\bA[CS]_ARG_(ENABLE|WITH)\(`)
	acHelp     = pattern.New(`(?s)--(enable|disable|with|without)-([\w+.@-]+)(\[?=(?:[{(<][^})>\n]*[})>]` +
		`|[^\]\s,)]+)\]?)?[\]\s]*(?:,\s*|\s)(.*)$`)
	assigned  = pattern.New(`\b([A-Za-z_]\w*)=`)
	setsState = pattern.New(`=\s*["']?(yes|no|auto|check|maybe|try|probe|detect|default|autodetect|enabled|disabled` +
		`|true|false|on|off|ifavailable|ifpresent|guess|unset|unspecified|optional)\b["']?`)
)

func underscored(name string) string {
	return strings.NewReplacer("-", "_", ".", "_", "+", "_").Replace(name)
}

// saysState matches how a script reports its decision.
var saysState = pattern.New(`\bAC_MSG_RESULT\(\s*\[*(yes|no|enabled|disabled|auto)\b`)

// bothSides reports whether a help text has one line for a switch being on, and one for it being
// off.
func bothSides(help, name string) bool {
	on := strings.Contains(help, "--enable-"+name) || strings.Contains(help, "--with-"+name)
	off := strings.Contains(help, "--disable-"+name) || strings.Contains(help, "--without-"+name)
	return on && off
}

// placed matches placeholders for the place in which something is looked for.
var placed = pattern.New(`(?i)^\[?=?\[?=?(DIR|PATH|PREFIX|PFX|DIRECTORY|ROOT|LOCATION|path|dir|/path)`)

// states are words for states.
var states = map[string]State{"yes": On, "enabled": On, "true": On, "on": On, "no": Off, "disabled": Off, "false": Off,
	"off":  Off,
	"auto": Auto, "check": Auto, "maybe": Auto, "try": Auto, "probe": Auto, "detect": Auto, "default": Auto,
	"autodetect": Auto, "ifavailable": Auto, "ifpresent": Auto, "guess": Auto, "unset": Auto, "unspecified": Auto,
	"optional": Auto}

// switches reads the switches.
func (a *autoconf) switches() {
	for _, at := range acArgument.Compiled().FindAllStringSubmatchIndex(a.text, most) {
		args, end := m4Arguments(a.text, at[1])
		if len(args) == 0 || args[0] == "" || strings.ContainsAny(args[0], "$ \n") {
			continue
		}
		how, name, value, text := strings.ToLower(a.text[at[2]:at[3]]), args[0], "", ""
		arg := func(i int) string {
			if i < len(args) {
				return args[i]
			}
			return ""
		}
		if help := acHelp.FindStringSubmatch(arg(1)); help != nil {
			how, value, text = help[1], help[3], strings.Join(strings.Fields(help[4]), " ")
			if i := strings.Index(text, "])"); i >= 0 { // another macro, or the next line of the help, follows
				text = text[:i]
			}
			text = strings.TrimLeft(text, "[]() ")
			for strings.HasSuffix(text, "]") && !strings.Contains(text, "[") ||
				strings.HasSuffix(text, ")") && !strings.Contains(text, "(") { // the end of a macro
				text = strings.TrimRight(text[:len(text)-1], " ")
			}
			if underscored(help[2]) == underscored(name) { // which is the same to the script
				name = help[2]
			}
		}
		s, ok := newSwitch(how, name, value, text)
		if !ok && (how == "with" || how == "without") && placed.MatchString(value) { // the place of its subject
			s.maybe, s.Default = true, Auto
			ok = true
		}
		if !ok {
			a.r.Settings = append(a.r.Settings, newSetting("--"+positive[how]+"-"+name, name, value, text))
			continue
		}
		if s.Name == "" {
			continue
		}
		if s.Values == nil {
			if m := saysState.FindStringSubmatch(arg(3)); m != nil {
				s.Default = states[m[1]]
			} else if bothSides(arg(1), name) { // and does not say which of them it is
				s.Default = Auto
			}
			s.Default = stateSet(arg(3), s.Default)
		}
		prefix := map[string]string{"ENABLE": "enable_", "WITH": "with_"}[a.text[at[2]:at[3]]]
		s.vars = []string{prefix + underscored(name)}
		for _, m := range assigned.FindAllStringSubmatch(arg(2)+" "+arg(3), -1) {
			if !slices.Contains(ofCompilers, m[1]) {
				s.vars = append(s.vars, m[1])
			}
		}
		a.r.Switches = append(a.r.Switches, s)
		a.given = append(a.given, span{at[0], end, s.vars[0]})
	}
	a.r.Switches = distinct(a.r.Switches)
}

// stateSet is the state that a script sets for a switch that was not given. If it can be either,
// it depends.
func stateSet(script string, state State) State {
	for i, m := range setsState.FindAllStringSubmatch(script, -1) {
		if i > 0 && states[m[1]] != state {
			return Auto
		}
		state = states[m[1]]
	}
	return state
}

// distinct keeps the first of each name, sorted by name.
func distinct(switches []Switch) []Switch {
	slices.SortStableFunc(switches, func(a, b Switch) int { return strings.Compare(a.Name, b.Name) })
	return slices.CompactFunc(switches, func(a, b Switch) bool { return a.Name == b.Name })
}

// shellBlocks are how conditions of shell text and of macros begin and end.
var shellBlocks = pattern.New(`(?m)^[ \t]*(?:(if)\b(.*)|(fi)\b.*|(case)\b(.*) in\b.*|(esac)\b.*)$|\b(AS_IF` +
	`|AM_COND_IF|AS_CASE)\(`)

// shellSpans are the parts of a script under a condition.
func shellSpans(text string) []span {
	var spans []span
	type open struct {
		from      int
		condition string
	}
	var stack []open
	for _, at := range shellBlocks.Compiled().FindAllStringSubmatchIndex(text, most) {
		group := func(i int) string {
			if at[2*i] < 0 {
				return ""
			}
			return text[at[2*i]:at[2*i+1]]
		}
		switch {
		case group(7) != "":
			args, end := m4Arguments(text, at[1])
			if len(args) > 0 {
				spans = append(spans, span{at[0], end, args[0]})
			}
		case group(1) != "":
			condition := group(2)
			if strings.HasSuffix(strings.TrimSpace(condition), "fi") { // all of it in one line
				continue
			}
			stack = append(stack, open{at[0], condition})
		case group(4) != "":
			stack = append(stack, open{at[0], group(5)})
		case len(stack) > 0:
			last := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			spans = append(spans, span{last.from, at[1], last.condition})
		}
	}
	return spans
}

// acLookups are the macros that look for something: the kind, and which argument names it;
// missing is the argument for what happens without it, and needs says that without that argument
// it is required.
var acLookups = map[string]struct {
	kind                 string
	name, found, missing int
	needs                bool
}{
	"PKG_CHECK_MODULES": {"module", 1, 2, 3, true}, "PKG_CHECK_MODULES_STATIC": {"module", 1, 2, 3, true},
	"PKG_CHECK_EXISTS": {"module", 0, 1, 2, false},
	"AC_CHECK_LIB":     {"library", 0, 2, 3, false}, "AC_SEARCH_LIBS": {"library", 1, 2, 3, false},
	"AC_LIB_HAVE_LINKFLAGS": {"library", 0, 9, 9, false},
	"AC_CHECK_HEADER":       {"header", 0, 1, 2, false}, "AC_CHECK_HEADERS": {"header", 0, 1, 2, false},
	"AC_PATH_PROG": {"program", 1, 9, 2, false}, "AC_CHECK_PROG": {"program", 1, 9, 3, false},
	"AC_PATH_PROGS": {"program", 1, 9, 2, false}, "AC_CHECK_PROGS": {"program", 1, 9, 2, false},
	"AC_PATH_TOOL": {"program", 1, 9, 2, false}, "AC_CHECK_TOOL": {"program", 1, 9, 2, false},
}

var (
	acLookup = pattern.New(`\b(PKG_CHECK_MODULES(?:_STATIC)?|PKG_CHECK_EXISTS|AC_CHECK_LIB|AC_SEARCH_LIBS` +
		`|AC_LIB_HAVE_LINKFLAGS|AC_CHECK_HEADERS?|AC_(?:PATH|CHECK)_(?:PROGS?|TOOL))\(`)
	pathMacro = pattern.New(`\b(?:AM|XIPH)_PATH_([A-Z][A-Z0-9]*(?:_[A-Z0-9]+)*)\b(\(?)`)
	stops     = pattern.New(`\bAC_MSG_(?:ERROR|FAILURE)\b`)
)

// lookups reads the look-ups.
func (a *autoconf) lookups() {
	add := func(l Lookup, at int, actions string) {
		conditions := append(around(a.given, at), around(a.spans, at)...)
		l.Switch, l.From = a.r.switchOf(conditions), a.file
		if elsewhere(conditions) {
			return
		}
		for _, m := range assigned.FindAllStringSubmatch(actions, -1) {
			if !flags.MatchString(m[1]) {
				l.sets = append(l.sets, m[1])
			}
		}
		if l.Switch == "" && len(conditions) > 0 {
			l.Required = false
			// Whether an alternative was not found yet is no condition of its own.
			l.unsure = slices.ContainsFunc(conditions, func(c string) bool {
				return !notYet.MatchString(c) || !slices.ContainsFunc(l.sets, func(v string) bool { return mentions(c, v) })
			})
		}
		if l.Names = slices.DeleteFunc(l.Names, Ordinary); len(l.Names) > 0 && len(a.r.Lookups) < most/10 {
			a.r.Lookups = append(a.r.Lookups, l)
		}
	}
	for _, at := range acLookup.Compiled().FindAllStringSubmatchIndex(a.text, most) {
		macro := a.text[at[2]:at[3]]
		m := acLookups[macro]
		args, _ := m4Arguments(a.text, at[1])
		arg := func(i int) string {
			if i < len(args) {
				return args[i]
			}
			return ""
		}
		actions, without := arg(m.found)+" "+arg(m.missing), arg(m.missing)
		required := stops.MatchString(without) || m.needs && len(args) <= m.missing
		switch {
		case m.kind == "module":
			a.r.Modules = true
			for _, l := range modules(arg(m.name)) {
				l.Required = required
				add(l, at[0], actions+" have_"+arg(0)+"= "+arg(0)+"_found=")
			}
		case m.kind == "header" && macro == "AC_CHECK_HEADERS":
			for _, name := range strings.Fields(arg(0)) {
				add(Lookup{Kind: m.kind, Names: []string{name}, Required: required}, at[0], actions)
			}
		case m.kind == "program":
			add(Lookup{Kind: m.kind, Names: strings.Fields(arg(m.name)), Required: required}, at[0], arg(0)+"=")
		default:
			add(Lookup{Kind: m.kind, Names: strings.Fields(arg(m.name)), Required: required}, at[0], actions+" ac_cv_lib_"+
				arg(0)+"_"+arg(1)+"= ac_cv_search_"+arg(0)+"=")
		}
	}
	for _, at := range pathMacro.Compiled().FindAllStringSubmatchIndex(a.text, most) {
		name := strings.ToLower(a.text[at[2]:at[3]])
		var args []string
		if at[4] < at[5] {
			args, _ = m4Arguments(a.text, at[5])
		}
		name = dotted.ReplaceAllString(name, "-$1.$2") // glib_2_0
		if name != "python" {
			add(Lookup{Kind: "package", Names: []string{name}, Required: len(args) == 0 ||
				stops.MatchString(strings.Join(args, " "))}, at[0], strings.Join(args, " ")+" HAVE_"+strings.ToUpper(name)+"=")
		}
	}
}

var dotted = pattern.New(`_(\d+)_(\d+)$`)

// notYet matches conditions that ask whether something was not found.
var notYet = pattern.New(`-z |=\s*["']?x?(?:no|none|false)\b|=\s*["']?x["';\])\s]|=\s*["']{2}|!=\s*["']?x?(?:yes` +
	`|true|1)\b|= x$`)

// ofCompilers are variables that a script sets besides the one for its switch.
var ofCompilers = []string{"LIBS", "CFLAGS", "CPPFLAGS", "LDFLAGS", "CXXFLAGS", "ac_default_prefix"}

// flags are variables of compilers, which do not show what was found.
var flags = pattern.New(`^(?:\w*_)?(?:LIBS|LDADD|CFLAGS|CPPFLAGS|LDFLAGS|CXXFLAGS|DEFS|enableval|withval)$`)

// elsewhere reports whether a condition is about another kind of system than this.
func elsewhere(conditions []string) bool {
	return slices.ContainsFunc(conditions, func(c string) bool {
		return otherSystem.MatchString(c) && !strings.Contains(c, "!") && !strings.Contains(c, "linux")
	})
}

var otherSystem = pattern.New(`(?i)mingw|cygwin|darwin|win32|windows|macos|\bos2\b|solaris|\bMSVC\b|\bAPPLE\b` +
	`|\bANDROID\b|\bIOS\b|haiku|beos|\bHPUX\b|freebsd|netbsd|openbsd`)

// errors finds look-ups that are required by a later condition: if test "$found" = no; then
// AC_MSG_ERROR(…). If several set the same variable, one of them is enough; they become one.
func (a *autoconf) errors() {
	stopsAt := stops.Compiled().FindAllStringIndex(a.text, most)
	required := map[string]bool{}
	for _, at := range stopsAt {
		for _, s := range a.spans {
			const near = 300
			if s.from < at[0] && at[0] < s.to && at[0]-s.from < near {
				for _, m := range words.FindAllStringSubmatch(s.condition, -1) {
					required[m[1]] = true
				}
			}
		}
	}
	group := map[string]int{}
	var all []Lookup
	for _, l := range a.r.Lookups {
		key := ""
		for _, v := range l.sets {
			if required[v] && !l.unsure {
				l.Required, key = true, l.Kind[:1]+v
			}
		}
		if i, known := group[key]; key != "" && known && all[i].Kind == l.Kind {
			all[i].Names = append(all[i].Names, l.Names...)
			continue
		}
		if key != "" {
			group[key] = len(all)
		}
		all = append(all, l)
	}
	a.r.Lookups = all
}

var words = pattern.New(`\$\{?(\w+)`)

// modules reads a list of modules, each perhaps with the version it must have: "dewcalc
// >= 1.4 loam".
func modules(text string) []Lookup {
	var all []Lookup
	words := strings.Fields(strings.NewReplacer(",", " ", "[", "", "]", "", `"`, "", ">=", " >= ", "<=", " <= ").
		Replace(text))
	for i := 0; i < len(words); i++ {
		l := Lookup{Kind: "module", Names: []string{words[i]}}
		if i+2 < len(words) {
			switch operator := words[i+1]; operator {
			case ">=", "<=", ">", "<", "=", "==":
				if _, err := version.Parse(words[i+2]); err == nil {
					if operator == "=" {
						operator = "=="
					}
					l.Version = operator + " " + words[i+2]
				}
				i += 2
			}
		}
		if moduleName.MatchString(l.Names[0]) {
			all = append(all, l)
		}
	}
	return all
}

var moduleName = pattern.New(`^[\w+.-]+$`)

// system are what every system with a compiler has.
var system = strings.Fields(`
	m c dl rt pthread pthreads socket nsl resolv util crypt ssp dld execinfo kvm posix4 bsd compat threads iconv
	intl openmp gomp ws2_32 gcc w mvec xnet network net inet pkgconfig pkg-config pkgconf sh bash sed grep egrep awk
	gawk mawk nawk ar ranlib nm strip ld cc gcc c99 cp mv rm ln tar gzip cat file make gmake install mkdir true
	false echo test env sort cmp diff find xargs objcopy objdump strings uname hostname date cut tr lib link cl`)

// Ordinary reports whether a name is of something that every system with a compiler has, or is
// only known when the build runs.
func Ordinary(name string) bool {
	if name == "" || strings.ContainsAny(name, "$@{}()<>|&;*'\"\\") {
		return true
	}
	if strings.HasSuffix(name, ".h") {
		return OfC(name) || systemDirs.MatchString(name) || slices.Contains(headersElsewhere, name)
	}
	return slices.Contains(system, strings.ToLower(name))
}

var systemDirs = pattern.New(`^(sys|linux|net|netinet|arpa|asm|machine|bits|mach|rpc|protocols|netpacket|net80211` +
	`|scsi|rpcsvc|resolv|gnu)/`)

// headersOfC are those of the C library, headersElsewhere those of compilers and of other systems.
var (
	headersOfC = strings.Fields(`
	aio.h aliases.h alloca.h ar.h argp.h argz.h assert.h byteswap.h complex.h cpio.h crypt.h ctype.h dirent.h
	dlfcn.h elf.h endian.h envz.h err.h errno.h error.h execinfo.h fcntl.h features.h fenv.h float.h fmtmsg.h
	fnmatch.h fstab.h fts.h ftw.h gconv.h getopt.h glob.h grp.h gshadow.h iconv.h ifaddrs.h inttypes.h iso646.h
	langinfo.h lastlog.h libgen.h libintl.h limits.h link.h locale.h malloc.h math.h mcheck.h memory.h mntent.h
	monetary.h mqueue.h netdb.h nl_types.h nss.h obstack.h paths.h poll.h printf.h proc_service.h pthread.h pty.h
	pwd.h re_comp.h regex.h regexp.h resolv.h sched.h search.h semaphore.h setjmp.h sgtty.h shadow.h signal.h
	spawn.h stab.h stdalign.h stdarg.h stdatomic.h stdbool.h stdc-predef.h stddef.h stdint.h stdio.h stdio_ext.h
	stdlib.h stdnoreturn.h string.h strings.h syscall.h sysexits.h syslog.h tar.h termio.h termios.h tgmath.h
	thread_db.h threads.h time.h ttyent.h uchar.h ucontext.h ulimit.h unistd.h utime.h utmp.h utmpx.h values.h
	version.h wait.h wchar.h wctype.h wordexp.h`)
	headersElsewhere = strings.Fields(`
	stropts.h varargs.h io.h direct.h windows.h winsock.h winsock2.h ws2tcpip.h process.h conio.h xlocale.h util.h
	libutil.h login_cap.h bstring.h ndir.h vfork.h immintrin.h emmintrin.h xmmintrin.h arm_neon.h cpuid.h intrin.h
	x86intrin.h omp.h xti.h ieeefp.h nan.h fpu_control.h sysdep.h mach.h minix/config.h`)
)

// sysHeadersOfC are those in its directory sys, in which other packages have headers, too.
var sysHeadersOfC = strings.Fields(`
	acct auxv bitypes cdefs debugreg dir elf epoll errno eventfd fanotify fcntl file fsuid gmon gmon_out inotify io
	ioctl ipc kd klog mman mount msg mtio param pci perm personality pidfd poll prctl procfs profil ptrace queue
	quota random raw reboot reg resource rseq select sem sendfile shm signal signalfd single_threaded socket
	socketvar soundcard stat statfs statvfs swap syscall sysinfo syslog sysmacros termios time timeb timerfd times
	timex ttychars ttydefaults types ucontext uio ultrasound un unistd user utsname vfs vlimit vm86 vt vtimes wait
	xattr`)

// OfC reports whether a header, by its name or as NAME/HEADER, is one of the C library; NAME/ is its
// directory.
func OfC(header string) bool {
	if name, is := strings.CutPrefix(header, "sys/"); is && name != "" {
		return slices.Contains(sysHeadersOfC, strings.TrimSuffix(name, ".h"))
	}
	return slices.Contains(headersOfC, header) || systemDirs.MatchString(header)
}
