package many_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
)

// TestPage looks at the page of services while one of them is killed: which partitions are whose, and that each is taken again.
func TestPage(t *testing.T) {
	_, fleet := start(t, 1, 3)
	for _, url := range fleet.URLs() {
		ready(t, url)
	}
	b, err := browser.Open()
	if err != nil && os.Getenv("KEENLANTERN_BROWSER") != "required" {
		t.Skip("there is no Chromium")
	}
	require.NoError(t, err)
	defer b.Close()
	p, err := b.Page(fleet.URL(0), browser.View{Width: 1280, Height: 800})
	require.NoError(t, err)
	defer p.Close()
	require.NoError(t, p.Go("/recordings"))
	require.NoError(t, p.Wait(`a[href="/services"]`), "the bar names the page where services share a log")
	require.NoError(t, p.Click(`a[href="/services"]`))
	require.NoError(t, p.Wait("[data-partition]"))
	shows := func(services, free int) bool {
		rows, err1 := p.Count("[data-service]")
		cells, err2 := p.Count("[data-partition]")
		none, err3 := p.Count(".free")
		return err1 == nil && err2 == nil && err3 == nil && rows == services && cells == 16 && none == free
	}
	require.Eventually(t, func() bool { return shows(3, 0) }, 15*time.Second, 100*time.Millisecond)
	fleet.Kill(2)
	require.Eventually(t, func() bool { return shows(2, 0) }, 20*time.Second, 100*time.Millisecond, "the others have taken over")
	assert.Empty(t, p.Faults())
}
