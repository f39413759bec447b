// Package browser looks at a running service as a person does: it starts the built program on a free port, and opens
// Debian's Chromium on it. The browser tests and the command that makes the documentation's pictures share it.
package browser

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Build builds the program, with the console that has been built, and returns where it is.
func Build(folder string) (string, error) {
	bin := filepath.Join(folder, "keenlantern")
	out, err := exec.Command("go", "build", "-o", bin, "keenlantern.example/cmd/keenlantern").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("build the program: %w: %s", err, out)
	}
	return bin, nil
}

// Service is a running program.
type Service struct {
	URL  string
	cmd  *exec.Cmd
	said *bytes.Buffer
	done chan struct{}
	err  error
}

var listens = regexp.MustCompile(`Keen Lantern listens at (\S+);`)

// Serve runs "keenlantern serve" or "demo" with args on a free port of loopback and waits until it listens. An address
// in args comes after and wins.
func Serve(bin, command, data string, args ...string) (*Service, error) {
	s := &Service{said: &bytes.Buffer{}, done: make(chan struct{})}
	s.cmd = exec.Command(bin, append([]string{command, "--listen", "127.0.0.1:0", "--data", data}, args...)...)
	s.cmd.Stderr = s.said
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("start the service: %w", err)
	}
	url := make(chan string, 1)
	go func() {
		defer close(s.done)
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			if m := listens.FindStringSubmatch(lines.Text()); m != nil {
				select {
				case url <- m[1]:
				default:
				}
			}
		}
		s.err = s.cmd.Wait()
	}()
	select {
	case s.URL = <-url:
		return s, nil
	case <-s.done:
		return nil, fmt.Errorf("the service ended at once: %w: %s", s.err, s.said)
	case <-time.After(30 * time.Second):
		err := errors.Join(errors.New("the service does not listen after 30 s"), s.cmd.Process.Kill())
		<-s.done
		return nil, fmt.Errorf("%w: %s", err, s.said)
	}
}

// Stop ends the service in order and waits for it.
func (s *Service) Stop() error {
	if err := s.cmd.Process.Signal(syscall.SIGTERM); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-s.done:
		return s.err
	case <-time.After(15 * time.Second):
		return errors.Join(errors.New("the service did not end within 15 s"), s.cmd.Process.Kill())
	}
}

// Kill ends the service as a crash would, unless it has ended.
func (s *Service) Kill() {
	_ = s.cmd.Process.Kill() // it may have ended
	<-s.done
}

// PID is its process's.
func (s *Service) PID() int { return s.cmd.Process.Pid }

// Wait waits for a service that ends by itself.
func (s *Service) Wait() error {
	<-s.done
	return s.err
}

// Browser is an open Chromium.
type Browser struct {
	ctx  context.Context
	stop func()
}

// ErrNone is returned when there is no Chromium.
var ErrNone = errors.New("there is no chromium on this machine; 'make chromium' installs it")

// Open starts Chromium without a window.
func Open() (*Browser, error) {
	path := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if found, err := exec.LookPath(name); err == nil {
			path = found
			break
		}
	}
	if path == "" {
		return nil, ErrNone
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("hide-scrollbars", true),
	)
	alloc, stopAlloc := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, stop := chromedp.NewContext(alloc)
	if err := chromedp.Do(ctx); err != nil {
		stop()
		stopAlloc()
		return nil, fmt.Errorf("start chromium: %w", err)
	}
	return &Browser{ctx: ctx, stop: func() { stop(); stopAlloc() }}, nil
}

// Close ends Chromium.
func (b *Browser) Close() { b.stop() }

// Page is one tab. What the page complains of, and requests that leave the service's host, are kept.
type Page struct {
	ctx  context.Context
	stop func()
	base *url.URL

	mu     sync.Mutex
	faults []string
}

// View is how a page is inspected.
type View struct {
	Width, Height int64
	Dark          bool
}

// Page opens a tab for the service at base.
func (b *Browser) Page(base string, v View) (*Page, error) {
	at, err := url.Parse(base)
	if err != nil {
		return nil, err
	}
	ctx, stop := chromedp.NewContext(b.ctx)
	p := &Page{ctx: ctx, stop: stop, base: at}
	if err := p.prepare(v); err != nil {
		stop()
		return nil, fmt.Errorf("open a tab: %w", err)
	}
	return p, nil
}

func (p *Page) prepare(v View) error {
	if err := chromedp.Listen(p.ctx, p.hear); err != nil {
		return err
	}
	if _, err := chromedp.Call(p.ctx, network.Enable, network.EnableParams{}); err != nil {
		return err
	}
	scheme := "light"
	if v.Dark {
		scheme = "dark"
	}
	media := emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}}
	if _, err := chromedp.Call(p.ctx, emulation.SetEmulatedMedia, media); err != nil {
		return err
	}
	return chromedp.Do(p.ctx, chromedp.EmulateViewport(v.Width, v.Height))
}

