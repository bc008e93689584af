package diagnose

import (
	"math"
	"regexp/syntax"
	"strings"
)

// A scanner finds the lines that patterns may match, in one pass over a text: those that contain
// one of each pattern's required texts (Aho and Corasick, 1975). It ignores case.
type scanner struct {
	class [256]uint8 // of bytes: those that no text has are all in class 0
	width int
	next  []int32   // states, by a state and the class of the byte that comes next
	ends  [][]int32 // the patterns of which a needed text ends in a state
}

// newScanner makes a scanner for patterns by their required texts.
func newScanner(needed [][]string) *scanner {
	s := &scanner{width: 1, ends: make([][]int32, 1)}
	for _, texts := range needed {
		for _, text := range texts {
			for i := range len(text) {
				if c := lower(text[i]); s.class[c] == 0 {
					s.class[c] = uint8(s.width)
					s.width++
				}
			}
		}
	}
	for c := byte('A'); c <= 'Z'; c++ {
		s.class[c] = s.class[lower(c)]
	}
	s.next = make([]int32, s.width)
	for pattern, texts := range needed {
		for _, text := range texts {
			state := int32(0)
			for i := range len(text) {
				to := &s.next[int(state)*s.width+int(s.class[text[i]])]
				if *to == 0 {
					*to = int32(len(s.ends))
					s.ends = append(s.ends, nil)
					state = *to
					s.next = append(s.next, make([]int32, s.width)...)
					continue
				}
				state = *to
			}
			s.ends[state] = append(s.ends[state], int32(pattern))
		}
	}
	fails := make([]int32, len(s.ends))
	var queue []int32
	for _, state := range s.next[:s.width] {
		if state != 0 {
			queue = append(queue, state)
		}
	}
	for i := 0; i < len(queue); i++ {
		row := s.next[int(queue[i])*s.width:][:s.width]
		back := s.next[int(fails[queue[i]])*s.width:][:s.width]
		for c, to := range row {
			if to == 0 {
				row[c] = back[c]
				continue
			}
			fails[to] = back[c]
			s.ends[to] = append(s.ends[to], s.ends[fails[to]]...)
			queue = append(queue, to)
		}
	}
	return s
}

func lower(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		c += 'a' - 'A'
	}
	return c
}

// line adds the patterns that may match a line to found, each once, in their order.
func (s *scanner) line(line string, found []int32) []int32 {
	state := 0
	for i := range len(line) {
		state = int(s.next[state*s.width+int(s.class[line[i]])])
		for _, pattern := range s.ends[state] {
			at := len(found)
			for at > 0 && found[at-1] > pattern {
				at--
			}
			if at == 0 || found[at-1] != pattern {
				found = append(found, 0)
				copy(found[at+1:], found[at:])
				found[at] = pattern
			}
		}
	}
	return found
}

// needs are texts of which every matching line contains one, the longest that can be found; none
// if there is no such text.
func needs(pattern string) []string {
	parsed, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return nil
	}
	return needsOf(parsed.Simplify())
}

func needsOf(re *syntax.Regexp) []string {
	switch re.Op {
	case syntax.OpLiteral:
		return []string{strings.ToLower(string(re.Rune))}
	case syntax.OpCapture, syntax.OpPlus:
		return needsOf(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			return needsOf(re.Sub[0])
		}
	case syntax.OpConcat:
		var best []string
		for _, sub := range re.Sub {
			if texts := needsOf(sub); shortest(texts) > shortest(best) {
				best = texts
			}
		}
		return best
	case syntax.OpAlternate:
		var all []string
		for _, sub := range re.Sub {
			texts := needsOf(sub)
			if len(texts) == 0 {
				return nil
			}
			all = append(all, texts...)
		}
		return all
	}
	return nil
}

// shortest is the length of the shortest of some texts.
func shortest(texts []string) int {
	if len(texts) == 0 {
		return 0
	}
	least := math.MaxInt
	for _, text := range texts {
		least = min(least, len(text))
	}
	return least
}
