package landing

import (
	"path"
	"strings"
)

// It is impossible to list everything that a file does by being where others look: shells,
// interpreters, editors, desktops, loaders and the service manager each have directories in
// which they run what they find. So the lists below name what is known to do nothing unless a
// person, or a program run by a person, requests it by name. Everything else stays in the tree.
//
// wholly are directories in which any file is harmless: documentation for people, and files that
// compilers and build systems open by name.
var wholly = words(`
	include share/man man share/info info share/doc share/licenses share/gtk-doc share/help lib/cmake lib64/cmake
	share/cmake`)

// single are patterns (path.Match) of single files: programs, libraries that are loaded by name,
// their descriptions, desktop entries, pictures.
var single = words(`
	bin/* sbin/* lib/lib*.so lib/lib*.so.* lib/lib*.a lib/lib*.la lib64/lib*.so lib64/lib*.so.* lib64/lib*.a
	lib64/lib*.la lib/*.jar share/java/*.jar lib/pkgconfig/*.pc lib64/pkgconfig/*.pc share/pkgconfig/*.pc
	share/meson/cross/* share/meson/native/* share/gir-1.0/*.gir share/vala/vapi/*.vapi share/vala/vapi/*.deps
	lib/girepository-1.0/*.typelib share/applications/*.desktop share/metainfo/*.xml share/appdata/*.xml
	share/pixmaps/*.png share/pixmaps/*.svg share/pixmaps/*.xpm`)

// owned are directories in which a file is harmless if its name begins with the package's:
// completions are loaded when the program is typed, translations when it runs.
var owned = words(`share/bash-completion/completions share/fish/vendor_completions.d`)

// Harmless reports whether a file of a package, or a directory with all its contents, does
// nothing by having a name in a place that others share, such as /usr/local.
func Harmless(pkg, name string) bool {
	dir, base := path.Dir(name), path.Base(name)
	for in := range wholly {
		if strings.HasPrefix(name, in+"/") {
			return true
		}
	}
	switch parts := strings.Split(name, "/"); {
	case strings.HasPrefix(base, "libnss_"): // loaded as /etc/nsswitch.conf says
		return false
	case owned[dir], strings.HasPrefix(name, "share/locale/") && strings.HasSuffix(dir, "/LC_MESSAGES") &&
		path.Ext(base) == ".mo":
		return isOwn(pkg, base)
	case strings.HasPrefix(name, "share/icons/") && len(parts) > 3:
		return path.Ext(base) == ".png" || path.Ext(base) == ".svg" || path.Ext(base) == ".xpm"
	case len(parts) > 1 && ownTops[parts[0]] && isOwn(pkg, parts[1]) &&
		(parts[0] == "etc" || !Common(path.Join(parts[:2]...))):
		return true
	}
	for pattern := range single {
		if fits, _ := path.Match(pattern, name); fits {
			return true
		}
	}
	return false
}

// ownTops are directories in which each package has a directory, or a file, of its own name.
var ownTops = words(`share lib lib64 libexec etc`)

// isOwn reports whether a name is a package's own, as moss, moss-2.1, moss.conf and moss2 are
// moss's.
func isOwn(pkg, base string) bool {
	rest, own := strings.CutPrefix(base, pkg)
	return own && pkg != "" && (rest == "" || strings.ContainsRune("-.@0123456789", rune(rest[0])))
}
