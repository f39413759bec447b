package uberfx

import (
	"regexp"
	"strconv"
	"strings"
)

// key is how fx names what is provided.
type key struct{ of, name, group string }

// need is what a constructor asks for.
type need struct {
	key
	optional bool
}

// The lines of fx's graph that are of use: an edge from a constructor, counted in the order in which they were provided, to what
// it needs, dashed where that is optional: constructor_4 -> "*main.Tides[name=gauge]" [ltail=cluster_4 style=dashed];
var edge = regexp.MustCompile(`(?m)^\s*constructor_(\d+) -> "((?:[^"\\]|\\.)*)" \[(.*)\];$`)

// parse returns what each constructor needs, from a graph in the DOT language.
func parse(graph string) map[int][]need {
	needs := map[int][]need{}
	for _, m := range edge.FindAllStringSubmatch(graph, -1) {
		n, err := strconv.Atoi(m[1])
		if err != nil {
			continue
		}
		needs[n] = append(needs[n], need{keyOf(m[2]), strings.Contains(m[3], "dashed")})
	}
	return needs
}

// keyOf reads fx's name of something: *main.Tides, *main.Tides[name=gauge], *main.Tides[name = "gauge"],
// *main.Tides[group = "g"] or [type=*main.Tides group=g].
func keyOf(text string) key {
	if rest, ok := strings.CutPrefix(text, "[type="); ok {
		of, group, _ := strings.Cut(strings.TrimSuffix(rest, "]"), " group=")
		return key{of: of, group: group}
	}
	for _, part := range []string{"name", "group"} {
		for _, equals := range []string{"=", " = "} {
			at := strings.LastIndex(text, "["+part+equals)
			if at < 0 || !strings.HasSuffix(text, "]") {
				continue
			}
			value := text[at+len("["+part+equals) : len(text)-1]
			if plain, err := strconv.Unquote(value); err == nil {
				value = plain
			}
			k := key{of: text[:at]}
			if part == "name" {
				k.name = value
			} else {
				k.group = value
			}
			return k
		}
	}
	return key{of: text}
}

// basic is what nobody shares as a service.
var basic = regexp.MustCompile(`^(\[\d*\]|\*|map\[\w+\])*(bool|string|byte|rune|u?int(8|16|32|64)?|uintptr|float(32|64)|complex(64|128)|error|time\.(Time|Duration|Location))$`)
