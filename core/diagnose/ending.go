package diagnose

import (
	"strings"

	"fernladder/core/pattern"
)

// How a log ends, according to the last words of its tools.
const (
	cut    = iota // they do not say
	went          // all went well
	failed        // something has failed
)

// An ending is how a log ends.
type ending struct {
	how  int
	at   int // the line that says so
	from int // the first line of the phase that ended so
	said int // the first of the lines before it that say so
}

// ending finds the last line that says how something ended.
func (t *Table) ending(lines []string) ending {
	const far = 200
	e := ending{}
	tried := make([]int, len(t.marks))
	var candidates []int32
	for i := len(lines) - 1; i >= 0; i-- {
		candidates = t.scanner.line(lines[i], candidates[:0])
		for _, n := range candidates {
			n := int(n) - len(t.rules)
			if n < 0 || e.how != cut && !t.marks[n].Phase && (!t.marks[n].Failed || e.at-i > far) {
				continue
			}
			if tried[n]++; tried[n] > mostTries || !t.marks[n].pattern.MatchString(lines[i]) {
				continue
			}
			switch m := t.marks[n]; {
			case m.Late && len(lines)-i > soon:
			case m.Failed && e.how == cut:
				e.how, e.at, e.said = failed, i, i
			case m.Failed:
				e.said = i
			case e.how == cut:
				return ending{how: went, at: i}
			case m.Phase:
				e.from = i + 1
				return e
			}
		}
	}
	return e
}

// cleanEnd reports whether a log ends with commands without output: make prints each before it
// runs, and reports failures.
func cleanEnd(lines []string) bool {
	return len(lines) > 0 && commandLine.MatchString(lines[len(lines)-1])
}

// commandLine matches a command as make shows it.
var commandLine = pattern.New(`^\s*(?:/[\w./-]+/)?(?:[\w]+-linux-[\w]+-)?(?:g?cc|[gc]\+\+|clang(?:\+\+)?|ar|ranlib` +
	`|ld|install|libtool: (?:link|compile|install)|cp|mv|ln|mkdir|chmod|rm|strip|sed|echo|touch|test|CC|CXX|LD|AR|CCLD` +
	`|LINK|INSTALL)\s+\S`)

// errorWords match what tools say when something is wrong.
var errorWords = pattern.New(`(?i)\berror\b|\bfatal\b|\bfail(?:ed|ure)?\b|\bcannot\b|\bcan't\b|\bcould not\b` +
	`|\bunable to\b|not found|no such|\binvalid\b|\billegal\b|\bundefined\b|\bundeclared\b|\bdenied\b|\bunexpected\b` +
	`|\bunknown\b|\bunrecognized\b|\bunsupported\b|not (?:supported|set|defined|given|specified|there)\b|exception` +
	`|\bmissing\b|\brequire[sd]?\b|\bmust\b|\bpanic|\babort|\bsyntax\b|\bexpected\b|\bneeds?\b|\brefus|\btoo (?:old` +
	`|new)\b|\bno \w`)

// noWords match lines that do not describe a failure: commands, progress, and the end of a
// called tool.
var noWords = pattern.New(`^\s*$|^(?:g?make|ninja)\b|^checking |^-- |^\[\s*\d+[/%]|^\s*(?:at |File "|\^|~|\|` +
	`|\d+ \|)|^(?:See |Call Stack|Traceback )|: warning: |^FAILED: |^# \S+$|\b(?:0|no) (?:errors?|failures?|failed)\b` +
	`|^\s*Caused by:?$|^Error: ?$|^\W*$|^npm (?:error|ERR!)(?:\s|\s*(?:A complete log|Run "npm|code \w+|errno|path` +
	`|command|aliases).*)?$|^\[ERROR\] *(?:$|To see the full|Re-run|For more info|\[Help)`)

// ownWords are the words with which a failed run ended: the first line with such words shortly
// before the end, or the last line.
func ownWords(lines []string, e ending) *Cause {
	if e.how == cut { // a program's last words
		for i := len(lines) - 1; i >= 0; i-- {
			if lines[i] != "" {
				if (complaint.MatchString(lines[i]) && errorWords.MatchString(lines[i]) || refusal.MatchString(lines[i])) &&
					!noWords.MatchString(lines[i]) && !strings.Contains(strings.ToLower(lines[i]), "warning") {
					return saying(lines, i)
				}
				break
			}
		}
		return nil
	}
	stop := e.at
	for i := e.from; i < e.at; i++ { // of makes that call each other, and jobs side by side, the first
		if strings.Contains(lines[i], "*** ") && stopped.MatchString(lines[i]) {
			stop = i
			break
		}
	}
	for i := e.said; i <= stop; i++ {
		if !stopped.MatchString(lines[i]) && !noWords.MatchString(lines[i]) && errorWords.MatchString(lines[i]) {
			return saying(lines, i)
		}
	}
	last := -1
	for i := max(e.from, stop-soon); i < stop; i++ {
		if noWords.MatchString(lines[i]) || commandLine.MatchString(lines[i]) {
			continue
		}
		if errorWords.MatchString(lines[i]) {
			return saying(lines, i)
		}
		last = i
	}
	if last < 0 {
		return saying(lines, stop)
	}
	return saying(lines, last)
}

// saying is a cause in the words of a line and of its continuation.
func saying(lines []string, at int) *Cause {
	const most = 160
	text := strings.TrimSpace(lines[at])
	if strings.HasPrefix(text, "CMake Error at ") {
		text = cmakeText(lines, at)
	}
	for _, line := range lines[at+1 : min(len(lines), at+4)] { // a headline goes on in the next lines
		if !strings.HasSuffix(text, ":") || strings.HasPrefix(line, "--") {
			break
		}
		text = strings.TrimSpace(text + " " + strings.TrimSpace(line))
	}
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	c := &Cause{Kind: Said, Names: []string{text}, Likely: true, Line: at + 1}
	if at+1 < len(lines) {
		if match := arrow.FindStringSubmatch(lines[at+1]); match != nil {
			c.Place = match[1]
		}
	}
	return c
}

// arrow matches how some compilers point to a place of the source.
var arrow = pattern.New(`^\s*-->\s*([^\s:]+:\d+)`)

// complaint matches the beginnings of error messages.
var complaint = pattern.New(`^[\w./+-]+(?:\[\d+\])?: \S`)

// refusal matches the last messages of scripts, without their name.
var refusal = pattern.New(`(?i)\bnot found\b|\bcannot\b|\bcould not\b|\bunable to\b|\bfailed\b|\b(?:is` +
	`|are) (?:needed|required|missing)\b|^required `)

// stopped matches lines that only say that something stopped, and not why.
var stopped = pattern.New(`\*\*\* \[|^ninja: build stopped|^-- Configuring incomplete|^BUILD FAILED|BUILD FAILURE` +
	`|not remade because of errors|returned non-zero|exited with|exit (?:status|code)|^\W*$|^Error: Process completed` +
	`|^npm ERR! code|^npm error code|^error: could not compile|^FAIL$|ELIFECYCLE|^Configuration failed` +
	`|Waiting for unfinished`)
