package ospackage

import (
	"bytes"
	"encoding/binary"
	"slices"
)

// A header of rpm's format: tags with values, in a block of index entries and a block of data.
// See "Package File Format" of the Linux Standard Base, and rpm's own documentation.
type header struct{ entries []entry }

type entry struct {
	tag   int32
	kind  int32
	count int32
	data  []byte
}

// The types of values.
const (
	kindInt16 = 3
	kindInt32 = 4
	kindInt64 = 5
	kindText  = 6
	kindBytes = 7
	kindTexts = 8
	kindI18N  = 9
)

func (h *header) add(tag, kind int32, count int, data []byte) {
	h.entries = append(h.entries, entry{tag, kind, int32(count), data})
}

func (h *header) text(tag int32, text string)  { h.add(tag, kindText, 1, append([]byte(text), 0)) }
func (h *header) i18n(tag int32, text string)  { h.add(tag, kindI18N, 1, append([]byte(text), 0)) }
func (h *header) bytes(tag int32, data []byte) { h.add(tag, kindBytes, len(data), data) }

func (h *header) texts(tag int32, all []string) {
	if len(all) == 0 {
		return
	}
	var data []byte
	for _, text := range all {
		data = append(append(data, text...), 0)
	}
	h.add(tag, kindTexts, len(all), data)
}

func (h *header) numbers(tag int32, all ...int32) {
	if len(all) == 0 {
		return
	}
	var data []byte
	for _, n := range all {
		data = binary.BigEndian.AppendUint32(data, uint32(n))
	}
	h.add(tag, kindInt32, len(all), data)
}

func (h *header) large(tag int32, n int64) {
	h.add(tag, kindInt64, 1, binary.BigEndian.AppendUint64(nil, uint64(n)))
}

func (h *header) shorts(tag int32, all []uint16) {
	if len(all) == 0 {
		return
	}
	var data []byte
	for _, n := range all {
		data = binary.BigEndian.AppendUint16(data, n)
	}
	h.add(tag, kindInt16, len(all), data)
}

// encode writes the header as the region of one tag. Digests and signatures cover a region.
func (h *header) encode(region int32) []byte {
	entries := slices.Clone(h.entries)
	slices.SortStableFunc(entries, func(a, b entry) int { return int(a.tag - b.tag) })
	var index, store bytes.Buffer
	put := func(e entry, offset int32) {
		for _, n := range []int32{e.tag, e.kind, offset, e.count} {
			binary.Write(&index, binary.BigEndian, n)
		}
	}
	for _, e := range entries {
		for align := map[int32]int{kindInt16: 2, kindInt32: 4, kindInt64: 8}[e.kind]; align > 0 && store.Len()%align != 0; {
			store.WriteByte(0)
		}
		put(e, int32(store.Len()))
		store.Write(e.data)
	}
	// The region's own entry comes first; its data is its entry again, with the offset back to the
	// beginning of the index.
	count := int32(len(entries) + 1)
	rest := slices.Clone(index.Bytes())
	index.Reset()
	put(entry{tag: region, kind: kindBytes, count: 16}, int32(store.Len()))
	index.Write(rest)
	for _, n := range []int32{region, kindBytes, -count * 16, 16} {
		binary.Write(&store, binary.BigEndian, n)
	}
	out := []byte{0x8e, 0xad, 0xe8, 1, 0, 0, 0, 0}
	out = binary.BigEndian.AppendUint32(out, uint32(count))
	out = binary.BigEndian.AppendUint32(out, uint32(store.Len()))
	return append(append(out, index.Bytes()...), store.Bytes()...)
}
