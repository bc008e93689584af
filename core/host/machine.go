// Package host knows what the operating system is and which programs it has.
//
// It only looks; it changes nothing, and it never guesses: what it cannot find out is empty.
package host

import (
	"bufio"
	"os"
	"runtime"
	"slices"
	"strings"
)

// A Machine is what conditions in recipes can ask about.
type Machine struct {
	Arch   string `json:"arch"`   // as the kernel calls it: x86_64, aarch64
	Family string `json:"family"` // one of Families, or "" for another
	// Release is the operating system's own name and version, as os-release(5) has
	// them in ID and VERSION_ID, or "". Nothing depends on it.
	Release string `json:"release,omitempty"`
}

// Families are the families of operating systems that recipes distinguish, by their names in ID
// and ID_LIKE of os-release(5).
var Families = []string{"debian", "fedora", "suse", "arch", "alpine", "gentoo"}

// ThisMachine finds out what machine the program runs on.
func ThisMachine() Machine {
	m := Machine{Arch: kernelName(runtime.GOARCH)}
	for _, file := range []string{"/etc/os-release", "/usr/lib/os-release"} {
		if data, err := os.ReadFile(file); err == nil {
			m.Family, m.Release = family(string(data)), release(string(data))
			break
		}
	}
	return m
}

// kernelName turns Go's name of a processor into uname's.
func kernelName(goarch string) string {
	names := map[string]string{
		"amd64": "x86_64", "386": "i686", "arm64": "aarch64", "arm": "armv7l", "ppc64le": "ppc64le",
		"riscv64": "riscv64", "s390x": "s390x", "loong64": "loongarch64",
	}
	if name, known := names[goarch]; known {
		return name
	}
	return goarch
}

// fields are the keys of an os-release file with their values.
func fields(text string) map[string]string {
	all := map[string]string{}
	for lines := bufio.NewScanner(strings.NewReader(text)); lines.Scan(); {
		key, value, _ := strings.Cut(lines.Text(), "=")
		all[key] = strings.Trim(value, `"'`)
	}
	return all
}

// release is an operating system's name for itself, with its version.
func release(text string) string {
	all := fields(text)
	return strings.TrimSpace(all["ID"] + " " + all["VERSION_ID"])
}

// family reads an os-release file: ID first, then what it is like.
func family(text string) string {
	all := fields(text)
	for _, id := range append(strings.Fields(all["ID"]), strings.Fields(all["ID_LIKE"])...) {
		if slices.Contains([]string{"rhel", "centos"}, id) {
			id = "fedora"
		}
		if slices.Contains([]string{"opensuse", "sles"}, id) {
			id = "suse"
		}
		if slices.Contains(Families, id) {
			return id
		}
	}
	return ""
}
