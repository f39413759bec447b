// Command pack packs the Go recorders' modules as a Go module proxy serves them:
//
//	go run ./recorders/pack [-version v1.2.3] recorders/go recorders/dist/go
//
// Without a version that is a release's, they get one that is made of what they contain, so that one version never means two
// things: v0.1.0-dev.1f2e3d4c5b6a.
package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/mod/modfile"
	"golang.org/x/mod/module"
	"golang.org/x/mod/semver"
	"golang.org/x/mod/zip"
)

func main() {
	version := flag.String("version", "", "the release's version; any other text is none")
	flag.Parse()
	if flag.NArg() != 2 {
		fmt.Fprintln(os.Stderr, "usage: pack [-version v1.2.3] FOLDER OUTPUT")
		os.Exit(2)
	}
	if err := pack(flag.Arg(0), flag.Arg(1), *version); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// packed is a module with its files, go.mod apart.
type packed struct {
	mod   *modfile.File
	files []zip.File
}

func pack(from, to, version string) error {
	mods, err := modules(from)
	if err != nil {
		return err
	}
	if !semver.IsValid(version) || semver.Canonical(version) != version || semver.Prerelease(version) != "" {
		if version, err = contents(mods); err != nil {
			return err
		}
	}
	if err := os.RemoveAll(to); err != nil {
		return fmt.Errorf("pack the recorders: %w", err)
	}
	for _, m := range mods {
		if err := m.write(to, version); err != nil {
			return fmt.Errorf("pack %s: %w", m.mod.Module.Mod.Path, err)
		}
	}
	return nil
}

// modules reads the modules in a folder, which may lie within each other.
func modules(folder string) (list []*packed, err error) {
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && d.Name() == "gallery" {
			return filepath.SkipDir // applications that show the recorders, and no part of them
		}
		if err != nil || d.Name() != "go.mod" {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		mod, err := modfile.Parse(path, text, nil)
		if err != nil {
			return err
		}
		m := &packed{mod: mod}
		m.files, err = within(filepath.Dir(path))
		list = append(list, m)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("read the recorders: %w", err)
	}
	return list, nil
}

// within lists a module's files: those of its folder that are in no other module.
func within(folder string) (list []zip.File, err error) {
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && path != folder {
			if _, err := os.Stat(filepath.Join(path, "go.mod")); err == nil {
				return fs.SkipDir
			}
		}
		if !d.Type().IsRegular() || d.Name() == "go.mod" || strings.HasSuffix(path, ".test") || strings.HasSuffix(path, ".prof") {
			return nil
		}
		name, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		text, err := os.ReadFile(path)
		list = append(list, file{filepath.ToSlash(name), text})
		return err
	})
	return list, err
}

// file is a file of a module.
type file struct {
	name string
	text []byte
}

// Path returns its name within the module.
func (f file) Path() string { return f.name }

// Lstat reports its size.
func (f file) Lstat() (os.FileInfo, error) { return info{f}, nil }

// Open returns its contents.
func (f file) Open() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(f.text)), nil }

type info struct{ file }

func (i info) Name() string       { return filepath.Base(i.name) }
func (i info) Size() int64        { return int64(len(i.text)) }
func (i info) Mode() fs.FileMode  { return 0o644 }
func (i info) ModTime() time.Time { return time.Time{} }
func (i info) IsDir() bool        { return false }
func (i info) Sys() any           { return nil }

// contents makes a version of all that the modules contain.
func contents(mods []*packed) (string, error) {
	sum := sha256.New()
	base := "v0.0.0"
	for _, m := range mods {
		text, err := m.mod.Format()
		if err != nil {
			return "", fmt.Errorf("write go.mod: %w", err)
		}
		fmt.Fprintf(sum, "%s\x00%d\x00%s", m.mod.Module.Mod.Path, len(text), text)
		for _, f := range m.files {
			f := f.(file)
			fmt.Fprintf(sum, "%s\x00%d\x00%s", f.name, len(f.text), f.text)
		}
		for _, r := range m.mod.Require {
			if slices.ContainsFunc(mods, func(o *packed) bool { return o.mod.Module.Mod.Path == r.Mod.Path }) && semver.Compare(r.Mod.Version, base) > 0 {
				base = r.Mod.Version
			}
		}
	}
	return fmt.Sprintf("%s-dev.h%x", base, sum.Sum(nil)[:6]), nil
}

// write writes what a proxy serves of one version of a module. It needs the others in that version too, and from nowhere else.
func (m *packed) write(to, version string) error {
	for _, r := range m.mod.Replace {
		if err := m.mod.DropReplace(r.Old.Path, r.Old.Version); err != nil {
			return err
		}
	}
	for _, r := range m.mod.Require {
		if strings.HasPrefix(r.Mod.Path, "keenlantern.example/") {
			if err := m.mod.AddRequire(r.Mod.Path, version); err != nil {
				return err
			}
		}
	}
	m.mod.Cleanup()
	mod, err := m.mod.Format()
	if err != nil {
		return err
	}
	path, err := module.EscapePath(m.mod.Module.Mod.Path)
	if err != nil {
		return err
	}
	folder := filepath.Join(to, filepath.FromSlash(path), "@v")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	var archive bytes.Buffer
	v := module.Version{Path: m.mod.Module.Mod.Path, Version: version}
	if err := zip.Create(&archive, v, append([]zip.File{file{"go.mod", mod}}, m.files...)); err != nil {
		return err
	}
	about, err := json.Marshal(struct{ Version string }{version})
	if err != nil {
		return err
	}
	for name, text := range map[string][]byte{
		"list": []byte(version + "\n"), version + ".info": about, version + ".mod": mod, version + ".zip": archive.Bytes(), "../@latest": about,
	} {
		if err := os.WriteFile(filepath.Join(folder, filepath.FromSlash(name)), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}
