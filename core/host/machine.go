// Package host tells what the operating system is and which programs it has.
//
// It only looks; it changes nothing, and it never guesses: what it cannot find
// out is empty.
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
}

// Families are the families of operating systems that recipes can tell apart,
// by the names that os-release(5) has for them in ID and ID_LIKE.
var Families = []string{"debian", "fedora", "suse", "arch", "alpine", "gentoo"}

// ThisMachine finds out what the program runs on.
func ThisMachine() Machine {
	m := Machine{Arch: kernelName(runtime.GOARCH)}
	for _, file := range []string{"/etc/os-release", "/usr/lib/os-release"} {
		if data, err := os.ReadFile(file); err == nil {
			m.Family = family(string(data))
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

// family reads an os-release file: ID first, then what it is like.
func family(release string) string {
	var ids []string
	for lines := bufio.NewScanner(strings.NewReader(release)); lines.Scan(); {
		key, value, _ := strings.Cut(lines.Text(), "=")
		words := strings.Fields(strings.Trim(value, `"'`))
		switch key {
		case "ID":
			ids = append(words, ids...)
		case "ID_LIKE":
			ids = append(ids, words...)
		}
	}
	for _, id := range ids {
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
