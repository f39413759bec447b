package service_test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/access"
	"keenlantern.example/internal/core/views"
)

// TestContractsHoldNobodyUp holds a recording against contracts of nearly 10,000 clauses that mean everything: each is answered, views go on
// meanwhile, and forty honest ones of another token are judged.
func TestContractsHoldNobodyUp(t *testing.T) {
	r := startWith(t, t.TempDir(), true)
	bearer := func(kind access.Kind) string {
		token, err := r.gate.Create(t.Context(), kind, "")
		require.NoError(t, err)
		return "Bearer " + token.Secret
	}
	manage, hostile, honest := bearer(access.Manage), bearer(access.Read), bearer(access.Read)
	trace, err := os.ReadFile(filepath.Join("..", "..", "testdata", "office.ndjson"))
	require.NoError(t, err)
	status, _, said := r.do("POST", "/api/v1/recordings", bytes.NewReader(trace), "Authorization", manage)
	require.Equal(t, http.StatusCreated, status, string(said))
	status, _, draft := r.do("GET", "/api/v1/recordings/latest/contract/draft", nil, "Authorization", honest)
	require.Equal(t, http.StatusOK, status)

	head, _, _ := strings.Cut(string(draft), "wiring:")
	var text strings.Builder
	text.WriteString(head + "wiring:\n")
	for n := range 4_900 {
		fmt.Fprintf(&text, "  - {service: '*', implementation: 'X%d'}\n", n)
	}
	text.WriteString("lifetimes:\n")
	for range 4_900 {
		text.WriteString("  - {service: '*', registered: transient}\n")
	}
	var wait sync.WaitGroup
	var slowest time.Duration
	var mu sync.Mutex
	answers := map[int]int{}
	for range 6 {
		wait.Go(func() {
			began := time.Now()
			status, _, _ := r.do("POST", "/api/v1/recordings/latest/contract", strings.NewReader(text.String()), "Authorization", hostile)
			mu.Lock()
			defer mu.Unlock()
			answers[status]++
			slowest = max(slowest, time.Since(began))
		})
	}
	honestly := map[int]int{}
	for range 40 {
		wait.Go(func() {
			status, _, said := r.do("POST", "/api/v1/recordings/latest/contract", bytes.NewReader(draft), "Authorization", honest)
			mu.Lock()
			defer mu.Unlock()
			if honestly[status]++; status != http.StatusOK {
				t.Logf("%s", said)
			}
		})
	}
	wait.Go(func() {
		for range 20 {
			status, _, _ := r.do("GET", "/api/v1/recordings/latest/registrations", nil, "Authorization", honest)
			assert.Equal(t, http.StatusOK, status)
		}
	})
	wait.Wait()
	assert.Equal(t, map[int]int{http.StatusOK: 40}, honestly)
	for status := range answers {
		assert.Contains(t, []int{http.StatusOK, http.StatusUnprocessableEntity, http.StatusTooManyRequests}, status)
	}
	t.Logf("hostile ones: %v, the slowest in %v", answers, slowest)
}

// TestOneTokenTakesNoOthersRoom checks that sign-ins, sessions and recorders are bounded for each token, and that a token which is revoked
// while its recorder waits learns nothing more.
func TestOneTokenTakesNoOthersRoom(t *testing.T) {
	r := startWith(t, t.TempDir(), true)
	token := func(kind access.Kind) views.NewToken {
		token, err := r.gate.Create(t.Context(), kind, "")
		require.NoError(t, err)
		return token
	}
	signIn := func(secret string) (int, string) {
		status, header, _ := r.do("POST", "/api/v1/session", strings.NewReader(`{"token":"`+secret+`"}`))
		kept, _, _ := strings.Cut(header.Get("Set-Cookie"), ";")
		return status, kept
	}
	manager, reader := token(access.Manage), token(access.Read)
	for range 10 {
		_, _ = signIn("lantern-read-0000000000000")
	}
	status, managing := signIn(manager.Secret)
	assert.Equal(t, http.StatusOK, status, "another user at the same address still signs in")
	first := ""
	for n := range 130 {
		if _, kept := signIn(reader.Secret); n == 0 {
			first = kept
		}
	}
	may := func(kept string) int {
		status, _, _ := r.do("GET", "/api/v1/recordings", nil, "Cookie", kept)
		return status
	}
	assert.Equal(t, http.StatusOK, may(managing), "the sessions of one token end no other's")
	assert.Equal(t, http.StatusUnauthorized, may(first), "its own oldest end")

	recorder := token(access.Record)
	waiting := make(chan int, 1)
	go func() {
		status, _, _ := r.do("PUT", "/api/v1/applications/harbour/recorders/r1", strings.NewReader(`{"version":"1","knows":0}`), "Authorization", "Bearer "+recorder.Secret)
		waiting <- status
	}()
	assert.Eventually(t, func() bool {
		_, _, said := r.do("GET", "/api/v1/applications", nil, "Authorization", "Bearer "+manager.Secret)
		return strings.Contains(string(said), `"r1"`)
	}, 5*time.Second, 10*time.Millisecond)
	require.NoError(t, r.gate.Revoke(t.Context(), recorder.ID))
	status, _, said := r.do("PUT", "/api/v1/applications/harbour/order", strings.NewReader(`{"on":true,"share":1}`), "Authorization", "Bearer "+manager.Secret)
	require.Equal(t, http.StatusOK, status, string(said))
	assert.Equal(t, http.StatusUnauthorized, <-waiting)
}
