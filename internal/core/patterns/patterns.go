// Package patterns matches the names of services, implementations and scopes as people write them.
package patterns

import (
	"cmp"
	"slices"
	"strings"
)

// separators stand between the parts of a name: packages, folders, enclosing types, in the languages that are recorded.
const separators = `./\:$#`

// Fits reports whether a pattern is a name's: the whole of it, or the last parts of it. A * stands for any text. It takes time in
// proportion to the name and, where there is a *, to the product of both.
func Fits(pattern, name string) bool {
	if Glob(pattern, name) {
		return true
	}
	bare := strings.TrimLeft(name, "*[]&")
	if !strings.Contains(pattern, "*") {
		at := len(bare) - len(pattern)
		return strings.HasSuffix(bare, pattern) && (at == 0 || pattern != "" && strings.IndexByte(separators, bare[at-1]) >= 0)
	}
	// All endings at once: where in the pattern each of them may be.
	at := make([]bool, len(pattern)+1)
	for n := 0; n <= len(bare); n++ {
		if n < len(bare) && (n == 0 || strings.IndexByte(separators, bare[n-1]) >= 0) {
			at[0] = true
		}
		for p := range len(pattern) {
			if pattern[p] == '*' && at[p] {
				at[p+1] = true // it stands for nothing
			}
		}
		if n == len(bare) {
			break
		}
		for p := len(pattern); p > 0; p-- {
			stays := p < len(pattern) && pattern[p] == '*' && at[p]
			at[p] = stays || pattern[p-1] != '*' && at[p-1] && pattern[p-1] == bare[n]
		}
		at[0] = pattern[0] == '*' && at[0]
	}
	return at[len(pattern)]
}

// Glob reports whether a pattern is the whole of a text. It takes time in proportion to the product of both at most.
func Glob(pattern, text string) bool {
	p, t, star, back := 0, 0, -1, 0
	for t < len(text) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, back = p, t
			p++
		case p < len(pattern) && pattern[p] == text[t]:
			p++
			t++
		case star >= 0:
			back++
			p, t = star+1, back
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}

// Among returns which of some names a pattern means. Without a * it means one; where it could be several, these are returned with
// false.
func Among(pattern string, names []string) ([]string, bool) {
	var found []string
	for _, name := range names {
		if name == pattern {
			return []string{name}, true
		}
		if Fits(pattern, name) {
			found = append(found, name)
		}
	}
	return found, len(found) < 2 || strings.Contains(pattern, "*")
}

// maxParts is how many of its last parts a short name has at most; a longer one is written whole.
const maxParts = 8

// Shorten returns for each name the fewest of its last parts that mean no other one.
func Shorten(names []string) map[string]string {
	out := make(map[string]string, len(names))
	owners := map[string]int{}
	endings := func(name string, f func(string) bool) {
		bare := strings.TrimLeft(name, "*[]&")
		for n, parts := len(bare)-1, 0; n >= 0 && parts < maxParts; n-- {
			if strings.IndexByte(separators, bare[n]) >= 0 && n+1 < len(bare) {
				if parts++; !f(bare[n+1:]) {
					return
				}
			}
		}
		f(bare)
	}
	for _, name := range names {
		endings(name, func(end string) bool { owners[end]++; return true })
	}
	for _, name := range names {
		out[name] = name
		endings(name, func(end string) bool {
			if owners[end] == 1 && !strings.Contains(end, "*") {
				out[name] = end
				return false
			}
			return true
		})
	}
	return out
}

// Nearest returns the known word that a mistyped one is most like, "" where none is like it.
func Nearest(word string, known []string) string {
	best, least := "", max(2, len(word)/3)+1
	for _, k := range slices.SortedFunc(slices.Values(known), cmp.Compare[string]) {
		if d := Distance(strings.ToLower(word), strings.ToLower(k)); d < least {
			best, least = k, d
		}
	}
	return best
}

// Distance is how many letters must be changed, added or left out (V. I. Levenshtein, 1966). What both begin or end with changes nothing of it;
// of long words, the rest is cut: they are no near miss.
func Distance(a, b string) int {
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	a, b = a[:min(len(a), 64)], b[:min(len(b), 64)]
	row := make([]int, len(b)+1)
	for n := range row {
		row[n] = n
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			changed := diagonal
			if a[i] != b[j] {
				changed++
			}
			diagonal = row[j+1]
			row[j+1] = min(changed, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
