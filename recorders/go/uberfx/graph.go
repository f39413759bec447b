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

// node is a constructor in fx's graph.
type node struct {
	pkg, label string
	logger     bool // it provides fx's logger, for which fx emits no event
	needs      []need
}

// The lines of fx's graph that are of use: a cluster for each constructor, with its package, its name and what it provides; and an edge
// from it to each thing that it needs, dashed where that is optional:
//
//	subgraph cluster_4 {
//		label = "example.org/harbour";
//		constructor_4 [shape=plaintext label="NewDesk"];
//		"*main.Desk" [label=<*main.Desk>];
//	}
//	constructor_4 -> "*main.Tides[name=gauge]" [ltail=cluster_4 style=dashed];
var (
	cluster     = regexp.MustCompile(`^\s*subgraph cluster_(\d+) \{$`)
	packageLine = regexp.MustCompile(`^\s*label = "(.*)";$`)
	constructor = regexp.MustCompile(`^\s*constructor_\d+ \[shape=plaintext label="(.*)"\];$`)
	provides    = regexp.MustCompile(`^\s*"((?:[^"\\]|\\.)*)" \[label=<`)
	edge        = regexp.MustCompile(`^\s*constructor_(\d+) -> "((?:[^"\\]|\\.)*)" \[(.*)\];$`)
)

// parse returns the constructors of a graph in the DOT language, in its order.
func parse(graph string) (nodes []node) {
	at := map[string]int{}
	inside := false
	for line := range strings.Lines(graph) {
		line = strings.TrimRight(line, "\n")
		if m := cluster.FindStringSubmatch(line); m != nil {
			at[m[1]] = len(nodes)
			nodes = append(nodes, node{})
			inside = true
			continue
		}
		if m := edge.FindStringSubmatch(line); m != nil {
			if n, ok := at[m[1]]; ok {
				nodes[n].needs = append(nodes[n].needs, need{keyOf(m[2]), strings.Contains(m[3], "dashed")})
			}
			continue
		}
		if !inside {
			continue
		}
		last := &nodes[len(nodes)-1]
		if m := packageLine.FindStringSubmatch(line); m != nil {
			last.pkg = m[1]
		} else if m := constructor.FindStringSubmatch(line); m != nil {
			last.label = m[1]
		} else if m := provides.FindStringSubmatch(line); m != nil {
			last.logger = last.logger || m[1] == "fxevent.Logger"
		} else if strings.TrimSpace(line) == "}" {
			inside = false
		}
	}
	return nodes
}

// may reports whether a node may be the given constructor. A function made by reflection has no name in the graph.
func (n *node) may(p *provided) bool {
	if n.logger {
		return false
	}
	if n.pkg == "reflect" && n.label == "makeFuncStub" {
		return true
	}
	return p.name == n.pkg+"."+n.label+"()"
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

// basic reports values that are not shared as services.
var basic = regexp.MustCompile(`^(\[\d*\]|\*|map\[\w+\])*(bool|string|byte|rune|u?int(8|16|32|64)?|uintptr|float(32|64)|complex(64|128)|error|time\.(Time|Duration|Location))$`)
