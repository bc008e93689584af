package build

import (
	"bytes"
	"io"
	"os"
	"time"

	"fernladder/core/event"
	"fernladder/core/pattern"
)

// wantsNetwork matches messages of programs that cannot reach the network. A group has the host,
// if it is named.
var wantsNetwork = pattern.New(`(?i)(?:(?:could not|couldn't|unable to|can't|cannot) resolve (?:host(?:name)?` +
	`|address|proxy)?(?: address| name)?:? *['"‘“]?([A-Za-z0-9.-]+\.[A-Za-z0-9-]+)|` +
	`dial tcp: lookup ([\w.-]+)|(?:Name or service not known|Temporary failure in name resolution` +
	`|Network is unreachable))`)

// watch reports once, while a stage runs, that it tries to reach the network: some programs retry
// for minutes before they fail. The caller ends the watch.
func (a *attempt) watch(stage, log string) (end func()) {
	const every, most = 3 * time.Second, 256 << 10
	done := make(chan struct{})
	go func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		var from int64
		var buffer []byte // most stages end before it is needed
		for {
			select {
			case <-done:
				return
			case <-tick.C:
			}
			f, err := os.Open(log)
			if err != nil {
				return
			}
			if buffer == nil {
				buffer = make([]byte, most)
			}
			n, _ := io.ReadFull(io.NewSectionReader(f, from, most), buffer)
			f.Close()
			if last := bytes.LastIndexByte(buffer[:n], '\n'); last >= 0 {
				n = last + 1
			}
			from += int64(n)
			if m := wantsNetwork.FindStringSubmatch(string(buffer[:n])); m != nil {
				host := m[1] + m[2]
				if host != "" {
					host = " at " + printable(host)
				}
				a.emit(event.Event{Kind: event.Remarked, Stage: stage, Text: stage + " tries to reach the network" + host +
					", which builds do not have; it may retry for minutes"})
				return
			}
		}
	}()
	return func() { close(done) }
}
