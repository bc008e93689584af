package term

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	xterm "golang.org/x/term"

	"fernladder/core/pattern"
)

// draw shows the current work below the lines that stay: a line for the whole, and one for each
// active package.
func (p *Progress) draw() {
	if !p.screen.live || len(p.active) == 0 {
		return
	}
	width, height := p.screen.size()
	var b bytes.Buffer
	shown := &filter{w: &b}
	for i, line := range p.block(width-1, height-1) {
		if i > 0 {
			b.WriteString("\r\n")
		}
		io.WriteString(shown, OneLine(line))
		p.drawn = append(p.drawn, utf8.RuneCountInString(line))
	}
	p.screen.err.Write(b.Bytes())
}

// erase removes what was drawn. On a terminal that has become narrower since, lines take more
// rows.
func (p *Progress) erase() {
	if len(p.drawn) == 0 {
		return
	}
	width, _ := p.screen.size()
	rows := 0
	for _, wide := range p.drawn {
		rows += 1 + max(0, wide-1)/max(1, width)
	}
	p.drawn = p.drawn[:0]
	back := "\r"
	if rows > 1 {
		back += fmt.Sprintf("\x1b[%dA", rows-1)
	}
	io.WriteString(p.screen.err, back+"\x1b[J")
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
	if together := p.together(); together != "" {
		whole += "   " + strings.TrimSpace(together)
	}
	if left := p.left(now); left > 0 {
		whole += fmt.Sprintf("   about %s left", Duration(left))
	}
	lines := []string{clip(whole, width)}
	most := max(1, min(height-2, 12))
	for i, a := range p.active {
		if i == most-1 && len(p.active) > most {
			lines = append(lines, clip(fmt.Sprintf("          and %d more", len(p.active)-i), width))
			break
		}
		last := a.look()
		lines = append(lines, clip(p.describe(a, now), width))
		if p.Output && last != "" && len(lines) < height-1 {
			lines = append(lines, clip("            "+last, width))
		}
	}
	return lines
}

// describe says what is done with one package, how far it is, how long it has taken and how long
// it should still take.
func (p *Progress) describe(a *activity, now time.Time) string {
	line := fmt.Sprintf("          %-18s %-10s %7s", p.label(a.build), a.what, Duration(now.Sub(a.since)))
	if a.part != "" {
		line += "   " + a.part
	}
	if expected, spent := p.Times[a.build], now.Sub(a.began); a.log != "" && expected > spent {
		line += fmt.Sprintf("   about %s left", Duration(expected-spent))
	}
	return line
}

// left is how long everything should still take, or 0 if unknown. It is computed every other
// second, because it takes a while on long ladders.
func (p *Progress) left(now time.Time) time.Duration {
	const often = 2 * time.Second
	if since := now.Sub(p.leftAt); p.Left == nil || since < often {
		return max(0, p.leftThen-since)
	}
	running := map[Build]time.Duration{}
	for _, a := range p.active {
		running[a.build] = now.Sub(a.began)
	}
	p.leftAt, p.leftThen = now, p.Left(p.settled, running)
	return p.leftThen
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
	a.part, last = howFar(string(data[:n]))
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

// howFar finds the last progress report in the end of a log, and its last line in printable
// form.
func howFar(end string) (part, last string) {
	if all := percent.FindAllStringSubmatch(end, -1); all != nil {
		part = all[len(all)-1][1] + "%"
	} else if all := steps.FindAllStringSubmatch(end, -1); all != nil {
		part = all[len(all)-1][1] + " of " + all[len(all)-1][2]
	}
	lines := strings.Split(strings.TrimRight(end, "\r\n"), "\n")
	last = strings.Map(func(r rune) rune {
		if r < ' ' || r == utf8.RuneError || r == 0x7f {
			return -1
		}
		return r
	}, sequence.ReplaceAllString(strings.ReplaceAll(lines[len(lines)-1], "\t", " "), ""))
	return part, strings.TrimSpace(last)
}

// clip cuts a line to a width.
func clip(line string, width int) string {
	runes := []rune(line)
	if len(runes) <= width || width < 1 {
		return line
	}
	return string(runes[:width-1]) + "…"
}
