package many_test

import (
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/views"
)

// TestRollout replaces three services one after the other by such that derive otherwise, as another version does, while streams are
// sent. During that, each service says of what another one derived that it is stale, and compares nothing of it; at the end all is
// derived by the new ones, and nothing is lost.
func TestRollout(t *testing.T) {
	_, fleet := start(t, 1, 3)
	for _, url := range fleet.URLs() {
		ready(t, url)
	}
	s := sendAll(t, fleet.URLs(), 4, 2000, 20*time.Millisecond)
	settings := filepath.Join(t.TempDir(), "settings.yaml")
	require.NoError(t, os.WriteFile(settings, []byte("pile_in_scope: 999\n"), 0o600)) // nothing is found by it here, and it is part of the key
	fleet.With("--settings", settings)
	older, mixed := servicesAt(t, fleet.URL(0)).Services[0].Derivation, 0
	for k := range 3 {
		require.NoError(t, fleet.StopOne(k))
		require.NoError(t, fleet.Start(k))
		ready(t, fleet.URL(k))
		keys := map[string]bool{}
		for _, one := range servicesAt(t, fleet.URL(k)).Services {
			keys[one.Derivation] = true
		}
		if len(keys) == 2 {
			mixed++
		}
	}
	assert.Positive(t, mixed, "two versions ran side by side")
	s.wait(t)
	newer := ""
	for _, one := range servicesAt(t, fleet.URL(0)).Services {
		newer = one.Derivation
		assert.NotEqual(t, older, newer)
	}
	for _, url := range fleet.URLs() {
		s.holds(t, url)
		require.Eventually(t, func() bool {
			var list views.RecordingList
			get(t, url+"/api/v1/recordings", &list)
			for _, r := range list.Recordings {
				if r.Stale > 0 || r.DerivedBy != newer {
					return false
				}
			}
			return true
		}, 40*time.Second, 200*time.Millisecond, "all is derived by the new ones, as %s has it", url)
	}
	var list views.RecordingList
	get(t, fleet.URL(0)+"/api/v1/recordings", &list)
	for _, r := range list.Recordings {
		res, err := http.Get(fleet.URL(1) + "/api/v1/compare?a=" + r.ID + "&b=" + r.ID)
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, http.StatusOK, res.StatusCode)
	}
}
