package depot

import "math/bits"

// Blobs are cut where the contents say so: with the rolling hash and the two thresholds of FastCDC
// (Xia et al., 2016). So a change moves only the cuts beside it, and the rest of a new release
// has the blobs of the one before. Files as blobs of their own would send a large changed file
// whole; the measurements are in docs/inside.md.
const (
	usualChunk  = 512 << 10 // bytes, on average, before packing
	mostChunks  = 8_000     // of a tree: larger ones have larger chunks
	largestBlob = 64 << 20
)

// gear are the random numbers of the rolling hash. They are part of the format: others would make
// other blobs (splitmix64, from 0).
var gear = func() (table [256]uint64) {
	state := uint64(0)
	for i := range table {
		state += 0x9e3779b97f4a7c15
		z := state
		z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
		z = (z ^ z>>27) * 0x94d049bb133111eb
		table[i] = z ^ z>>31
	}
	return table
}()

// A cutter cuts what is written to it.
type cutter struct {
	cut  func(chunk []byte) error // which then has the chunk to itself
	size int                      // on average
	hash uint64
	at   int // in the chunk
	part []byte
}

func newCutter(total int64, cut func([]byte) error) *cutter {
	size := usualChunk
	for total/int64(size) > mostChunks {
		size *= 2
	}
	return &cutter{cut: cut, size: size}
}

func (c *cutter) Write(p []byte) (int, error) {
	written := len(p)
	width := bits.Len(uint(c.size)) - 1
	// High bits of the hash depend on the last 64 bytes, low ones only on the last few.
	before, after := ^uint64(0)<<(64-width-2), ^uint64(0)<<(64-width+2)
	for len(p) > 0 {
		n, ends := 0, false
		for n < len(p) && !ends {
			c.hash = c.hash<<1 + gear[p[n]]
			n++
			c.at++
			switch {
			case c.at < c.size/4:
			case c.at < c.size:
				ends = c.hash&before == 0
			default:
				ends = c.hash&after == 0 || c.at == 4*c.size
			}
		}
		c.part = append(c.part, p[:n]...)
		p = p[n:]
		if ends {
			if err := c.end(); err != nil {
				return 0, err
			}
		}
	}
	return written, nil
}

// end cuts what is left.
func (c *cutter) end() error {
	chunk := c.part
	c.part, c.at, c.hash = make([]byte, 0, 2*c.size), 0, 0
	if len(chunk) == 0 {
		return nil
	}
	return c.cut(chunk)
}
