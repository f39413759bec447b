package patterns

import (
	"strings"
	"testing"
	"testing/quick"

	"github.com/stretchr/testify/assert"
)

func TestFits(t *testing.T) {
	for _, one := range []struct {
		pattern, name string
		fits          bool
	}{
		{"Ledger", "Ledger", true}, {"Ledger", "office.berth.Ledger", true}, {"berth.Ledger", "office.berth.Ledger", true},
		{"Ledger", "*berth.Ledger", true}, {"Ledger", "*office/berth.Ledger", true}, {"Ledger", `Office\Berth\Ledger`, true},
		{"Ledger", "office.Outer$Ledger", true}, {"edger", "office.Ledger", false}, {"Ledger", "office.LedgerBook", false},
		{"office.Ledger", "Ledger", false}, {"Fake*", "office.FakeWeather", true}, {"*Weather", "office.FakeWeather", true},
		{"Fake*", "office.NoFake", false}, {"*", "anything.at.all", true}, {"GET /tides/*", "GET /tides/{gauge}", true},
		{"a*b*c", "axxbyyc", true}, {"a*b*c", "axxbyy", false}, {"*a*a*a*a*a*a*a*b", strings.Repeat("a", 2000), false},
	} {
		assert.Equal(t, one.fits, Fits(one.pattern, one.name), "%s of %s", one.pattern, one.name)
	}
}

// It fits just what it would if each ending were tried by itself.
func TestFitsIsRight(t *testing.T) {
	slow := func(pattern, name string) bool {
		bare := strings.TrimLeft(name, "*[]&")
		fits := Glob(pattern, name) || Glob(pattern, bare)
		for n := range len(bare) {
			fits = fits || strings.IndexByte(separators, bare[n]) >= 0 && n+1 < len(bare) && Glob(pattern, bare[n+1:])
		}
		return fits
	}
	text := func(letters string, picks []uint8) string {
		out := ""
		for _, p := range picks[:min(len(picks), 9)] {
			out += letters[int(p)%len(letters) : int(p)%len(letters)+1]
		}
		return out
	}
	err := quick.Check(func(p, n []uint8) bool {
		pattern, name := text("ab.*", p), text("ab./*", n)
		return pattern == "" || Fits(pattern, name) == slow(pattern, name)
	}, &quick.Config{MaxCount: 200_000})
	assert.NoError(t, err)
}

// A short name means the one that it is short for, and no other.
func TestShorten(t *testing.T) {
	parts := []string{"office", "berth", "Ledger", "Tides", "*x"}
	err := quick.Check(func(picks [][]uint8) bool {
		seen := map[string]bool{}
		var names []string
		for _, pick := range picks {
			words := []string{}
			for _, p := range pick[:min(len(pick), 4)] {
				words = append(words, parts[int(p)%len(parts)])
			}
			if name := strings.Join(words, "."); name != "" && !seen[name] {
				seen[name] = true
				names = append(names, name)
			}
		}
		for name, short := range Shorten(names) {
			if found, clear := Among(short, names); !strings.Contains(short, "*") && (!clear || len(found) != 1 || found[0] != name) {
				t.Logf("%q for %q means %q among %q", short, name, found, names)
				return false
			}
		}
		return true
	}, &quick.Config{MaxCount: 3000})
	assert.NoError(t, err)
}

func TestNearest(t *testing.T) {
	known := []string{"implementation", "service", "key"}
	assert.Equal(t, "implementation", Nearest("implementaton", known))
	assert.Equal(t, "key", Nearest("kye", []string{"key"}))
	assert.Empty(t, Nearest("weather", known))
}

// TestDistance checks that long names are compared by the part in which they differ.
func TestDistance(t *testing.T) {
	long := strings.Repeat("example.saltmarsh.", 5)
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"", "", 0},
		{"tide", "", 4},
		{"tide", "tides", 1},
		{"kitten", "sitting", 3},
		{"aaa", "aa", 1},
		{long + "Tides", long + "Tugs", 3},
		{"Tides" + long, "Tugs" + long, 3},
		{strings.Repeat("a", 1000), strings.Repeat("b", 1000), 64},
	} {
		assert.Equal(t, c.want, Distance(c.a, c.b), "%s and %s", c.a, c.b)
	}
}
