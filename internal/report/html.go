package report

import (
	"fmt"
	"html/template"
	"io"
	"strings"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
)

// HTML writes one self-contained page: every finding with its evidence drawn. It loads nothing and runs no script.
func HTML(out io.Writer, r *engine.Result) error {
	return page.Execute(&visible{out: out}, struct {
		*engine.Result
		Ordered []*finding.Finding
		Totals  string
	}{r, causesFirst(r.Findings), Totals(r.Findings) + Accepted(r)})
}

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"health": func(h engine.Health) string { return HealthLine(&h) },
	"took":   Took,
	"number": finding.Number,
	"path":   pathLine,
	"seen":   seenLine,
	"first":  func(list []finding.Example) *finding.Example { return firstDrawn(list) },
	"draw":   draw,
	"told":   exampleLine,
}).Parse(`<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<title>Keen Lantern: {{range .Streams}}{{.App}} {{end}}</title>
<style>
:root { color-scheme: light dark; --line: #8a97a0; --bar: #6b8490; --bad: light-dark(#b3261e, #ff8a80); --warn: light-dark(#8a5a00, #f2c14e); }
body { font: 15px/1.5 system-ui, 'DejaVu Sans', sans-serif; max-width: 1180px; margin: 24px auto; padding: 0 20px; }
h1 { font-size: 1.4rem } h2 { font-size: 1.05rem; margin: 0 } p { margin: 4px 0; overflow-wrap: anywhere }
article { border: 1px solid var(--line); border-radius: 8px; padding: 14px 18px; margin: 16px 0 }
.error b { color: var(--bad) } .warning b { color: var(--warn) } small, code { opacity: .85 }
svg { display: block; width: 100%; height: auto } svg text { font-size: 11px; fill: currentColor }
.band { fill: var(--bar); fill-opacity: .12; stroke: var(--line) } .life { fill: var(--bar); fill-opacity: .4; stroke: currentColor }
.transient { stroke-dasharray: 5 3 } .external { stroke-dasharray: 1.5 3 } .singleton { stroke-width: 2.5 }
.end { stroke: currentColor; fill: none; stroke-width: 2 } .after { stroke: var(--bad); stroke-width: 2.2; fill: none } .use { stroke: currentColor; fill: none }
</style>
</head>
<body>
<h1>{{.Totals}}</h1>
{{range .Streams}}<p>{{.App}} {{.Version}} {{.Environment}}: {{number .Figures.Scopes}} scopes, {{number .Figures.Instances}} instances, {{number .Figures.Events}} events in {{took .Lasted}}; {{health .Health}}</p>
{{range .Health.Refusals}}<p><small>line {{.Line}} refused: {{.Why}}</small></p>{{end}}{{end}}
{{range .Ordered}}<article class="{{.Severity}}" id="{{.ID}}">
<p><b>{{.Severity}}</b> {{.Rule}} <code>{{.ID}}</code>{{with .Because}} follows from <a href="#{{.}}">{{.}}</a>{{end}}</p>
<h2>{{.Title}}</h2>
<p><code>{{path .}}</code></p>
<p>{{.Why}}</p>
<p><strong>What to change:</strong> {{.Fix}}</p>
{{with .Caveat}}<p><em>{{.}}</em></p>{{end}}
{{with first .Examples}}{{draw .Evidence}}{{end}}
<p><small>{{seen .}}</small></p>
{{range .Examples}}<p><small>as in {{told .}}</small></p>
{{end}}</article>
{{end}}{{range .Accepted}}<p><small>Accepted: {{.Finding.Rule}} <code>{{.Finding.ID}}</code> {{.Finding.Title}} ({{.Reason}})</small></p>
{{end}}</body>
</html>
`))

func firstDrawn(list []finding.Example) *finding.Example {
	for n := range list {
		if e := list[n].Evidence; e != nil && len(e.Lives) > 0 && e.To > e.From {
			return &list[n]
		}
	}
	return nil
}

// draw makes an SVG of an example: lives as bars over their scopes, uses as ticks, those after an end as crosses.
func draw(ev *finding.Evidence) template.HTML {
	const width, labels, top, row = 1100, 230, 30, 46
	at := evened(ev, width-labels-20)
	x := func(t int64) int { return labels + at(min(max(t, ev.From), ev.To)) }
	height := top + row*len(ev.Lives) + 6
	b := &strings.Builder{}
	text := func(s string) string { return template.HTMLEscapeString(s) }
	fmt.Fprintf(b, `<svg viewBox="0 0 %d %d" role="img" aria-label="the example in time">`, width, height)
	for _, s := range ev.Scopes {
		to := width - 10
		if s.Closed != nil {
			to = max(x(*s.Closed), x(s.Opened)+3)
		}
		fmt.Fprintf(b, `<g><title>scope %d %s</title><rect class="band" x="%d" y="4" width="%d" height="%d"/><text x="%d" y="15">%d</text></g>`,
			s.Scope, text(s.Name), x(s.Opened), to-x(s.Opened), height-8, x(s.Opened)+3, s.Scope)
	}
	for n, l := range ev.Lives {
		y, to := top+n*row, width-14
		if l.Ended != nil {
			to = max(x(*l.Ended), x(l.Made)+3)
		}
		fmt.Fprintf(b, `<text x="0" y="%d">%s, %s</text><text x="0" y="%d">%s</text>`, y+8, text(Shorten(l.Of.Name(), 24)), l.Role, y+22, l.Mark)
		fmt.Fprintf(b, `<g><title>%s: %s, %s</title><rect class="life %s" x="%d" y="%d" width="%d" height="14"/>`, l.Mark, text(l.Of.Name()), l.End, class(l.Of.Lifetime), x(l.Made), y, to-x(l.Made))
		switch l.End {
		case "disposed":
			fmt.Fprintf(b, `<path class="end" d="M%d %d v20"/>`, to, y-3)
		case "alive":
			fmt.Fprintf(b, `<path class="end" d="M%d %d l7 7 l-7 7"/>`, to, y)
		default:
			fmt.Fprintf(b, `<path class="end" d="M%d %d l4 3.500 l-4 3.500 l4 3.500 l-4 3.500"/>`, to, y)
		}
		b.WriteString("</g>")
		for _, u := range ev.Uses {
			switch {
			case u.Instance != l.Instance:
			case u.After:
				fmt.Fprintf(b, `<path class="after" d="M%d %d l8 8 m0 -8 l-8 8"><title>%s after its end</title></path>`, x(u.At)-4, y+3, u.Kind)
			default:
				fmt.Fprintf(b, `<path class="use" d="M%d %d v5"><title>%s</title></path>`, x(u.At), y-5, u.Kind)
			}
		}
	}
	b.WriteString("</svg>")
	return template.HTML(b.String()) // every text from the trace was escaped above
}

// class is one of the lifetimes the style knows: any other text of a trace stays out of the markup.
func class(lifetime string) string {
	switch lifetime {
	case "singleton", "scoped", "transient", "per-consumer", "external":
		return lifetime
	}
	return "other"
}
