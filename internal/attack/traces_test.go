package attack_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/attack/traces"
	"keenlantern.example/internal/core/views"
)

// TestTracesNeverEndIt sends traces that are made to crash or stop an analysis, beside a sound one that is analysed all
// the same, and starts the service again with them.
func TestTracesNeverEndIt(t *testing.T) {
	s := serve(t)
	for k := range 130 {
		status, said := s.put(fmt.Sprintf("calm-%d", k), 1, strings.ReplaceAll(traces.Hello(fmt.Sprintf("calm-%d", k)), `"harbour"`, fmt.Sprintf(`"calm-%d"`, k)))
		require.Equal(t, http.StatusOK, status, said)
	}
	hostile := map[string]string{
		"few-remembered": traces.OneScope("few-remembered", 5_000),
		"one-scope":      traces.OneScope("one-scope", 66_000),
		"itself":         traces.Ring("itself", 1),
		"ring":           traces.Ring("ring", 9),
		"ladder":         traces.Ladder("ladder", 12, 6, size(3, 30)),
		"same":           traces.SameService("same", size(5_000, 20_000)),
		"services":       traces.Services("services", size(10_000, 80_000)),
		"nested":         traces.Nested("nested", size(10_000, 60_000)),
		"singletons":     traces.Singletons("singletons", size(20_000, 100_000)),
		"names":          traces.Names("names", size(3_000, 100_000), 4000),
		"held":           traces.Held("held", size(5_000, 60_000), 2000),
		"composite":      traces.Composite("composite", 5_000),
	}
	began := time.Now()
	for stream, trace := range hostile {
		s.send(stream, strings.Replace(trace, `"app":"harbour"`, `"app":"`+stream+`"`, 1))
	}
	s.send("sound", traces.OneScope("sound", 100))
	all := func() (list views.RecordingList) {
		s.get("/api/v1/recordings?limit=500", &list)
		return list
	}
	ended := func() bool {
		n := 0
		for _, r := range all().Recordings {
			if hostile[r.App] != "" && r.State == "ended" {
				n++
			}
		}
		return n == len(hostile)
	}
	s.until("all of them are analysed", ended)
	_, most := s.memory()
	measure("hostile traces (one scope, rings, ladders, one service, nested scopes, names …) beside 130 calm streams", "all analysed in %.1f s, %d MB resident at most", time.Since(began).Seconds(), most)
	s.alive()
	s.restart()
	s.ready()
	s.until("all of them are there after a restart", ended)
}

// TestRandomTraces sends traces in which anything may follow anything.
func TestRandomTraces(t *testing.T) {
	s := serve(t)
	n := size(40, 4_000)
	began := time.Now()
	for k := range n {
		stream := fmt.Sprintf("random-%d", k)
		s.send(stream, traces.Random(stream, uint64(k)+1_000_000, 500))
	}
	s.alive()
	var list views.RecordingList
	s.get("/api/v1/recordings?limit=500", &list)
	for _, r := range list.Recordings {
		require.Zero(t, r.Health.Broken, r.Health.Why)
		for _, view := range []string{"findings", "registrations", "graph", "scopes", "sharing", "disposal", "keys", "layers", "costs", "export"} {
			status, said := s.do(http.MethodGet, "/api/v1/recordings/"+r.ID+"/"+view, nil)
			require.Less(t, status, 500, "%s: %.300s", view, said)
		}
	}
	measure(fmt.Sprintf("%d random traces of 500 lines", n), "nothing broke, %.1f s", time.Since(began).Seconds())
}

