package term

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// All output goes through one filter. Much of it is foreign: answers of servers, file names,
// summaries, notes, logs. Characters that would have an effect on a terminal are shown as text:
// control characters of ASCII (C0) and of ISO 6429 (C1), and those that change the order of text
// (Unicode UAX #9). Line feeds and tabs stay.
//
// Our own colours are marked by a number that no one else can guess.

// A filter is a writer for a terminal or a file that may be shown on one.
type filter struct {
	w    io.Writer
	mark string // in sequences of our own, before their m
	rest []byte // the beginning of a character, of which the end was not written yet
}

func newMark() string {
	var random [8]byte
	rand.Read(random[:]) // which never fails
	return fmt.Sprint(binary.LittleEndian.Uint64(random[:]))
}

// Write consumes all of p, and fails only if the underlying writer does.
func (f *filter) Write(p []byte) (int, error) {
	data := append(f.rest, p...)
	whole := len(data)
	for i := 1; i <= min(utf8.UTFMax-1, len(data)); i++ {
		if c := data[len(data)-i]; utf8.RuneStart(c) {
			if !utf8.FullRune(data[len(data)-i:]) {
				whole = len(data) - i
			}
			break
		}
	}
	var out bytes.Buffer
	f.show(&out, data[:whole])
	f.rest = bytes.Clone(data[whole:])
	if _, err := f.w.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(p), nil
}

func (f *filter) show(out *bytes.Buffer, data []byte) {
	for len(data) > 0 {
		if codes, n := f.own(data); n > 0 {
			fmt.Fprintf(out, "\x1b[%sm", codes)
			data = data[n:]
			continue
		}
		c, n := utf8.DecodeRune(data)
		switch {
		case c == '\r' && len(data) > 1 && data[1] == '\n':
		case c == '\n' || c == '\t':
			out.WriteByte(data[0])
		case c == utf8.RuneError && n == 1, c < ' ':
			fmt.Fprintf(out, `\x%02x`, data[0])
		case acts(c): // a form that JSON has, too
			fmt.Fprintf(out, `\u%04x`, c)
		default:
			out.Write(data[:n])
		}
		data = data[n:]
	}
}

// own finds one of our own sequences at the beginning of data: its codes, and its length.
func (f *filter) own(data []byte) (codes string, n int) {
	if f.mark == "" || !bytes.HasPrefix(data, []byte("\x1b[")) {
		return "", 0
	}
	end := bytes.IndexByte(data, 'm')
	if end < 0 {
		return "", 0
	}
	codes, found := strings.CutSuffix(string(data[2:end]), ";"+f.mark)
	if !found || strings.Trim(codes, "0123456789;") != "" {
		return "", 0
	}
	return codes, end + 1
}

// acts reports whether a character has an effect on a terminal.
func acts(c rune) bool {
	return c < ' ' || c >= 0x7f && c < 0xa0 || c == 0x061c || c == 0x200e || c == 0x200f ||
		c >= 0x2028 && c <= 0x202e || c >= 0x2066 && c <= 0x2069
}

// OneLine is a text, such as a file name, in one line whatever it contains.
func OneLine(text string) string { return oneLine.Replace(text) }

var oneLine = strings.NewReplacer("\n", `\x0a`, "\t", `\x09`, "\r", `\x0d`)

// Log shows the output of programs. A carriage return begins a new line.
func (s *Screen) Log(r io.Reader) error {
	buffer := make([]byte, 64<<10)
	for {
		n, err := r.Read(buffer)
		text := bytes.ReplaceAll(buffer[:n], []byte("\r\n"), []byte("\n"))
		if _, err := s.Out.Write(bytes.ReplaceAll(text, []byte("\r"), []byte("\n"))); err != nil {
			return err
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// Visible is a foreign text in one line, with control characters as text: for screens that are
// drawn without the filter.
func Visible(text string) string {
	var out bytes.Buffer
	(&filter{}).show(&out, []byte(text))
	return strings.NewReplacer("\n", " ", "\t", " ").Replace(out.String())
}
