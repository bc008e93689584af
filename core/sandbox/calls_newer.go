//go:build !(amd64 || 386 || arm || s390x || ppc64le)

package sandbox

var olderCalls []call

var olderGives []give
