package advisory

import (
	"fmt"
	"slices"
	"strings"

	cvss20 "github.com/pandatix/go-cvss/20"
	cvss30 "github.com/pandatix/go-cvss/30"
	cvss31 "github.com/pandatix/go-cvss/31"
	cvss40 "github.com/pandatix/go-cvss/40"
)

// Severity is how bad a hole is, in a notation that the type names.
type Severity struct {
	Type  string `json:"type"`
	Score string `json:"score"` // a vector
}

// A Level is a severity in words (CVSS 4.0, 6).
type Level string

// The levels, in rising order.
const (
	Unknown  Level = "unknown"
	None     Level = "none"
	Low      Level = "low"
	Medium   Level = "medium"
	High     Level = "high"
	Critical Level = "critical"
)

// Levels are those with which holes can be compared, in rising order.
var Levels = []Level{Low, Medium, High, Critical}

// Rank orders levels. What is unknown may be anything, and is above all others.
func (l Level) Rank() int {
	return map[Level]int{None: 0, Low: 1, Medium: 2, High: 3, Critical: 4, Unknown: 5}[l]
}

// A Score is the severity of a hole; 0 is its value where only the level is known.
type Score struct {
	Level  Level   `json:"level"`
	Value  float64 `json:"value,omitempty"` // 0 to 10
	Vector string  `json:"vector,omitempty"`
}

func (s Score) String() string {
	if s.Value == 0 {
		return string(s.Level)
	}
	return fmt.Sprintf("%s %.1f", s.Level, s.Value)
}

// score is the worst severity that an entry states.
func (e *Entry) score() Score {
	all := slices.Clone(e.Severity)
	for _, a := range e.Affected {
		all = append(all, a.Severity...)
	}
	worst := Score{Level: Unknown}
	for _, s := range all {
		if value, ok := valueOf(s.Score); ok && (worst.Vector == "" || value > worst.Value) {
			worst = Score{levelOf(value), value, s.Score}
		}
	}
	if worst.Vector != "" {
		return worst
	}
	for _, s := range all { // as some distributions write it
		if l := levelIn(s.Score); l != Unknown && (worst.Level == Unknown || l.Rank() > worst.Level.Rank()) {
			worst.Level = l
		}
	}
	if worst.Level == Unknown {
		worst.Level = levelIn(e.Specific.Severity)
	}
	for _, a := range e.Affected {
		if worst.Level == Unknown {
			worst.Level = levelIn(a.Specific.Severity)
		}
	}
	return worst
}

// valueOf is the score of a CVSS vector.
func valueOf(vector string) (float64, bool) {
	const most = 500
	if len(vector) > most {
		return 0, false
	}
	switch head, _, _ := strings.Cut(vector, "/"); head {
	case "CVSS:4.0":
		if v, err := cvss40.ParseVector(vector); err == nil {
			return v.Score(), true
		}
	case "CVSS:3.1":
		if v, err := cvss31.ParseVector(vector); err == nil {
			return v.BaseScore(), true
		}
	case "CVSS:3.0":
		if v, err := cvss30.ParseVector(vector); err == nil {
			return v.BaseScore(), true
		}
	default:
		if v, err := cvss20.ParseVector(vector); err == nil {
			return v.BaseScore(), true
		}
	}
	return 0, false
}

// levelOf is the level of a score (CVSS 3.1, 5; 4.0, 6).
func levelOf(value float64) Level {
	switch {
	case value == 0:
		return None
	case value < 4:
		return Low
	case value < 7:
		return Medium
	case value < 9:
		return High
	}
	return Critical
}

func levelIn(text string) Level {
	switch strings.ToLower(text) {
	case "low", "negligible", "minor":
		return Low
	case "medium", "moderate":
		return Medium
	case "high", "important":
		return High
	case "critical":
		return Critical
	}
	return Unknown
}
