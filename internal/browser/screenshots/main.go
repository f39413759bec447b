// Command screenshots makes the pictures in docs/screenshots from the demo's data: 'make screenshots'.
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"image"
	"image/draw"
	"image/png"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/creack/pty"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/many"
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
	// What the demo prints comes from its own run; the console is pictured on one that stays, with its recorders.
	said, err := exec.Command(bin, "demo", "--once", "--listen", "127.0.0.1:7461", "--data", filepath.Join(temp, "printed")).CombinedOutput()
	if err != nil {
		return fmt.Errorf("run the demo: %w: %s", err, said)
	}
	service, err := browser.Serve(bin, "demo", filepath.Join(temp, "data"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, service.Stop()) }()
	if err := ended(service.URL); err != nil {
		return err
	}
	b, err := browser.Open()
	if err != nil {
		return err
	}
	defer b.Close()
	fleet, stop, err := several(bin, temp)
	if err != nil {
		return err
	}
	defer stop()
	if err := pages(b, service.URL, fleet); err != nil {
		return err
	}
	return terminals(b, bin, service.URL, string(said))
}

// several starts three services that share a log, and returns the address of one.
func several(bin, temp string) (url string, stop func(), err error) {
	server, err := many.BuildLog(temp)
	if err != nil {
		return "", nil, err
	}
	log, err := many.StartLog(server, temp, 1)
	if err != nil {
		return "", nil, err
	}
	fleet, err := many.StartFleet(bin, temp, log, 3, "--log-replicas", "1")
	if err != nil {
		log.Stop()
		return "", nil, err
	}
	stop = func() {
		fleet.Stop()
		log.Stop()
	}
	for began := time.Now(); time.Since(began) < 30*time.Second; time.Sleep(100 * time.Millisecond) {
		var list views.ServiceList
		if err := get(fleet.URL(0)+"/api/v1/services", &list); err != nil {
			stop()
			return "", nil, err
		}
		works := 0
		for _, s := range list.Services {
			if len(s.Partitions) > 0 {
				works++
			}
		}
		if works == 3 && list.Free+list.Reading == 0 {
			return fleet.URL(0), stop, nil
		}
	}
	stop()
	return "", nil, errors.New("the services are not ready after 30 s")
}

// pages pictures the console; fleet is the address of one of several services.
func pages(b *browser.Browser, url, fleet string) error {
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
	const whatif = "ModelTides%5Bmodel/table%5D%3Dsingleton%3BRoundedTides%5Bmodel%5D%3Dsingleton"
	if err := hold(url); err != nil {
		return err
	}
	scope := ""
	for _, f := range found.Findings {
		if f.Rule == "sharing/rebuilt" {
			scope = fmt.Sprint(*f.Examples[0].Scope)
		}
	}
	for _, file := range []struct {
		name  string
		shots []shot
	}{
		{"pages-service", []shot{{"/record?runtime=Node", "[data-yours] li code", false}, {"/recordings", "[data-recording]", false}, {"/settings", "[data-rule]", true}, {fleet + "/services", "[data-partition]", false}}},
		{"page-overview", []shot{{at, "canvas", false}, {at + "/findings", "[data-finding]", false}}},
		{"page-finding-captive", []shot{{at + "/findings/" + captive, "[data-evidence]", false}}},
		{"page-finding-leaked-dark", []shot{{at + "/findings/" + leaked, "[data-evidence]", true}}},
		{"page-sharing", []shot{{at + "/sharing?depth=4", "[data-board-row]", false}}},
		{"page-scopes", []shot{{at + "/scopes", "canvas", false}, {at + "/scopes/" + scope, "[data-construction]", false}}},
		{"page-registrations", []shot{{at + "/registrations?view=graph", "[data-node]", false}, {at + "/registrations", "[data-registration]", true}}},
		{"page-disposal", []shot{{at + "/disposal", "canvas", false}}},
		{"page-keys", []shot{{at + "/keys", "[data-key]", false}, {at + "/layers", "[data-layer]", false}}},
		{"page-costs", []shot{{at + "/costs", "[data-cost]", false}}},
		{"page-contract", []shot{{at + "/contract", "[data-clause]", false}, {at + "/whatif?set=" + whatif, "[data-answer]", true}}},
		{"page-compare", []shot{{"/compare?b=" + found.Recording, "[data-compared]", false}}},
	} {
		if err := picture(b, url, file.name, file.shots...); err != nil {
			return err
		}
	}
	return nil
}

// hold has the service hold the contract of the office.
func hold(url string) error {
	text, err := os.ReadFile("demo/harbour/contract.yaml")
	if err != nil {
		return err
	}
	req, err := http.NewRequest(http.MethodPut, url+"/api/v1/applications/harbour-office/contract", bytes.NewReader(text))
	if err != nil {
		return err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("hold the contract: %s", res.Status)
	}
	return nil
}

// ended waits until both versions of the demo have been recorded.
func ended(url string) error {
	for began := time.Now(); time.Since(began) < time.Minute; time.Sleep(100 * time.Millisecond) {
		var list views.RecordingList
		if err := get(url+"/api/v1/recordings", &list); err != nil {
			return err
		}
		if len(list.Recordings) == 2 && list.Recordings[0].State == "ended" && list.Recordings[1].State == "ended" {
			return nil
		}
	}
	return errors.New("the demo has not ended after a minute")
}

