package delivery_test

import (
	"bytes"
	"compress/gzip"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/delivery"
)

// TestWrong sends what no recorder may, and checks that each mistake is reported.
func TestWrong(t *testing.T) {
	const hello = `{"ev":"hello","t":0}` + "\n"
	type request struct {
		path, encoding string
		body           []byte
	}
	put := func(path, body string) request { return request{path: "/api/v1/streams/" + path, body: []byte(body)} }
	packed := func(with string) request {
		var b bytes.Buffer
		switch with {
		case "gzip":
			z := gzip.NewWriter(&b)
			_, _ = z.Write([]byte(hello))
			require.NoError(t, z.Close())
		case "zstd":
			z, err := zstd.NewWriter(&b)
			require.NoError(t, err)
			_, _ = z.Write([]byte(hello))
			require.NoError(t, z.Close())
		}
		return request{"/api/v1/streams/a/batches/1", with, b.Bytes()}
	}
	for name, c := range map[string]struct {
		script   []delivery.Step
		requests []request
		want     string // "": nothing is wrong
	}{
		"well":                          {nil, []request{put("a/batches/1", hello), put("a/batches/2", "{}\n"), put("b/batches/1", hello)}, ""},
		"the same again":                {nil, []request{put("a/batches/1", hello), put("a/batches/1", hello)}, ""},
		"packed":                        {nil, []request{packed("gzip")}, ""},
		"packed otherwise":              {nil, []request{packed("zstd")}, ""},
		"no hello":                      {nil, []request{put("a/batches/1", "{}\n")}, "does not begin with a hello"},
		"half a line":                   {nil, []request{put("a/batches/1", `{"ev":"hello"}`)}, "does not end with a line's end"},
		"a batch left out":              {nil, []request{put("a/batches/1", hello), put("a/batches/3", "{}\n")}, "batch 3 came after batch 1"},
		"other lines under its number":  {nil, []request{put("a/batches/1", hello), put("a/batches/1", hello+hello)}, "came again with other lines"},
		"no number":                     {nil, []request{put("a/batches/one", hello)}, `batch "one"`},
		"of an unknown encoding":        {nil, []request{{"/api/v1/streams/a/batches/1", "rot13", []byte(hello)}}, "cannot be read"},
		"packed badly":                  {nil, []request{{"/api/v1/streams/a/batches/1", "gzip", []byte(hello)}}, "cannot be read"},
		"packed badly, in another way":  {nil, []request{{"/api/v1/streams/a/batches/1", "zstd", []byte(hello)}}, "cannot be read"},
		"another address":               {nil, []request{{"/admin", "", nil}}, "none of a recorder's"},
		"again after a refusal":         {[]delivery.Step{delivery.Refuse}, []request{put("a/batches/1", hello), put("a/batches/1", hello)}, "refused for good was tried again"},
		"to where a redirect has led":   {nil, []request{{"/sign-in", "", nil}}, "a redirect was followed"},
		"what is asked of applications": {nil, []request{{"/api/v1/applications/harbour/recorders/r", "", []byte("{}")}}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := &delivery.Service{Script: c.script}
			server := httptest.NewServer(s)
			defer server.Close()
			for _, r := range c.requests {
				req, err := http.NewRequest(http.MethodPut, server.URL+r.path, bytes.NewReader(r.body))
				require.NoError(t, err)
				if r.encoding != "" {
					req.Header.Set("Content-Encoding", r.encoding)
				}
				res, err := http.DefaultClient.Do(req)
				require.NoError(t, err)
				require.NoError(t, res.Body.Close())
			}
			v := s.Verdict()
			if c.want == "" {
				assert.Empty(t, v.Wrong)
				return
			}
			require.NotEmpty(t, v.Wrong)
			assert.Contains(t, v.Wrong[0], c.want)
		})
	}
}
