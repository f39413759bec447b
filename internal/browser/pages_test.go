package browser_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
)

// demoData is a data folder with both versions of the demo, recorded once for all tests.
var demoData = sync.OnceValues(func() (string, error) {
	folder, err := os.MkdirTemp("", "keenlantern-demo")
	if err != nil {
		return "", err
	}
	said, err := exec.Command(bin, "demo", "--once", "--listen", "127.0.0.1:0", "--data", folder).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("run the demo: %w: %s", err, said)
	}
	return folder, nil
})

// demo starts a service on a copy of the demo's data.
func demo(t *testing.T) *browser.Service {
	t.Helper()
	if why != "" {
		t.Skip(why)
	}
	from, err := demoData()
	require.NoError(t, err)
	data := t.TempDir()
	require.NoError(t, os.CopyFS(data, os.DirFS(from)))
	s, err := browser.Serve(bin, "serve", data)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Stop()) })
	return s
}

func ask(t *testing.T, s *browser.Service, path string, into any) {
	t.Helper()
	res, err := http.Get(s.URL + path)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode, path)
	require.NoError(t, json.NewDecoder(res.Body).Decode(into))
}

func truth(t *testing.T, p *browser.Page, condition string) bool {
	t.Helper()
	is, err := p.Truth(condition)
	require.NoError(t, err)
	return is
}

// soon waits for a condition in the page.
func soon(t *testing.T, p *browser.Page, condition string) {
	t.Helper()
	require.Eventually(t, func() bool { is, err := p.Truth(condition); return err == nil && is }, 30*time.Second, 50*time.Millisecond, condition)
}

// allPages lists every page of a recording with what is there when it is ready.
func allPages(finding, scope string) [][2]string {
	at := "/recordings/latest"
	return [][2]string{
		{"/recordings", "[data-recording]"}, {at, "canvas"}, {at + "/findings", "[data-finding]"}, {at + "/findings/" + finding, "[data-evidence]"},
		{at + "/sharing", "[data-board-row]"}, {at + "/scopes", "canvas"}, {at + "/scopes/" + scope, "[data-construction]"},
		{at + "/registrations", "[data-registration]"}, {at + "/registrations?view=graph", "[data-wiring]"}, {at + "/disposal", "canvas"},
		{at + "/keys", "[data-key]"}, {at + "/layers", "[data-layer]"}, {at + "/costs", "[data-cost]"}, {at + "/contract", "[data-none]"}, {at + "/whatif", "[data-propose]"}, {at + "/instances/27", "dl"},
		{"/compare?b=latest", "[data-compared]"}, {"/record", "h1"}, {"/services", ".code"}, {"/settings", "[data-rule]"},
	}
}

// captive returns the demo's captive finding and a scope of it.
func captive(t *testing.T, s *browser.Service) (finding, scope string) {
	t.Helper()
	var found views.RecordingFindings
	ask(t, s, "/api/v1/recordings/latest/findings", &found)
	for _, f := range found.Findings {
		if f.Rule == "captive/scoped" {
			return f.ID, fmt.Sprint(*f.Examples[0].Scope)
		}
	}
	t.Fatal("the demo has a captive")
	return "", ""
}

