package contract

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/triage"
)

// Adoption is what Adopt did.
type Adoption struct {
	Text     []byte // of the contract, with the findings accepted
	Accepted int    // newly accepted findings
	Before   int    // findings that were accepted before
}

// MaxReason bounds the reason of an adoption, in bytes.
const MaxReason = 300

// Adopt accepts findings in a contract until the end of a day, with a reason. Text is the contract's, or empty if the application has none.
// The rest of the text is unchanged, comments included. Findings that the contract accepts already keep their reason and day; expired
// acceptances are renewed.
func Adopt(name, app string, text []byte, findings []*finding.Finding, reason string, until, now time.Time) (*Adoption, error) {
	reason = strings.TrimSpace(reason)
	switch {
	case reason == "":
		return nil, errors.New("an accepted finding needs a reason")
	case len(reason) > MaxReason:
		return nil, fmt.Errorf("the reason has %d bytes; it has at most %d", len(reason), MaxReason)
	case !until.AddDate(0, 0, 1).After(now):
		return nil, fmt.Errorf("findings are accepted until a day to come, and %s is over", until.Format(time.DateOnly))
	}
	if len(strings.TrimSpace(string(text))) == 0 {
		text = fmt.Appendf(nil, "contract: %s\napplication: %s\n", Format, yamlText(app))
	}
	c, err := Read(name, text)
	if err != nil {
		return nil, err
	}
	if c.Application != app {
		return nil, fmt.Errorf("the contract is for the application %q, and the findings are of %q", c.Application, app)
	}
	out := &Adoption{}
	held := map[string]time.Time{}
	for _, a := range c.Accepted {
		held[a.Finding] = a.Until
	}
	expired := map[string]bool{}
	var fresh []*finding.Finding
	for _, f := range findings {
		switch day, ok := held[f.ID]; {
		case !ok:
			fresh = append(fresh, f)
		case now.Before(day):
			out.Before++
			continue
		default:
			expired[f.ID] = true
		}
		out.Accepted++
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, syntax(name, err) // Read has parsed the same
	}
	section := sectionOf(file.Docs[0].Body, "accepted")
	renew(lines, section, expired, until)
	if len(fresh) > 0 {
		lines = insert(lines, section, fresh, reason, until)
	}
	out.Text = []byte(strings.Join(lines, "\n") + "\n")
	if _, err := Read(name, out.Text); err != nil {
		return nil, fmt.Errorf("the contract cannot take %s: %w", finding.Count(int64(out.Accepted), "finding", "findings"), err)
	}
	return out, nil
}

// yamlText writes a text so that YAML reads it as just that.
func yamlText(text string) string {
	b, _ := json.Marshal(text) // a JSON string is one of YAML; a text always has one
	return string(b)
}

// sectionOf returns a section of a contract, nil where it has none.
func sectionOf(body ast.Node, name string) *ast.MappingValueNode {
	switch m := body.(type) {
	case *ast.MappingNode:
		for _, v := range m.Values {
			if v.Key.GetToken().Value == name {
				return v
			}
		}
	case *ast.MappingValueNode:
		if m.Key.GetToken().Value == name {
			return m
		}
	}
	return nil
}

// renew sets the days of expired acceptances.
func renew(lines []string, section *ast.MappingValueNode, expired map[string]bool, until time.Time) {
	if section == nil || len(expired) == 0 {
		return
	}
	list, ok := section.Value.(*ast.SequenceNode)
	if !ok {
		return
	}
	for _, entry := range list.Values {
		id, day := sectionOf(entry, "finding"), sectionOf(entry, "until")
		if id == nil || day == nil || !expired[id.Value.GetToken().Value] {
			continue
		}
		at := day.Value.GetToken().Position
		line := []rune(lines[at.Line-1])
		old := []rune(day.Value.GetToken().Value)
		if from := at.Column - 1; from+len(old) <= len(line) && slices.Equal(line[from:from+len(old)], old) {
			lines[at.Line-1] = string(line[:from]) + until.Format(time.DateOnly) + string(line[from+len(old):])
		}
	}
}

// insert adds acceptances before those that a contract has: behind the section's name, or in its bracket; a section of their own where there
// is none.
func insert(lines []string, section *ast.MappingValueNode, findings []*finding.Finding, reason string, until time.Time) []string {
	entry := func(f *finding.Finding) string {
		return fmt.Sprintf("{finding: %s, reason: %s, until: %s}", f.ID, yamlText(reason), until.Format(time.DateOnly))
	}
	if section != nil {
		if list, ok := section.Value.(*ast.SequenceNode); ok && list.IsFlowStyle {
			at := list.Start.Position
			line := []rune(lines[at.Line-1])
			rows := []string{string(line[:at.Column])}
			for _, f := range findings {
				rows = append(rows, "  "+entry(f)+",")
			}
			return slices.Concat(lines[:at.Line-1], rows, []string{"  " + string(line[at.Column:])}, lines[at.Line:])
		}
	}
	indent := "  "
	before, after := lines, []string(nil)
	var rows []string
	if section == nil {
		rows = append(rows, "", "accepted:")
	} else {
		at := section.Key.GetToken().Position.Line
		before, after = lines[:at], lines[at:]
		if list, ok := section.Value.(*ast.SequenceNode); ok && list.Start != nil {
			indent = strings.Repeat(" ", list.Start.Position.Column-1)
		}
	}
	for _, g := range triage.Groups(findings, triage.Cause) {
		rows = append(rows, indent+comment(g))
		for _, f := range g.Members() {
			rows = append(rows, indent+"- "+entry(f))
		}
	}
	return slices.Concat(before, rows, after)
}

// comment names a group of findings in one line of a contract.
func comment(g *triage.Group) string {
	title := strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == 0x2028 || r == 0x2029 {
			return ' '
		}
		return r
	}, g.Title)
	const most = 200
	if short := []rune(title); len(short) > most {
		title = string(short[:most]) + "…"
	}
	// Read counts brackets in comments too: what is open has to be closed.
	if strings.Count(title, "[") != strings.Count(title, "]") || strings.Count(title, "{") != strings.Count(title, "}") {
		title = strings.NewReplacer("[", "(", "]", ")", "{", "(", "}", ")").Replace(title)
	}
	return "# " + title
}