// shot is a page, and what is there when it is ready.
type shot struct {
	path, ready string
	dark        bool
}

// picture writes one file of one or several pages, each below the other.
func picture(b *browser.Browser, url, name string, shots ...shot) error {
	var all []image.Image
	height := 0
	for _, s := range shots {
		one, err := look(b, url, s)
		if err != nil {
			return err
		}
		all = append(all, one)
		height += one.Bounds().Dy()
	}
	whole := image.NewRGBA(image.Rect(0, 0, all[0].Bounds().Dx(), height))
	y := 0
	for _, one := range all {
		draw.Draw(whole, image.Rect(0, y, whole.Rect.Dx(), y+one.Bounds().Dy()), one, one.Bounds().Min, draw.Src)
		y += one.Bounds().Dy()
	}
	var packed bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.BestCompression}).Encode(&packed, whole); err != nil {
		return fmt.Errorf("pack %s: %w", name, err)
	}
	return os.WriteFile(filepath.Join(folder, name+".png"), packed.Bytes(), 0o644)
}

func look(b *browser.Browser, url string, s shot) (image.Image, error) {
	if at := strings.Index(s.path, "/services"); at > 0 { // of others
		url, s.path = s.path[:at], s.path[at:]
	}
	p, err := b.Page(url, browser.View{Width: 1280, Height: 800, Dark: s.dark})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if err := errors.Join(p.Go(s.path), p.Wait(s.ready)); err != nil {
		return nil, err
	}
	text, err := p.Picture()
	if err != nil {
		return nil, err
	}
	for _, fault := range p.Faults() {
		return nil, fmt.Errorf("%s complains: %s", s.path, fault)
	}
	return png.Decode(bytes.NewReader(text))
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
	type command struct {
		args []string
		text string // where it has been run
	}
	for _, file := range []struct {
		name     string
		commands []command
	}{
		{"command-demo", []command{{[]string{"demo", "--once"}, demo}, {[]string{"recordings"}, ""}}},
		{"command-findings", []command{{[]string{"findings", "latest"}, ""}, {[]string{"finding", id.Findings[0].ID}, ""}}},
		{"command-check", []command{{[]string{"check", "testdata/harbour.ndjson"}, ""}, {[]string{"compare", before, id.Recording, "--fail-on", "never"}, ""}}},
		{"command-contract", []command{
			{[]string{"contract", "check", "demo/harbour/contract.yaml", "latest"}, ""}, {[]string{"whatif", "latest", "--set", "ModelTides[model/table]=singleton", "--set", "RoundedTides[model]=singleton"}, ""},
		}},
		{"command-sharing", []command{
			{[]string{"sharing", "latest", "--name", "POST /arrivals", "--last", "4", "--depth", "3"}, ""}, {[]string{"scope", "testdata/office.ndjson", "1"}, ""},
		}},
		{"command-registrations", []command{{[]string{"registrations", "testdata/office.ndjson"}, ""}, {[]string{"layers", "testdata/office.ndjson"}, ""}}},
		{"command-costs", []command{{[]string{"costs", "latest"}, ""}, {[]string{"disposal", "latest"}, ""}}},
	} {
		var texts []string
		for _, c := range file.commands {
			if c.text == "" {
				cmd := exec.Command(bin, c.args...)
				cmd.Env = append(os.Environ(), "KEENLANTERN_SERVER="+url, "NO_COLOR=1")
				out, err := onTerminal(cmd)
				if exit := (*exec.ExitError)(nil); err != nil && (!errors.As(err, &exit) || exit.ExitCode() != 1) {
					return fmt.Errorf("run %v: %w", c.args, err)
				}
				c.text = out
			}
			line := "$ keenlantern"
			for _, a := range c.args {
				if strings.ContainsAny(a, " [") {
					a = "'" + a + "'"
				}
				line += " " + a
			}
			texts = append(texts, line+"\n"+c.text)
		}
		if err := terminal(b, file.name, texts); err != nil {
			return err
		}
	}
	return nil
}

// columns is how wide the terminal is on which the pictures are taken.
const columns = 132

// onTerminal runs a command on a terminal and returns what it wrote.
func onTerminal(cmd *exec.Cmd) (string, error) {
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 50, Cols: columns})
	if err != nil {
		return "", err
	}
	defer tty.Close()
	out, err := io.ReadAll(tty)
	if err != nil && !errors.Is(err, syscall.EIO) { // which is how Linux says that the other side has gone
		return "", err
	}
	return strings.ReplaceAll(string(out), "\r\n", "\n"), cmd.Wait()
}

// terminal pictures texts as a dark terminal shows them.
func terminal(b *browser.Browser, name string, texts []string) error {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := strconv.Atoi(strings.TrimPrefix(r.URL.Path, "/")) // it is one of ours
		fmt.Fprintf(w, `<!doctype html><meta charset="utf-8"><body style="margin:0;background:#14191d;color:#dfe6ea">`+
			`<link rel="icon" href="data:,"><pre style="margin:16px;font:13.5px/1.35 'DejaVu Sans Mono',monospace">%s</pre>`, html.EscapeString(texts[min(n, len(texts)-1)]))
	}))
	defer server.Close()
	var shots []shot
	for n := range texts {
		shots = append(shots, shot{fmt.Sprintf("/%d", n), "pre", true})
	}
	return picture(b, server.URL, name, shots...)
}