// TestAccessible checks that no page has a serious fault by axe-core's rules, in light and in dark.
func TestAccessible(t *testing.T) {
	s := demo(t)
	axe, err := os.ReadFile(filepath.Join("..", "..", "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	finding, scope := captive(t, s)
	for _, dark := range []bool{false, true} {
		p := page(t, s, browser.View{Width: 1280, Height: 800, Dark: dark})
		for _, one := range allPages(finding, scope) {
			require.NoError(t, p.Go(one[0]))
			require.NoError(t, p.Wait(one[1]), one[0])
			require.NoError(t, p.Run(string(axe)))
			require.NoError(t, p.Run(`window.axed = undefined; axe.run(document, {resultTypes: ['violations']}).then(r => { window.axed = r.violations
				.filter(v => v.impact === 'serious' || v.impact === 'critical').map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160) + ' ' + (n.any[0]?.message ?? '')).join(' | ')) })`))
			soon(t, p, "window.axed !== undefined")
			said, err := p.Value("window.axed.join('\\n')")
			require.NoError(t, err)
			assert.Empty(t, said, "%s, dark: %t", one[0], dark)
			assert.True(t, truth(t, p, "document.documentElement.scrollWidth <= window.innerWidth"), "%s sticks out", one[0])
			assert.Equal(t, 1, count(t, p, "h1"), one[0])
		}
	}
}

// TestWays goes the ways that people go: from the overview to the evidence, from there to the scope, to an instance, and
// back by the browser's button.
func TestWays(t *testing.T) {
	s := demo(t)
	p := page(t, s, usual)
	require.NoError(t, p.Go("/recordings/latest"))
	assert.Contains(t, text(t, p, "[data-sentence]"), "6 mistakes to fix first, the causes of 7 errors")
	require.NoError(t, p.Click("[data-card] a"))
	require.NoError(t, p.Wait("[data-evidence]"))
	require.NoError(t, p.Click(`main a[href*="/scopes/"]`))
	require.NoError(t, p.Wait("[data-construction]"))
	assert.Positive(t, count(t, p, "[data-construction] .bar"))
	require.NoError(t, p.Click("main .mark"))
	soon(t, p, "location.pathname.includes('/instances/')")
	require.NoError(t, p.Wait("dl"))
	for _, back := range []string{"[data-construction]", "[data-evidence]", "[data-sentence]"} {
		require.NoError(t, p.Back())
		require.NoError(t, p.Wait(back))
	}
}

// TestBoard moves over the sharing board by keys, folds it, and finds the same in its address.
func TestBoard(t *testing.T) {
	s := demo(t)
	p := page(t, s, usual)
	require.NoError(t, p.Go("/recordings/latest/sharing?last=5"))
	require.NoError(t, p.Wait("[data-board-row]"))
	var board views.Board
	ask(t, s, "/api/v1/recordings/latest/sharing?last=5&limit=500", &board)
	assert.Equal(t, len(board.Rows), count(t, p, "[data-board-row]"))
	assert.Equal(t, len(board.Scopes)*len(board.Rows), count(t, p, "[data-at]"))
	for n, cell := range board.Rows[0].Cells {
		if len(cell.Marks) > 0 {
			assert.Contains(t, text(t, p, fmt.Sprintf(`[data-at="0/%d"]`, n)), cell.Marks[0])
			assert.Equal(t, cell.Change == "changed", truth(t, p, fmt.Sprintf(`document.querySelector('[data-at="0/%d"] .shape').textContent === '◆'`, n)), "a change is told by its shape")
		}
	}
	require.NoError(t, p.Run(`document.querySelector('[data-at="0/0"]').focus()`))
	require.NoError(t, p.Press("\u0303")) // ArrowRight
	soon(t, p, `document.activeElement.dataset.at === '0/1'`)
	require.NoError(t, p.Press("\u0301")) // ArrowDown
	soon(t, p, `document.activeElement.dataset.at === '1/1'`)
	require.NoError(t, p.Press("\r"))
	soon(t, p, "location.pathname.includes('/instances/')")
	require.NoError(t, p.Back())
	require.NoError(t, p.Wait("[data-board-row]"))
	picking := page(t, s, usual)
	require.NoError(t, picking.Go("/recordings/latest/scopes?name=GET%20/pilots"))
	require.NoError(t, picking.Wait("[data-scope-row]"))
	require.NoError(t, picking.Run(`document.querySelectorAll('[data-scope-row] input')[0].click()`))
	require.NoError(t, picking.Wait("[data-compare-scopes]"))
	require.NoError(t, picking.Run(`document.querySelectorAll('[data-scope-row] input')[1].click()`))
	soon(t, picking, "document.querySelector('[data-compare-scopes]').textContent.includes('2 on the board')")
	require.NoError(t, picking.Click("[data-compare-scopes]"))
	require.NoError(t, picking.Wait("[data-board-row]"))
	assert.Equal(t, 2, count(t, picking, "thead .scope"))
	require.NoError(t, p.Click(".fold"))
	soon(t, p, "location.search.includes('folded=')")
	assert.Equal(t, len(board.Rows)-1, count(t, p, "[data-board-row]"))
}

// TestGraph lays three hundred registrations of a wiring without modules out, looks for another one, and shows it with its neighbours.
func TestGraph(t *testing.T) {
	s, p := open(t, usual)
	b := strings.Builder{}
	b.WriteString(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"wide","start":"2026-03-02T05:40:00Z"}` + "\n")
	const regs = 320
	for n := 1; n <= regs; n++ {
		needs := ""
		if n > 8 {
			needs = fmt.Sprintf(`,"needs":[{"service":"Berth%03d"},{"service":"Berth%03d"}]`, n/2, n/3)
		}
		fmt.Fprintf(&b, `{"ev":"register","t":1,"reg":%d,"service":"Berth%03d","lifetime":"%s"%s}`+"\n", n, n, []string{"singleton", "scoped", "transient"}[n%3], needs)
	}
	b.WriteString(`{"ev":"bye","t":2}` + "\n")
	put(t, s, http.MethodPost, "/api/v1/recordings", b.String())
	require.NoError(t, p.Go("/recordings/latest/registrations?view=graph"))
	require.NoError(t, p.Wait("[data-wiring]"))
	assert.Equal(t, 60, count(t, p, "[data-node]"), "those first that have most lines")
	require.NoError(t, p.Click("[data-more]"))
	soon(t, p, `document.querySelector('[data-wiring]') && document.querySelectorAll('[data-node]').length === 300`)
	assert.Positive(t, count(t, p, ".plane .edge.wrong"), "lines from longer- to shorter-lived stand out")
	require.NoError(t, p.Type(".seek input", "Berth300"))
	require.NoError(t, p.Press("\r"))
	soon(t, p, `document.querySelector('[data-wiring]') && document.querySelectorAll('.node.hit').length === 1`)
	require.NoError(t, p.Run(`document.querySelector('.node.hit').dispatchEvent(new MouseEvent('click', {bubbles: true}))`))
	soon(t, p, `location.search.includes('focus=299')`)
	soon(t, p, `document.querySelectorAll('[data-node]').length === 3`)
	other := page(t, s, usual)
	require.NoError(t, other.Go("/recordings/latest/registrations?view=graph&focus=299"))
	require.NoError(t, other.Wait("[data-wiring]"))
	soon(t, other, `document.querySelectorAll('[data-node]').length === 3`)
}

// TestViewsFollow checks that pages of a recording that is being written go on by themselves and stay where they were
// scrolled to.
func TestViewsFollow(t *testing.T) {
	s, p := open(t, usual)
	office := load.NewOffice("live-1", 0)
	put(t, s, http.MethodPut, "/api/v1/streams/live-1/batches/1", string(office.Requests(120)))
	require.NoError(t, p.Go("/recordings/latest/registrations"))
	require.NoError(t, p.Wait("[data-registration]"))
	made := `Number(document.querySelector('[data-registration="0"] td:nth-child(4)').textContent)`
	soon(t, p, made+" === 6")
	require.NoError(t, p.Run("window.scrollTo(0, 700)"))
	put(t, s, http.MethodPut, "/api/v1/streams/live-1/batches/2", string(office.Requests(120)))
	soon(t, p, made+" === 12")
	assert.True(t, truth(t, p, "window.scrollY === 700"), "it does not jump")
	// Columns that are being compared stay; what is new is counted and shown when asked for.
	require.NoError(t, p.Go("/recordings/latest/sharing?last=5"))
	require.NoError(t, p.Wait("[data-board-row]"))
	columns := `[...document.querySelectorAll('thead .scope a')].map(a => a.textContent).join()`
	before, err := p.Value(columns)
	require.NoError(t, err)
	put(t, s, http.MethodPut, "/api/v1/streams/live-1/batches/3", string(office.Requests(120)))
	assert.Contains(t, text(t, p, "[data-news]"), "120 new")
	after, err := p.Value(columns)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	require.NoError(t, p.Click("[data-news]"))
	soon(t, p, columns+" !== '"+before+"'")
	put(t, s, http.MethodPut, "/api/v1/streams/live-1/batches/4", string(office.End()))
	soon(t, p, "document.querySelector('header.about').textContent.includes('ended')")
}

// TestCare names, pins and deletes a recording, makes and revokes a token, and exports what is shown.
func TestCare(t *testing.T) {
	s, p := open(t, usual)
	put(t, s, http.MethodPost, "/api/v1/recordings", sample(t))
	require.NoError(t, p.Go("/recordings/latest"))
	require.NoError(t, p.Click("[data-pin]"))
	soon(t, p, "document.querySelector('[data-pin]').textContent.includes('Unpin')")
	var list views.RecordingList
	ask(t, s, "/api/v1/recordings", &list)
	assert.True(t, list.Recordings[0].Pinned)
	put(t, s, http.MethodPatch, "/api/v1/recordings/latest", `{"labels":{"ticket":"417","build":"main"}}`)
	soon(t, p, "document.querySelector('.about').textContent.includes('ticket=417')")
	require.NoError(t, p.Click("[data-name]"))
	require.NoError(t, p.Wait("[data-labels] input"))
	require.NoError(t, p.Run(`const i = document.querySelector('[data-labels] input'); i.value = 'build=main'; i.dispatchEvent(new Event('input', {bubbles: true}))`))
	require.NoError(t, p.Run(`document.querySelector('[data-keep-name]').click()`))
	soon(t, p, "!document.querySelector('.about').textContent.includes('ticket')")
	var named views.RecordingList
	ask(t, s, "/api/v1/recordings", &named)
	assert.Equal(t, map[string]string{"build": "main"}, named.Recordings[0].Labels)
	require.NoError(t, p.Go("/settings"))
	require.NoError(t, p.Click("[data-create-token]"))
	secret := text(t, p, "[data-secret]")
	assert.Contains(t, secret, "lantern-read-")
	require.NoError(t, p.Go("/recordings/latest/findings"))
	require.NoError(t, p.Wait("[data-finding]"))
	require.NoError(t, p.Run(`window.saved = []; URL.createObjectURL = b => { b.text().then(t => window.saved.push(t)); return 'blob:none' }; HTMLAnchorElement.prototype.click = () => {}`))
	require.NoError(t, p.Click("[data-export]"))
	require.NoError(t, p.Wait(".v-overlay .v-list-item"))
	require.NoError(t, p.Run(`document.querySelector('.v-overlay .v-list-item').click()`))
	soon(t, p, "window.saved.length === 1")
	csv, err := p.Value("window.saved[0]")
	require.NoError(t, err)
	assert.Contains(t, csv, "captive/scoped")
	assert.Equal(t, 3, strings.Count(csv, "\r\n"))
}

// TestHostileViews checks that names stay names on every page.
func TestHostileViews(t *testing.T) {
	s, p := open(t, usual)
	hostile := `<img src=x onerror=\"document.title='taken'\"><script>document.title='taken'</script>`
	put(t, s, http.MethodPost, "/api/v1/recordings", strings.NewReplacer(
		"PilotRoster", hostile, "GaugeTides", hostile+"2", `"app":"harbour"`, `"app":"`+hostile+`"`, "wiring.go:34", hostile, "GET /pilots", hostile).Replace(sample(t)))
	put(t, s, http.MethodPost, "/api/v1/recordings", sample(t))
	var found views.RecordingFindings
	ask(t, s, "/api/v1/recordings/latest/findings", &found)
	var list views.RecordingList
	ask(t, s, "/api/v1/recordings", &list)
	bad := list.Recordings[1].ID
	for _, path := range []string{"", "/findings", "/sharing", "/scopes", "/scopes/1", "/registrations", "/registrations?view=graph", "/disposal", "/keys?all=true", "/layers", "/costs", "/instances/1"} {
		require.NoError(t, p.Go("/recordings/"+bad+path))
		require.NoError(t, p.Wait(".about .app"))
		require.NoError(t, p.Wait("main"))
		require.Eventually(t, func() bool { return count(t, p, ".waiting") == 0 }, 30*time.Second, 50*time.Millisecond, path)
		assert.False(t, truth(t, p, `document.title === 'taken' || document.querySelector('img[src="x"]')`), path)
	}
	require.NoError(t, p.Go("/compare?a="+bad+"&b="+list.Recordings[0].ID))
	require.NoError(t, p.Wait("[data-compared]"))
	assert.False(t, truth(t, p, `document.title === 'taken' || document.querySelector('img[src="x"]')`))
}

// TestFirstView holds how much script comes before the first view, packed, and that nothing else is asked for.
func TestFirstView(t *testing.T) {
	s := demo(t)
	p := page(t, s, usual)
	require.NoError(t, p.Go("/recordings"))
	require.NoError(t, p.Wait("[data-recording]"))
	for _, path := range []string{"/recordings", "/recordings/latest"} {
		require.NoError(t, p.Go(path))
		require.NoError(t, p.Wait(map[string]string{"/recordings": "[data-recording]", "/recordings/latest": "[data-sentence]"}[path]))
		kB, err := p.Value(`String(Math.round(performance.getEntriesByType('resource').filter(r => r.name.endsWith('.js') && !r.name.includes('echarts')).reduce((n, r) => n + r.encodedBodySize, 0) / 1000))`)
		require.NoError(t, err)
		var n int
		_, err = fmt.Sscan(kB, &n)
		require.NoError(t, err)
		assert.Greater(t, n, 50, "it was measured")
		assert.LessOrEqual(t, n, 230, "%s: kB of script", path)
	}
}

// TestRecordControl switches an application's recorders off and on, and says for how large a share.
func TestRecordControl(t *testing.T) {
	s, p := open(t, usual)
	// A recorder asks and waits for an answer, as long as the test runs.
	asking, stop := context.WithCancel(t.Context())
	defer stop()
	req, err := http.NewRequestWithContext(asking, http.MethodPut, s.URL+"/api/v1/applications/harbour/recorders/r-1", strings.NewReader(`{"version":"1.4.0","on":true,"knows":0}`))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	answered := make(chan views.Order, 1)
	go func() {
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return
		}
		defer res.Body.Close()
		var o views.Order
		if json.NewDecoder(res.Body).Decode(&o) == nil {
			answered <- o
		}
	}()
	require.NoError(t, p.Go("/record"))
	assert.Contains(t, text(t, p, "[data-application]"), "not switched here")
	require.NoError(t, p.Click("[data-switch] input"))
	select {
	case o := <-answered:
		assert.False(t, o.On)
	case <-time.After(30 * time.Second):
		t.Fatal("the recorder got no order")
	}
	soon(t, p, "document.querySelector('[data-application]').textContent.includes('switched off here')")
	require.NoError(t, p.Click("[data-switch] input"))
	soon(t, p, "document.querySelector('[data-application]').textContent.includes('switched on here')")
	var list struct{ Applications []views.Application }
	ask(t, s, "/api/v1/applications", &list)
	require.Len(t, list.Applications, 1)
	assert.True(t, list.Applications[0].Order.On)
	assert.Equal(t, int64(2), list.Applications[0].Order.Version)
}

// TestNames checks that the table of registrations shows every name without its packages, and in full when asked to.
func TestNames(t *testing.T) {
	s := demo(t)
	var list views.RegistrationList
	ask(t, s, "/api/v1/recordings/latest/registrations?limit=500", &list)
	p := page(t, s, browser.View{Width: 1280, Height: 800})
	require.NoError(t, p.Go("/recordings/latest/registrations"))
	require.NoError(t, p.Wait("[data-names]"))
	shown := func() (names map[int]string) {
		said, err := p.Value("JSON.stringify(Object.fromEntries([...document.querySelectorAll('[data-registration]')].map(r => [r.dataset.registration, r.querySelector('.name').textContent])))")
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal([]byte(fmt.Sprint(said)), &names))
		require.NotEmpty(t, names)
		return names
	}
	full := map[int]string{}
	for _, r := range list.Registrations {
		full[r.ID] = r.Ref.Name()
	}
	of := map[string]string{}
	for id, name := range shown() {
		assert.True(t, strings.HasSuffix(full[id], "."+name), "%s is shown as %s", full[id], name)
		if before := of[name]; before != "" {
			assert.Equal(t, before, full[id], "both are shown as %s", name)
		}
		of[name] = full[id]
	}
	assert.Contains(t, text(t, p, "[data-names]"), "harbour")
	require.NoError(t, p.Click("[data-names] button"))
	soon(t, p, "document.querySelector('[data-names]').textContent.includes('in full')")
	for id, name := range shown() {
		assert.Equal(t, full[id], name)
	}
}

