package main

import (
	"fmt"
	"strings"
)

// php is the PHP recorder's table: the members of each kind's lines, in their order.
func (t *formatTable) php() string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format, args...) }
	say("<?php\n\n// Generated from spec/events.yaml. Do not edit.\n\ndeclare(strict_types=1);\n\nnamespace KeenLantern\\Record;\n\n")
	say("/** The trace format, as spec/events.yaml has it. */\nfinal class Format\n{\n")
	say("    public const NAME = '%s';\n\n", t.Format)
	say("    /** The longest text of a line, in bytes of UTF-8. */\n    public const MAX_TEXT = %d;\n\n", t.MaxText)
	say("    /** The members of a line of each kind behind ev and t, in their order. */\n    public const MEMBERS = [\n")
	for _, k := range t.Kinds {
		var names []string
		for _, f := range k.Required {
			names = append(names, "'"+f.Name+"'")
		}
		for _, f := range t.Fields {
			for _, o := range k.Optional {
				if o.Name == f.Name {
					names = append(names, "'"+f.Name+"'")
				}
			}
		}
		say("        '%s' => [\n", k.Name)
		for _, name := range names {
			say("            %s,\n", name)
		}
		say("        ],\n")
	}
	say("    ];\n}\n")
	return b.String()
}
