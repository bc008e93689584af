package term

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	xterm "golang.org/x/term"

	"fernladder/core/pattern"
)

// draw shows the current work below the lines that stay: a line for the whole, and one for each
// active package. It writes over what was drawn before, at once, so that nothing flickers.
func (p *Progress) draw() {
	if !p.screen.live {
		return
	}
	back := p.back()
	if len(p.active) == 0 {
		if back != "" {
			io.WriteString(p.screen.err, back+"\x1b[J")
		}
		return
	}
	width, height := p.screen.size()
	b := bytes.NewBufferString(back)
	shown := &filter{w: b}
	for i, line := range p.block(width-1, height-1) {
		if i > 0 {
			b.WriteString("\r\n")
		}
		io.WriteString(shown, OneLine(line))
		b.WriteString("\x1b[K")
		p.drawn = append(p.drawn, utf8.RuneCountInString(line))
	}
	b.WriteString("\x1b[J")
	p.screen.err.Write(b.Bytes())
}

// erase removes what was drawn.
func (p *Progress) erase() {
	if back := p.back(); back != "" {
		io.WriteString(p.screen.err, back+"\x1b[J")
	}
}

// back goes to the beginning of what was drawn. On a terminal that has become narrower since,
// lines take more rows.
func (p *Progress) back() string {
	if len(p.drawn) == 0 {
		return ""
	}
	width, _ := p.screen.size()
	rows := 0
	for _, wide := range p.drawn {
		rows += 1 + max(0, wide-1)/max(1, width)
	}
	p.drawn = p.drawn[:0]
	if rows > 1 {
		return fmt.Sprintf("\r\x1b[%dA", rows-1)
	}
	return "\r"
}

// size is that of the terminal as it is now.
func (s *Screen) size() (width, height int) {
	if f, ok := s.err.(*os.File); ok {
		if width, height, err := xterm.GetSize(int(f.Fd())); err == nil && width > 0 && height > 0 {
			return width, height
		}
	}
	return s.width, 24
}

// block is the text that draw shows, with a limited number and width of lines.
func (p *Progress) block(width, height int) []string {
	now := p.now()
	whole := fmt.Sprintf("%7.1fs  %d of %d done", now.Sub(p.began).Seconds(), len(p.settled), p.Packages)
	if p.Slots != nil {
		used, all := p.Slots()
		whole += fmt.Sprintf("   %d of %s in use", used, Count(all, "slot"))
	}
	if together := p.together(); together != "" {
		whole += "   " + strings.TrimSpace(together)
	}
	left, onPath := p.forecast(now)
	if left > 0 {
		whole += fmt.Sprintf("   about %s left", Duration(left))
	}
	lines := []string{Clip(whole, width)}
	if len(p.path) > 1 && height > 4 {
		lines = append(lines, Clip(fmt.Sprintf("%9s longest path, about %s: %s", "", Duration(onPath),
			strings.Join(p.path, ", then ")), width))
	}
	most := max(1, min(height-1-len(lines), 12))
	for i, a := range p.active {
		if i == most-1 && len(p.active) > most {
			lines = append(lines, Clip(fmt.Sprintf("          and %d more", len(p.active)-i), width))
			break
		}
		last := a.look()
		lines = append(lines, Clip(p.describe(a, now, width), width))
		if p.Output && last != "" && len(lines) < height-1 {
			lines = append(lines, Clip("            "+last, width))
		}
	}
	return lines
}

// describe says what is done with one package, how far it is, how long it has taken and how long
// it should still take. A bar shows how far, where that is known and there is room.
func (p *Progress) describe(a *activity, now time.Time, width int) string {
	line := fmt.Sprintf("          %-18s %-9s %7s", p.label(a.build), a.what, Duration(now.Sub(a.since)))
	rest, done := "", 0.0
	expected, spent := p.Times[a.build], now.Sub(a.began)
	switch {
	case a.total > 0:
		done, rest = float64(a.done)/float64(a.total), "  "+a.part
	case a.log != "" && expected > spent:
		done = float64(spent) / float64(expected)
		rest = fmt.Sprintf("  about %s left", Duration(expected-spent))
	}
	if a.total == 0 && a.part != "" { // the build program knows better
		done = a.whole
		rest = "  " + a.part + rest
	}
	if with := line + "  " + bar(done) + rest; done > 0 && utf8.RuneCountInString(with) <= width {
		return with
	}
	return line + rest
}

// bar shows how much of something is done, from 0 to 1.
func bar(done float64) string {
	const cells = 10
	full := int(min(max(done, 0), 1)*cells + 0.5)
	return strings.Repeat("■", full) + strings.Repeat("·", cells-full)
}

// forecast is how long everything should still take, or 0 if unknown, and how long the chain of
// builds that takes longest. It is computed every other second, because it takes a while on long
// ladders.
func (p *Progress) forecast(now time.Time) (left, onPath time.Duration) {
	const often = 2 * time.Second
	if p.Left == nil {
		return 0, 0
	}
	if now.Sub(p.leftAt) >= often {
		running := map[Build]time.Duration{}
		for _, a := range p.active {
			running[a.build] = now.Sub(a.began)
		}
		p.leftAt = now
		p.leftThen, p.path, p.pathThen = p.Left(p.settled, running)
	}
	since := now.Sub(p.leftAt)
	return max(0, p.leftThen-since), max(0, p.pathThen-since)
}

// look reads the end of the current stage's log: the progress that its program reports, and the
// last line.
func (a *activity) look() (last string) {
	if a.log == "" {
		return ""
	}
	f, err := os.Open(a.log)
	if err != nil {
		return ""
	}
	defer f.Close()
	const enough = 4 << 10
	if info, err := f.Stat(); err == nil && info.Size() > enough {
		f.Seek(-enough, io.SeekEnd)
	}
	data := make([]byte, enough)
	n, _ := io.ReadFull(f, data)
	a.part, a.whole, last = howFar(string(data[:n]))
	return last
}

// Build programs report progress at the beginning of lines: in percent, or as the number of a
// step.
var (
	percent = pattern.New(`(?m)^\[ {0,2}(\d{1,3})%\]`)
	steps   = pattern.New(`(?m)^\[(\d+)/(\d+)\]`)
	// sequence matches colour sequences.
	sequence = pattern.New(`\x1b\[[0-9;?]*[ -/]*[@-~]`)
)

// howFar finds the last progress report in the end of a log, as text and from 0 to 1, and its last
// line in printable form.
func howFar(end string) (part string, whole float64, last string) {
	if all := percent.FindAllStringSubmatch(end, -1); all != nil {
		part = all[len(all)-1][1] + "%"
		n, _ := strconv.Atoi(all[len(all)-1][1])
		whole = float64(n) / 100
	} else if all := steps.FindAllStringSubmatch(end, -1); all != nil {
		step := all[len(all)-1]
		part = step[1] + " of " + step[2]
		n, _ := strconv.Atoi(step[1])
		of, _ := strconv.Atoi(step[2])
		whole = float64(n) / float64(max(of, 1))
	}
	lines := strings.Split(strings.TrimRight(end, "\r\n"), "\n")
	last = strings.Map(func(r rune) rune {
		if r < ' ' || r == utf8.RuneError || r == 0x7f {
			return -1
		}
		return r
	}, sequence.ReplaceAllString(strings.ReplaceAll(lines[len(lines)-1], "\t", " "), ""))
	return part, whole, strings.TrimSpace(last)
}

// Clip cuts a line to a number of characters.
func Clip(line string, width int) string {
	runes := []rune(line)
	if len(runes) <= width || width < 1 {
		return line
	}
	return string(runes[:width-1]) + "…"
}
