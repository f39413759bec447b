package report

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Took rounds a duration in ns for reading: "3.4 ms", "12 s", "1 h 04 min".
func Took(ns int64) string {
	d := time.Duration(ns)
	switch {
	case d < 0:
		return "-" + Took(-ns)
	case d < time.Microsecond:
		return fmt.Sprintf("%d ns", ns)
	case d < time.Millisecond:
		return three(float64(ns)/1e3) + " µs"
	case d < time.Second:
		return three(float64(ns)/1e6) + " ms"
	case d < time.Minute:
		return three(float64(ns)/1e9) + " s"
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", d/time.Minute, d%time.Minute/time.Second)
	}
	return fmt.Sprintf("%d h %02d min", d/time.Hour, d%time.Hour/time.Minute)
}

// three writes about three digits.
func three(f float64) string {
	switch {
	case f >= 100:
		return strconv.FormatFloat(f, 'f', 0, 64)
	case f >= 10:
		return strings.TrimSuffix(strconv.FormatFloat(f, 'f', 1, 64), ".0")
	}
	return strings.TrimSuffix(strconv.FormatFloat(f, 'f', 2, 64), ".00")
}
