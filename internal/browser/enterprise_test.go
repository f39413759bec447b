package browser_test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
)

// tooWide names elements that stick out of the page, but for what scrolls within itself.
const tooWide = `JSON.stringify([...document.querySelectorAll('main *')].filter(e => { const r = e.getBoundingClientRect()
	return r.width > 1 && r.right > document.documentElement.clientWidth + 1 && !e.closest('svg, .v-table__wrapper, .board, .plane, .v-overlay, .scroll') })
	.slice(0, 4).map(e => e.tagName + '.' + e.className + ' ' + e.textContent.slice(0, 30)))`

// tooNarrow names columns of tables that are under twelve characters wide and hold longer texts. Numbers and marks are short.
const tooNarrow = `JSON.stringify([...document.querySelectorAll('main .v-table td')].filter(e => {
	const text = e.innerText.trim(), style = getComputedStyle(e), inner = e.clientWidth - parseFloat(style.paddingLeft) - parseFloat(style.paddingRight)
	return text.length > 14 && !e.classList.contains('num') && e.clientWidth > 0 && inner < 12 * parseFloat(style.fontSize) * 0.5 })
	.slice(0, 4).map(e => e.clientWidth + ' ' + e.innerText.slice(0, 40)))`

// TestEnterprise opens every page of an application of ordinary size in both sizes: nothing sticks out, no column is too narrow to read, and
// axe finds nothing.
func TestEnterprise(t *testing.T) {
	s, _ := open(t, usual)
	w := load.Enterprise.New("dotnet-1", 8)
	put(t, s, http.MethodPost, "/api/v1/recordings", string(append(bytes.Clone(w.Requests(1200)), w.End()...)))
	var groups views.FindingGroups
	ask(t, s, "/api/v1/recordings/latest/triage", &groups)
	require.Len(t, groups.Groups, 3)
	axe, err := os.ReadFile(filepath.Join("..", "..", "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	at := "/recordings/latest"
	pages := [][2]string{
		{at, "[data-card]"}, {at + "/findings", "[data-finding]"}, {at + "/findings?group=" + groups.Groups[0].Key, "[data-group-findings] td"}, {at + "/findings?by=place", "[data-finding]"},
		{at + "/findings/" + groups.Groups[0].Lead.ID, "[data-evidence]"}, {at + "/registrations", "[data-registration]"}, {at + "/registrations?open=1", "[data-registration]"},
		{at + "/registrations?view=graph", "[data-wiring]"}, {at + "/registrations?view=graph&focus=0", "[data-wiring]"}, {at + "/registrations?view=graph&service=Handler", "[data-wiring]"},
		{at + "/sharing?last=50&depth=8", "[data-board-row]"}, {at + "/scopes", "canvas"}, {at + "/scopes/40", "[data-construction]"}, {at + "/scopes/40?each=true", "[data-construction]"}, {at + "/disposal", "[data-alive]"},
		{at + "/keys?all=true", "[data-key]"}, {at + "/layers", "[data-layer]"}, {at + "/costs", "[data-cost]"}, {at + "/contract", "[data-none]"}, {at + "/whatif", "[data-propose]"},
		{"/compare?a=latest&b=latest", "[data-compared]"},
	}
	for _, view := range []browser.View{{Width: 1280, Height: 800}, {Width: 1920, Height: 1080, Dark: true}} {
		p := page(t, s, view)
		for _, one := range pages {
			about := fmt.Sprintf("%s at %d", one[0], view.Width)
			began := time.Now()
			require.NoError(t, p.Go(one[0]), about)
			require.NoError(t, p.Wait(one[1]), about)
			t.Logf("%s: %d ms", about, time.Since(began).Milliseconds())
			assert.True(t, truth(t, p, "document.documentElement.scrollWidth <= window.innerWidth"), "%s sticks out", about)
			for what, expression := range map[string]string{"sticks out": tooWide, "is too narrow": tooNarrow} {
				said, err := p.Value(expression)
				require.NoError(t, err)
				assert.Equal(t, "[]", said, "%s: %s", about, what)
			}
			if view.Dark { // TestAccessible has every page in dark
				continue
			}
			require.NoError(t, p.Run(string(axe)))
			require.NoError(t, p.Run(`window.axed = undefined; axe.run(document, {resultTypes: ['violations']}).then(r => { window.axed = r.violations
				.filter(v => v.impact === 'serious' || v.impact === 'critical').map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160) + ' ' + (n.any[0]?.message ?? '')).join(' | ')) })`))
			soon(t, p, "window.axed !== undefined")
			said, err := p.Value("window.axed.join('\\n')")
			require.NoError(t, err)
			assert.Empty(t, said, about)
		}
	}
}

// TestTriage opens a cause to its findings, goes from modules to registrations, looks for one, and accepts what is found.
func TestTriage(t *testing.T) {
	s, p := open(t, usual)
	w := load.Enterprise.New("java-1", 8)
	put(t, s, http.MethodPost, "/api/v1/recordings", string(append(bytes.Clone(w.Requests(1200)), w.End()...)))
	require.NoError(t, p.Go("/recordings/latest/findings"))
	require.NoError(t, p.Wait("[data-finding]"))
	assert.Equal(t, 3, count(t, p, "[data-cause]"))
	assert.Contains(t, text(t, p, "[data-cause]"), "is kept by 340 registrations that outlive it")
	require.NoError(t, p.Click("[data-open-group]"))
	require.NoError(t, p.Wait("[data-group-findings] tbody tr"))
	assert.Equal(t, 20, count(t, p, "[data-group-findings] tbody tr"))
	assert.True(t, truth(t, p, "location.search.includes('group=')"))

	require.NoError(t, p.Go("/recordings/latest/registrations?view=graph"))
	require.NoError(t, p.Wait("[data-wiring]"))
	assert.Equal(t, 6, count(t, p, ".node.module"))
	assert.Positive(t, count(t, p, ".plane .edge.wrong"), "lines from longer- to shorter-lived stand out between modules too")
	open := `document.querySelector('.node.module').dispatchEvent(new MouseEvent('click', {bubbles: true}))`
	require.NoError(t, p.Run(open))
	soon(t, p, `document.querySelector('[data-wiring]') && document.querySelectorAll('.node.module').length > 6`)
	require.NoError(t, p.Type(".seek input", "LedgerMooringValidator2"))
	require.NoError(t, p.Press("\r"))
	soon(t, p, `location.search.includes('service=') && document.querySelector('[data-wiring]') && document.querySelectorAll('.node:not(.module)').length > 10`)

	require.NoError(t, p.Go("/recordings/latest/scopes/40"))
	require.NoError(t, p.Wait("[data-longest]"))
	rows := count(t, p, "[data-built] tbody tr")
	assert.Less(t, rows, 231, "repeated constructions are one row")
	require.NoError(t, p.Type("[data-seek-built] input", "Validator"))
	soon(t, p, fmt.Sprintf(`document.querySelectorAll('[data-built] tbody tr').length < %d`, rows))

	require.NoError(t, p.Go("/recordings/latest/findings"))
	require.NoError(t, p.Click("[data-adopt]"))
	require.NoError(t, p.Type("[data-reason] input", "an old application"))
	require.NoError(t, p.Click("[data-accept]"))
	soon(t, p, "document.querySelector('[data-accepted]')?.textContent.includes('1462')")
	assert.Zero(t, count(t, p, "[data-cause]"))
}
