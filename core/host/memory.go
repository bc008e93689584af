package host

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Memory is the size of memory, in bytes, and how hard it is to get some.
type Memory struct {
	Available int64   // without swapping; 0 when it is not known
	Total     int64   // 0 when it is not known
	Stalled   float64 // percent of the last ten seconds in which something waited for memory
}

// ReadMemory reads the kernel's values from proc, which is /proc except in tests.
func ReadMemory(proc string) Memory {
	var m Memory
	data, _ := os.ReadFile(filepath.Join(proc, "meminfo"))
	for line := range strings.Lines(string(data)) {
		words := strings.Fields(line)
		if len(words) < 2 {
			continue
		}
		kibibytes, err := strconv.ParseInt(words[1], 10, 64)
		switch {
		case err != nil:
		case words[0] == "MemAvailable:":
			m.Available = kibibytes << 10
		case words[0] == "MemTotal:":
			m.Total = kibibytes << 10
		}
	}
	data, _ = os.ReadFile(filepath.Join(proc, "pressure", "memory"))
	for word := range strings.FieldsSeq(string(data)) { // "some avg10=0.00 …" is first
		if number, is := strings.CutPrefix(word, "avg10="); is {
			m.Stalled, _ = strconv.ParseFloat(number, 64)
			break
		}
	}
	return m
}

// Short reports whether something that takes so many bytes should wait: because they are not
// available, because little would be left, or because others wait for memory already. Without
// information, nothing is short.
func (m Memory) Short(takes int64) bool {
	const patience = 10 // percent
	return m.Stalled > patience || m.Total > 0 && m.Available < takes+m.Total/32
}
