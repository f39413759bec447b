// Command packphp packs the PHP recorder as Composer installs it:
//
//	go run ./recorders/packphp [-version v1.2.3] recorders/php recorders/dist/php
//
// Without a version that is a release's, it gets one that is made of what it contains, so that one version never means two things:
// 0.1.0.51243.
package main

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
)

func main() {
	version := flag.String("version", "", "the release's version; any other text is none")
	flag.Parse()
	if flag.NArg() != 2 {
		fmt.Fprintln(os.Stderr, "usage: packphp [-version v1.2.3] FOLDER OUTPUT")
		os.Exit(2)
	}
	if err := pack(flag.Arg(0), flag.Arg(1), *version); err != nil {
		fmt.Fprintln(os.Stderr, "pack the PHP recorder:", err)
		os.Exit(1)
	}
}

var release = regexp.MustCompile(`^v\d+\.\d+\.\d+$`)

func pack(from, to, version string) error {
	names := []string{"composer.json", "README.md"}
	err := filepath.WalkDir(filepath.Join(from, "src"), func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			name, _ := filepath.Rel(from, path) // it lies in from
			names = append(names, filepath.ToSlash(name))
		}
		return err
	})
	if err != nil {
		return err
	}
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	for _, name := range append(names, "../../LICENSE") {
		text, err := os.ReadFile(filepath.Join(from, name))
		if err != nil {
			return err
		}
		// No times: the same files give the same bytes.
		w, err := z.CreateHeader(&zip.FileHeader{Name: strings.TrimPrefix(name, "../../"), Method: zip.Deflate})
		if err != nil {
			return err
		}
		if _, err := w.Write(text); err != nil {
			return err
		}
	}
	if err := z.Close(); err != nil {
		return err
	}
	if release.MatchString(version) {
		version = version[1:]
	} else {
		sum := sha256.Sum256(packed.Bytes())
		version = fmt.Sprintf("0.1.0.%d", binary.BigEndian.Uint32(sum[:])>>1)
	}
	about, err := os.ReadFile(filepath.Join(from, "composer.json"))
	if err != nil {
		return err
	}
	if err := errors.Join(os.RemoveAll(to), os.MkdirAll(to, 0o755)); err != nil {
		return err
	}
	return errors.Join(
		os.WriteFile(filepath.Join(to, "keenlantern-record-"+version+".zip"), packed.Bytes(), 0o644),
		os.WriteFile(filepath.Join(to, "composer.json"), about, 0o644),
	)
}
