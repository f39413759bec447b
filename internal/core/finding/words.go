package finding

import (
	"strconv"
	"strings"
)

// Number groups thousands by a narrow space.
func Number(n int64) string {
	s := strconv.FormatInt(n, 10)
	for at := len(s) - 3; at > 0 && s[at-1] != '-'; at -= 3 {
		s = s[:at] + "\u202f" + s[at:]
	}
	return s
}

// Count returns "1 scope" or "1 204 scopes".
func Count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Number(n) + " " + many
}

// Article returns the indefinite article that stands before a name.
func Article(name string) string {
	if name != "" && strings.ContainsRune("AEIOUaeiou", rune(name[0])) {
		return "an"
	}
	return "a"
}
