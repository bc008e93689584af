package source

import "io"

// ahead reads from r in a goroutine of its own, so that decompression continues while files are
// written. It is for decoders that do not do so themselves.
type ahead struct {
	full  chan block
	empty chan []byte
	stop  chan struct{}
	done  chan struct{} // closed when r is no longer read
	rest  []byte
	whole []byte // of which rest is a part
	err   error
}

type block struct {
	data []byte
	err  error
}

func newAhead(r io.Reader) *ahead {
	const blocks, size = 4, 256 << 10
	a := &ahead{full: make(chan block, blocks), empty: make(chan []byte, blocks), stop: make(chan struct{}),
		done: make(chan struct{})}
	for range blocks {
		a.empty <- make([]byte, size)
	}
	go func() {
		defer close(a.done)
		for {
			select {
			case buffer := <-a.empty:
				n, err := 0, error(nil)
				for n < len(buffer) && err == nil {
					var more int
					more, err = r.Read(buffer[n:])
					n += more
				}
				a.full <- block{buffer[:n], err}
				if err != nil {
					return
				}
			case <-a.stop:
				return
			}
		}
	}()
	return a
}

// Read returns what was read ahead, then the error that ended it.
func (a *ahead) Read(p []byte) (int, error) {
	for len(a.rest) == 0 {
		if a.err != nil {
			return 0, a.err
		}
		if a.whole != nil {
			a.empty <- a.whole[:cap(a.whole)]
		}
		b := <-a.full
		a.whole, a.rest, a.err = b.data, b.data, b.err
	}
	n := copy(p, a.rest)
	a.rest = a.rest[n:]
	return n, nil
}

// Close stops reading ahead and waits until r is no longer used.
func (a *ahead) Close() {
	close(a.stop)
	<-a.done
}
