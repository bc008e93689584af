package landing

import (
	"path"
	"strings"
)

// acting are directories of which the operating system does by itself what is in them, at
// its next start or at once, as root: nobody has to run anything (systemd.unit(5),
// systemd.generator(7), udev(7), sysctl.d(5), tmpfiles.d(5), modules-load.d(5),
// modprobe.d(5), binfmt.d(5), environment.d(5), dbus-daemon(1), polkit(8)); and what shells,
// editors and interpreters run when they start.
var acting = words(`lib/systemd lib/udev lib/sysusers.d lib/tmpfiles.d lib/sysctl.d lib/modules-load.d lib/modprobe.d lib/binfmt.d lib/environment.d lib/kernel
	lib/dracut lib/NetworkManager lib/pm-utils lib/site_ruby share/fish/vendor_conf.d share/emacs/site-lisp/site-start.el share/systemd share/dbus-1/system-services share/dbus-1/system.d share/polkit-1 share/initramfs-tools`)

// Acts tells whether a file of a package's tree does something by being where the
// operating system looks, rather than by being run or read: a start-up script of Python
// too. A unit of systemd that is called like the package does not; it is only there to be
// started. Nor does a file in the place of a directory of those do any good.
func Acts(pkg, file string) bool {
	dir, base := path.Split(file)
	switch {
	case strings.HasPrefix(file, "lib/python") && (strings.HasSuffix(base, ".pth") || strings.HasPrefix(base, "sitecustomize.") || strings.HasPrefix(base, "usercustomize.")):
		return true
	case dir == "lib/systemd/system/" || dir == "lib/systemd/user/":
		rest, own := strings.CutPrefix(base, pkg)
		return !own || rest == "" || !strings.ContainsRune(".-@", rune(rest[0]))
	}
	for in := range acting {
		if file == in || strings.HasPrefix(file, in+"/") || strings.HasPrefix(in, file+"/") {
			return true
		}
	}
	return false
}
