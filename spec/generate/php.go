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
	say("    /** The members of a line of each kind behind ev and t, and each one's place among them. */\n    public const MEMBERS = [\n")
	for _, k := range t.Kinds {
		say("        '%s' => [\n", k.Name)
		for n, f := range t.members(k) {
			say("            '%s' => %d,\n", f.Name, n)
		}
		say("        ],\n")
	}
	say("    ];\n}\n")
	return b.String()
}