func (p *Page) hear(ev any) {
	switch e := ev.(type) {
	case *network.EventRequestWillBeSent:
		if u, err := url.Parse(e.Request.URL); err == nil && u.Host != p.base.Host && u.Scheme != "data" && u.Scheme != "blob" && u.Scheme != "about" {
			p.fault("a request left the service: " + e.Request.URL)
		}
	case *runtime.EventExceptionThrown:
		what := e.ExceptionDetails.Text
		if x := e.ExceptionDetails.Exception; x != nil {
			what += " " + x.Description
		}
		p.fault("an exception: " + what)
	case *runtime.EventConsoleAPICalled:
		if e.Type == "error" || e.Type == "warning" {
			words := []string{}
			for _, a := range e.Args {
				words = append(words, fmt.Sprintf("%s %s", a.Value, a.Description))
			}
			p.fault(fmt.Sprintf("console %s: %s", e.Type, strings.Join(words, " ")))
		}
	}
}

func (p *Page) fault(what string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.faults = append(p.faults, what)
}

// Faults returns what the page complained of so far.
func (p *Page) Faults() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string(nil), p.faults...)
}

// Close closes the tab.
func (p *Page) Close() { p.stop() }

// patience is how long a page may take to come to what is asked of it.
const patience = 30 * time.Second

// Do runs actions in the tab.
func (p *Page) Do(actions ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Do(ctx, actions...)
}

// run runs one action that has a result.
func run[T any](p *Page, action chromedp.Action[T]) (T, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, action)
}

// Go opens an address of the service, such as "/recordings".
func (p *Page) Go(path string) error {
	if err := p.Do(chromedp.Navigate(p.base.String() + path)); err != nil {
		return fmt.Errorf("open %s: %w", path, err)
	}
	return nil
}

// Wait waits until an element that selector finds can be seen.
func (p *Page) Wait(selector string) error {
	if err := p.Do(chromedp.WaitVisible(chromedp.CSS(selector))); err != nil {
		return fmt.Errorf("wait for %s: %w", selector, err)
	}
	return nil
}

// Text returns the visible text of the first element that selector finds, once it is there.
func (p *Page) Text(selector string) (string, error) {
	if err := p.Wait(selector); err != nil {
		return "", err
	}
	return run(p, chromedp.Text(chromedp.CSS(selector)))
}

// Count returns how many elements selector finds now.
func (p *Page) Count(selector string) (int, error) {
	return run(p, chromedp.Evaluate[int](fmt.Sprintf("document.querySelectorAll(%q).length", selector)))
}

// Truth returns what a JavaScript condition comes to.
func (p *Page) Truth(condition string) (bool, error) {
	return run(p, chromedp.Evaluate[bool]("Boolean("+condition+")"))
}

// Value returns the text that a JavaScript expression comes to.
func (p *Page) Value(expression string) (string, error) {
	return run(p, chromedp.Evaluate[string]("String("+expression+")"))
}

// Run runs a script, whatever it comes to.
func (p *Page) Run(script string) error {
	_, err := run(p, chromedp.Evaluate[bool]("(() => { "+script+"; })(), true"))
	return err
}

// Type types into the first element that selector finds, once it is there.
func (p *Page) Type(selector, words string) error {
	if err := p.Do(chromedp.SendKeys(chromedp.CSS(selector), words)); err != nil {
		return fmt.Errorf("type into %s: %w", selector, err)
	}
	return nil
}

// Location returns the tab's address without the service's.
func (p *Page) Location() (string, error) {
	at, err := run(p, chromedp.Location())
	return strings.TrimPrefix(at, p.base.String()), err
}

// Back does what the browser's back button does.
func (p *Page) Back() error { return p.Do(chromedp.NavigateBack()) }

// Press presses a key, such as "\t" or "\r".
func (p *Page) Press(key string) error { return p.Do(chromedp.KeyEvent(key)) }

// Click clicks the first element that selector finds, once it is there.
func (p *Page) Click(selector string) error {
	if err := p.Do(chromedp.Click(chromedp.CSS(selector), chromedp.NodeVisible)); err != nil {
		return fmt.Errorf("click %s: %w", selector, err)
	}
	return nil
}

// Picture returns a PNG of what the tab shows.
func (p *Page) Picture() ([]byte, error) {
	if err := p.Do(chromedp.Sleep(400 * time.Millisecond)); err != nil {
		return nil, err
	}
	return run(p, chromedp.CaptureScreenshot())
}