// TestDamageStaysWhereItIs damages a batch, a stored result and a stored state, and leaves more streams unfinished than are
// ever loaded at once.
func TestDamageStaysWhereItIs(t *testing.T) {
	s := serve(t)
	trace := func(stream string) string {
		return strings.Replace(traces.OneScope(stream, 20), `"app":"harbour"`, fmt.Sprintf(`"app":%q`, stream), 1)
	}
	for _, stream := range []string{"whole", "batch", "result", "state"} {
		lines := strings.SplitAfter(trace(stream), "\n")
		for n, part := range []string{strings.Join(lines[:10], ""), strings.Join(lines[10:15], ""), strings.Join(lines[15:], "")} {
			status, said := s.put(stream, n+1, part)
			require.Equal(t, http.StatusOK, status, said)
		}
	}
	many := size(1_201, 3_000)
	for k := range many {
		stream := fmt.Sprintf("many-%d", k)
		for {
			status, said := s.put(stream, 1, traces.Hello(stream)+`{"ev":"bye","t":1}`+"\n")
			if status == http.StatusOK {
				break
			}
			require.Equal(t, http.StatusTooManyRequests, status, said)
			time.Sleep(10 * time.Millisecond)
		}
	}
	named := func(app string) (r views.RecordingDetail) {
		var list views.RecordingList
		for offset := 0; ; offset += 500 {
			s.get(fmt.Sprintf("/api/v1/recordings?limit=500&offset=%d", offset), &list)
			for _, one := range list.Recordings {
				if one.App == app {
					s.get("/api/v1/recordings/"+one.ID, &r)
					return r
				}
			}
			require.NotEmpty(t, list.Recordings, app)
		}
	}
	s.until("they have ended", func() bool { return named("state").State == "ended" && named("batch").State == "ended" })
	s.database(func(db *sql.DB) {
		run := func(q string, args ...any) {
			_, err := db.Exec(q, args...)
			require.NoError(t, err)
		}
		run(`UPDATE batches SET body = x'00112233445566' WHERE n = 2 AND stream = (SELECT id FROM streams WHERE name = 'batch')`)
		run(`UPDATE streams SET result = x'00112233' WHERE name = 'result'`)
		run(`UPDATE streams SET state = x'00112233' WHERE name = 'state'`)
		run(`UPDATE streams SET analysed = 0 WHERE name = 'batch' OR name LIKE 'many-%'`)
	})
	began := time.Now()
	s.ready()
	measure(fmt.Sprintf("start with %d unfinished streams, one with a damaged batch", many+1), "ready after %.1f s", time.Since(began).Seconds())

	broken := named("batch")
	assert.Equal(t, "broken", broken.State)
	assert.Contains(t, broken.Health.Why, "batch 2 of 3 cannot be read")
	require.NotNil(t, broken.StreamList[0].Broken)
	_, metrics := s.do(http.MethodGet, "/metrics", nil)
	assert.Contains(t, metrics, "keenlantern_streams_broken 1\n")
	_, exported := s.do(http.MethodGet, "/api/v1/recordings/"+broken.ID+"/export", nil)
	assert.Contains(t, exported, `"ev":"gap"`)
	assert.Equal(t, 24-5+1, strings.Count(exported, "\n"), "what can be read is exported, and a line stands for the rest")
	status, said := s.do(http.MethodPost, "/api/v1/recordings/"+broken.ID+"/analysis", nil)
	assert.Equal(t, http.StatusAccepted, status, said)
	status, said = s.put("batch", 4, `{"ev":"gap","t":9,"lost":1}`+"\n")
	s.until("it takes more", func() bool {
		status, said = s.put("batch", 4, `{"ev":"gap","t":9,"lost":1}`+"\n")
		return status == http.StatusOK
	})

	_, exported = s.do(http.MethodGet, "/api/v1/recordings/"+named("whole").ID+"/export", nil)
	assert.Equal(t, trace("whole"), exported)
	for _, app := range []string{"result", "state"} {
		id := named(app).ID
		s.until(app+" is derived again", func() bool {
			status, said := s.do(http.MethodGet, "/api/v1/recordings/"+id+"/registrations", nil)
			return status == http.StatusOK && strings.Contains(said, "registrations") && named(app).State == "ended"
		})
		var scopes views.ScopeList
		s.until("and its scopes are there", func() bool {
			s.get("/api/v1/recordings/"+id+"/scopes", &scopes)
			return scopes.Total == 1
		})
	}
}

// TestImports cuts an import off, kills the service in one, and deletes one while it runs.
func TestImports(t *testing.T) {
	s := serve(t)
	trace := traces.OneScope("imported", 20_000)
	total := func() int {
		var list views.RecordingList
		s.get("/api/v1/recordings", &list)
		return list.Total
	}
	// half begins to send a file, and returns what ends it.
	half := func() (end func(error), answer chan int) {
		in, out := io.Pipe()
		answer = make(chan int, 1)
		go func() {
			req, _ := http.NewRequest(http.MethodPost, s.URL+"/api/v1/recordings", in) // the address is a good one
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				answer <- 0
				return
			}
			res.Body.Close()
			answer <- res.StatusCode
		}()
		_, err := io.WriteString(out, trace[:len(trace)/2])
		require.NoError(t, err)
		s.until("it is there", func() bool { return total() == 1 })
		return func(err error) { out.CloseWithError(err) }, answer
	}
	end, answer := half()
	end(fmt.Errorf("the sender has gone"))
	<-answer
	s.until("a cut import leaves nothing", func() bool { return total() == 0 })

	end, answer = half()
	s.Kill()
	end(io.ErrUnexpectedEOF)
	<-answer
	s.start()
	s.ready()
	assert.Zero(t, total(), "an import that the service did not survive leaves nothing")

	end, answer = half()
	var list views.RecordingList
	s.get("/api/v1/recordings", &list)
	assert.Equal(t, "importing", list.Recordings[0].State)
	status, said := s.do(http.MethodDelete, "/api/v1/recordings/"+list.Recordings[0].ID, nil)
	require.Equal(t, http.StatusNoContent, status, said)
	assert.Equal(t, http.StatusGone, <-answer, "the sender gets an error")
	end(nil)
	assert.Zero(t, total())

	status, said = s.do(http.MethodPost, "/api/v1/recordings", strings.NewReader(trace))
	require.Equal(t, http.StatusCreated, status, said)
	assert.Equal(t, 1, total(), "sent again it is there once")
}