// A contract is drafted, tried, held and broken on its page, and the overview shows it.
func TestContractPage(t *testing.T) {
	s := demo(t)
	p := page(t, s, usual)
	require.NoError(t, p.Go("/recordings/latest/contract"))
	require.NoError(t, p.Wait("[data-none]"))
	require.NoError(t, p.Click("[data-none] button"))
	soon(t, p, `document.querySelector('[data-editor] textarea')?.value.includes('contract: lantern-contract/1')`)
	button := func(label string) string {
		return fmt.Sprintf(`[...document.querySelectorAll('[data-editor] button')].find((b) => b.textContent.includes(%q)).click()`, label)
	}
	write := func(change string) {
		require.NoError(t, p.Run(`{ const t = document.querySelector('[data-editor] textarea'); t.value = `+change+`; t.dispatchEvent(new Event('input')) }`))
	}

	// Syntax errors show their place.
	write(`t.value.replace('wiring:', 'wirring:')`)
	require.NoError(t, p.Run(button("Try it")))
	soon(t, p, `document.querySelector('[data-editor] [role=alert]')?.textContent.includes('did you mean "wiring"')`)

	// A draft is kept, and one that wants something else is broken.
	write(`t.value.replace('wirring:', 'wiring:')`)
	require.NoError(t, p.Run(button("Try it")))
	soon(t, p, `document.querySelectorAll('[data-clause=kept]').length > 5 && !document.querySelector('[data-clause=broken]')`)
	write(`t.value.replace('wiring:', 'wiring:\n  - {service: "*", key: "*", implementation: NobodyHasThis}')`)
	require.NoError(t, p.Run(button("Have the service hold it")))
	soon(t, p, `!document.querySelector('[data-editor]') && document.querySelectorAll('[data-clause=broken]').length === 1`)
	require.NoError(t, p.Click("[data-status=kept]"))
	soon(t, p, `location.search.includes('only=kept') && !document.querySelector('[data-clause=broken]')`)
	require.NoError(t, p.Go("/recordings/latest"))
	soon(t, p, `document.querySelector('[data-contract]')?.textContent.includes('broken in 1 clause')`)
	assert.Empty(t, p.Faults())
}

// A change is chosen, or proposed, and played; the address says which.
func TestWhatIfPage(t *testing.T) {
	s := demo(t)
	p := page(t, s, usual)
	require.NoError(t, p.Go("/recordings/latest/whatif"))
	require.NoError(t, p.Wait("[data-propose]"))
	require.NoError(t, p.Click("[data-propose]"))
	soon(t, p, `document.querySelector('[data-proposals]')?.textContent.includes('RoundedTides[model]=singleton')`)
	require.NoError(t, p.Run(`[...document.querySelectorAll('.proposal')].find((e) => e.textContent.includes('RoundedTides')).querySelector('button').click()`))
	soon(t, p, `document.querySelector('[data-answer]')?.textContent.includes('is rebuilt')`)
	soon(t, p, `decodeURIComponent(location.search).includes('RoundedTides[model]=singleton')`)
	assert.True(t, truth(t, p, `document.querySelectorAll('[data-answer] tr.changed').length === 2`))
	require.NoError(t, p.Go("/recordings/latest/whatif?set=NobodyHere%3Dscoped"))
	soon(t, p, `document.querySelector('[role=alert]')?.textContent.includes('registered as "NobodyHere"')`)
}
