package cli

import (
	"math"
	"strconv"
	"strings"
	"time"
)

// parseAge reads an age as people type it: 12h, 30d, 8w. "" is 0.
func parseAge(text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	units := map[byte]time.Duration{'h': time.Hour, 'd': 24 * time.Hour, 'w': 7 * 24 * time.Hour}
	unit, known := units[text[len(text)-1]]
	n, err := strconv.ParseFloat(text[:len(text)-1], 64)
	if !known || err != nil || n < 0 || math.IsNaN(n) || n*float64(unit) > math.MaxInt64 {
		return 0, usage("%q is not an age; write 12h, 30d or 8w", text)
	}
	return time.Duration(n * float64(unit)), nil
}

// parseSize reads a size as people type it: 500kB, 100MB, 2GB. "" is 0.
func parseSize(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	number := strings.TrimRight(strings.ToLower(text), "bkmg")
	unit, known := map[string]float64{"b": 1, "": 1, "k": 1e3, "kb": 1e3, "m": 1e6, "mb": 1e6, "g": 1e9,
		"gb": 1e9}[strings.ToLower(text)[len(number):]]
	n, err := strconv.ParseFloat(number, 64)
	if !known || err != nil || n < 0 || math.IsNaN(n) || n*unit > math.MaxInt64/2 {
		return 0, usage("%q is not a size; write 500kB, 100MB or 2GB", text)
	}
	return int64(n * unit), nil
}
