// Command generate writes the licences of the Go modules in the program and of the npm packages in the console. It reads them where the
// toolchains have put them: the module cache, and console/node_modules.
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

func main() {
	out := flag.String("out", "", "write to this `FILE`")
	flag.Parse()
	text, err := notices(filepath.Join("..", ".."))
	if err == nil {
		err = os.WriteFile(*out, text, 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "generate:", err)
		os.Exit(1)
	}
}

// notices returns all licences, the same text once.
func notices(root string) ([]byte, error) {
	of := map[string][]string{} // the libraries under each licence text
	if err := modules(root, of); err != nil {
		return nil, err
	}
	if err := packages(root, of); err != nil {
		return nil, err
	}
	texts := make([]string, 0, len(of))
	for text := range of {
		slices.Sort(of[text])
		texts = append(texts, text)
	}
	slices.SortFunc(texts, func(a, b string) int { return strings.Compare(of[a][0], of[b][0]) })
	var b bytes.Buffer
	b.WriteString("Keen Lantern holds these libraries. Each is under the licence that stands below its name.\n")
	for _, text := range texts {
		fmt.Fprintf(&b, "\n%s\n%s\n\n%s\n", strings.Repeat("=", 80), strings.Join(of[text], "\n"), text)
	}
	return b.Bytes(), nil
}

// modules adds the Go modules of the program, on any system so far as they are on this one, and Go itself.
func modules(root string, of map[string][]string) error {
	seen := map[string]bool{}
	for _, system := range []string{"linux", "windows", "darwin"} {
		cmd := exec.Command("go", "list", "-e", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}", "./cmd/keenlantern")
		cmd.Dir, cmd.Env = root, append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0")
		said, err := cmd.Output()
		if err != nil {
			return fmt.Errorf("list the modules: %w", err)
		}
		for line := range strings.Lines(string(said)) {
			words := strings.SplitN(strings.TrimSpace(line), " ", 3)
			if len(words) != 3 || seen[words[0]] || strings.HasPrefix(words[0], "keenlantern.example") {
				continue
			}
			seen[words[0]] = true
			if err := add(of, words[0]+" "+words[1], words[2]); err != nil {
				return err
			}
		}
	}
	said, err := exec.Command("go", "env", "GOROOT", "GOVERSION").Output()
	if err != nil {
		return fmt.Errorf("find Go: %w", err)
	}
	words := strings.Fields(string(said))
	return add(of, "Go's standard library "+words[1], words[0])
}

// packages adds the packages of the console's lock file that are not development tools.
func packages(root string, of map[string][]string) error {
	text, err := os.ReadFile(filepath.Join(root, "console", "package-lock.json"))
	if err != nil {
		return fmt.Errorf("read the console's packages: %w", err)
	}
	var lock struct {
		Packages map[string]struct {
			Version, License string
			Dev, Optional    bool
		}
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return fmt.Errorf("read the console's packages: %w", err)
	}
	for path, p := range lock.Packages {
		if path == "" || p.Dev || p.Optional {
			continue
		}
		name := path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):] + " " + p.Version
		if err := add(of, name, filepath.Join(root, "console", path)); err != nil {
			of["Licence: "+p.License] = append(of["Licence: "+p.License], name) // it comes without the text
		}
	}
	return nil
}

// add adds a library by the licence, and the notice if there is one, in its folder.
func add(of map[string][]string, name, folder string) error {
	var texts []string
	entries, err := os.ReadDir(folder)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	for _, e := range entries {
		upper := strings.ToUpper(e.Name())
		if e.Type().IsRegular() && (strings.HasPrefix(upper, "LICENSE") || strings.HasPrefix(upper, "LICENCE") || strings.HasPrefix(upper, "COPYING") || strings.HasPrefix(upper, "NOTICE")) {
			text, err := os.ReadFile(filepath.Join(folder, e.Name()))
			if err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			texts = append(texts, strings.TrimSpace(strings.ReplaceAll(string(text), "\r\n", "\n")))
		}
	}
	if len(texts) == 0 {
		return fmt.Errorf("%s has no licence in %s", name, folder)
	}
	text := strings.Join(texts, "\n\n")
	of[text] = append(of[text], name)
	return nil
}
