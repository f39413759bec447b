// Command screenshots makes the pictures in docs/screenshots from the demo's data: 'make screenshots'.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/views"
)

func main() {
	if err := run(); err != nil {
		log.Fatal(err)
	}
}

const folder = "docs/screenshots"

func run() (err error) {
	temp, err := os.MkdirTemp("", "keenlantern")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(temp)) }()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	bin, err := browser.Build(temp)
	if err != nil {
		return err
	}
	data := filepath.Join(temp, "data")
	said, err := exec.Command(bin, "demo", "--once", "--listen", "127.0.0.1:7461", "--data", data).CombinedOutput()
	if err != nil {
		return fmt.Errorf("run the demo: %w: %s", err, said)
	}
	service, err := browser.Serve(bin, "serve", data)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, service.Stop()) }()
	b, err := browser.Open()
	if err != nil {
		return err
	}
	defer b.Close()
	if err := pages(b, service.URL); err != nil {
		return err
	}
	return terminals(b, bin, service.URL, string(said))
}

// pages pictures the console.
func pages(b *browser.Browser, url string) error {
	found, err := findings(url)
	if err != nil {
		return err
	}
	captive, leaked := "", ""
	for _, f := range found.Findings {
		switch f.Rule {
		case "captive/scoped":
			captive = f.ID
		case "disposal/leaked":
			leaked = f.ID
		}
	}
	at := "/recordings/" + found.Recording
	for _, shot := range []struct {
		name, path, ready string
		dark              bool
	}{
		{"page-recordings", "/recordings", "[data-recording]", false},
		{"page-recording", at, "[data-finding]", false},
		{"page-finding-captive", at + "/findings/" + captive, "[data-evidence]", false},
		{"page-finding-leaked-dark", at + "/findings/" + leaked, "[data-evidence]", true},
	} {
		if err := picture(b, url, shot.path, shot.ready, shot.name, shot.dark); err != nil {
			return err
		}
	}
	return nil
}

func picture(b *browser.Browser, url, path, ready, name string, dark bool) error {
	p, err := b.Page(url, browser.View{Width: 1280, Height: 800, Dark: dark})
	if err != nil {
		return err
	}
	defer p.Close()
	if err := errors.Join(p.Go(path), p.Wait(ready)); err != nil {
		return err
	}
	png, err := p.Picture()
	if err != nil {
		return err
	}
	for _, fault := range p.Faults() {
		return fmt.Errorf("%s complains: %s", path, fault)
	}
	return os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644)
}

func findings(url string) (found views.RecordingFindings, err error) {
	return found, get(url+"/api/v1/recordings/latest/findings", &found)
}

func get(url string, into any) error {
	res, err := http.Get(url)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	return json.NewDecoder(res.Body).Decode(into)
}

// terminals pictures what commands print, as a terminal of 110 columns shows it.
func terminals(b *browser.Browser, bin, url, demo string) error {
	id, err := findings(url)
	if err != nil {
		return err
	}
	// The demo records its sound version first.
	var list views.RecordingList
	if err := get(url+"/api/v1/recordings", &list); err != nil {
		return err
	}
	before := list.Recordings[len(list.Recordings)-1].ID
	shots := []struct {
		name string
		args []string
		text string
	}{
		{"command-demo", []string{"demo", "--once"}, demo},
		{"command-recordings", []string{"recordings"}, ""},
		{"command-findings", []string{"findings", "latest"}, ""},
		{"command-finding", []string{"finding", id.Findings[0].ID}, ""},
		{"command-check", []string{"check", "testdata/harbour.ndjson"}, ""},
		{"command-registrations", []string{"registrations", "testdata/office.ndjson"}, ""},
		{"command-sharing", []string{"sharing", "latest", "--name", "POST /arrivals", "--last", "4", "--depth", "3"}, ""},
		{"command-scope", []string{"scope", "testdata/office.ndjson", "1"}, ""},
		{"command-disposal", []string{"disposal", "latest"}, ""},
		{"command-layers", []string{"layers", "testdata/office.ndjson"}, ""},
		{"command-costs", []string{"costs", "latest"}, ""},
		{"command-compare", []string{"compare", before, id.Recording, "--fail-on", "never"}, ""},
	}
	for _, s := range shots {
		if s.text == "" {
			cmd := exec.Command(bin, s.args...)
			cmd.Env = append(os.Environ(), "KEENLANTERN_SERVER="+url)
			out, err := cmd.Output()
			if exit := (*exec.ExitError)(nil); err != nil && (!errors.As(err, &exit) || exit.ExitCode() != 1) {
				return fmt.Errorf("run %v: %w", s.args, err)
			}
			s.text = string(out)
		}
		line := "$ keenlantern"
		for _, a := range s.args {
			if strings.Contains(a, " ") {
				a = "'" + a + "'"
			}
			line += " " + a
		}
		if err := terminal(b, s.name, line+"\n"+s.text); err != nil {
			return err
		}
	}
	return nil
}

func terminal(b *browser.Browser, name, text string) error {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `<!doctype html><meta charset="utf-8"><body style="margin:0;background:#14191d;color:#dfe6ea">`+
			`<link rel="icon" href="data:,"><pre style="margin:16px;font:13.5px/1.35 'DejaVu Sans Mono',monospace">%s</pre>`, html.EscapeString(text))
	}))
	defer server.Close()
	return picture(b, server.URL, "/", "pre", name, true)
}
