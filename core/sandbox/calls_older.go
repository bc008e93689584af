//go:build amd64 || 386 || arm || s390x || ppc64le

package sandbox

import "golang.org/x/sys/unix"

// olderCalls are those that newer architectures do not have.
var olderCalls = []call{{unix.SYS_OPEN, 0, 1}}

var olderGives = []give{{unix.SYS_CHOWN, -1, 0, 1}, {unix.SYS_LCHOWN, -1, 0, 1}}