// TestNothingOfTheDeleted records, looks, deletes and records again: the new recording shows nothing of the old one.
func TestNothingOfTheDeleted(t *testing.T) {
	s := serve(t)
	for round, name := range []string{"first", "second", "third"} {
		status, said := s.do(http.MethodPost, "/api/v1/recordings", strings.NewReader(strings.ReplaceAll(traces.OneScope("same", 30), "GET /tides", name)))
		require.Equal(t, http.StatusCreated, status, said)
		var list views.RecordingList
		s.get("/api/v1/recordings", &list)
		require.Len(t, list.Recordings, 1)
		id := list.Recordings[0].ID
		_, scopes := s.do(http.MethodGet, "/api/v1/recordings/"+id+"/scopes", nil)
		assert.Contains(t, scopes, name, "round %d", round)
		_, story := s.do(http.MethodGet, "/api/v1/recordings/"+id+"/scopes/1", nil)
		assert.Contains(t, story, name, "round %d", round)
		status, said = s.do(http.MethodDelete, "/api/v1/recordings/"+id, nil)
		require.Equal(t, http.StatusNoContent, status, said)
		status, _ = s.do(http.MethodGet, "/api/v1/recordings/"+id, nil)
		assert.Equal(t, http.StatusNotFound, status)
	}
}

// TestBombs sends what unpacks to far more than it is.
func TestBombs(t *testing.T) {
	s := serve(t)
	_, before := s.memory()
	gigabytes := size(1, 8)
	var blank bytes.Buffer
	blank.WriteString(traces.Hello("bomb"))
	for range gigabytes {
		blank.Write(bytes.Repeat([]byte{'\n'}, 256<<20))
	}
	once := zip(blank.Bytes())
	for name, test := range map[string]struct {
		body    []byte
		headers []string
	}{
		"blank lines":        {once, nil},
		"gzip within gzip":   {zip(once), nil},
		"said to be gzip":    {once, []string{"Content-Encoding", "gzip"}},
		"three times packed": {zip(zip(once)), []string{"Content-Encoding", "gzip"}},
	} {
		status, said := s.do(http.MethodPost, "/api/v1/recordings", bytes.NewReader(test.body), test.headers...)
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%s (%d bytes): %.300s", name, len(test.body), said)
	}
	status, said := s.do(http.MethodPut, "/api/v1/streams/bomb/batches/1", bytes.NewReader(once), "Content-Encoding", "gzip")
	assert.Equal(t, http.StatusRequestEntityTooLarge, status, said)
	// Records of two bytes: as a whole they would take a hundred times their size.
	var logs bytes.Buffer
	records := bytes.Repeat([]byte{0x12, 0x00}, 3<<20) // LogRecord, empty
	scope := append(varint(append([]byte{}, 0x12), len(records)), records...)
	resource := append(varint(append([]byte{}, 0x0a), len(scope)), scope...)
	logs.Write(resource)
	for range 4 {
		status, said = s.do(http.MethodPost, "/v1/logs", bytes.NewReader(zip(logs.Bytes())), "Content-Encoding", "gzip", "Content-Type", "application/x-protobuf")
		assert.Equal(t, http.StatusBadRequest, status, "%.300s", said)
		status, said = s.do(http.MethodPost, "/v1/logs", bytes.NewReader(zip([]byte(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[{}`+strings.Repeat(",{}", 2<<20)+`]}]}]}`))), "Content-Encoding", "gzip", "Content-Type", "application/json")
		assert.Equal(t, http.StatusBadRequest, status, "%.300s", said)
	}
	_, most := s.memory()
	measure(fmt.Sprintf("bombs: %d MB of blank lines in %d bytes, gzip within gzip, three million records in %d bytes", 256*gigabytes, len(zip(once)), len(zip(logs.Bytes()))), "refused, %d MB resident at most (%d before)", most, before)
	assert.Less(t, most, 400, "MiB")
	s.alive()
}

// varint appends n as protobuf has it.
func varint(to []byte, n int) []byte {
	for ; n >= 0x80; n >>= 7 {
		to = append(to, byte(n)|0x80)
	}
	return append(to, byte(n))
}
