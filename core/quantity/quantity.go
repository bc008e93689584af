// Package quantity writes times, sizes and counts as people read them.
package quantity

import (
	"fmt"
	"time"
)

// Duration shows a time span in two digits or so: 0.3 s, 12 s, 4 min, 2 h 10 min.
func Duration(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()+0.5))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()+0.5))
	}
	minutes := int(d.Minutes() + 0.5)
	return fmt.Sprintf("%d h %d min", minutes/60, minutes%60)
}

// Seconds shows a time span that is a number of seconds.
func Seconds(s float64) string { return Duration(time.Duration(s * float64(time.Second))) }

// Bytes shows a size in decimal units: 840 B, 12 kB, 3.4 MB.
func Bytes(n int64) string {
	size := float64(n)
	for _, unit := range []string{"B", "kB", "MB", "GB"} {
		if size < 999.5 || unit == "GB" {
			if size < 9.95 && unit != "B" {
				return fmt.Sprintf("%.1f %s", size, unit)
			}
			return fmt.Sprintf("%.0f %s", size, unit)
		}
		size /= 1000
	}
	return ""
}

// Count says how many there are of something: 1 package, 2 packages.
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}
