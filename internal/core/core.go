// Package core names what results are derived with. The packages in its folder do it.
package core

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"go/scanner"
	"go/token"
	"io/fs"
	"strconv"
	"strings"
	"sync"

	"keenlantern.example/spec"
)

// What a result depends on: reading, the ledger, facts, rules, and the shapes of what is stored. Views, which answer from that,
// are not among it.
//
//go:embed derive/*.go engine/*.go facts/*.go finding/*.go freeze/*.go ids/*.go ledger/*.go meter/*.go nest/*.go order/*.go patterns/*.go reader/*.go rules/*.go
var sources embed.FS

// code sums up the sources, comments and tests apart, and the table of events.
var code = sync.OnceValue(func() string {
	all := bytes.NewBuffer(bytes.Clone(spec.Events))
	err := fs.WalkDir(sources, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := sources.ReadFile(path)
		if err != nil {
			return err
		}
		all.WriteString("\x00" + path + "\x00")
		var s scanner.Scanner
		s.Init(token.NewFileSet().AddFile(path, -1, len(text)), text, nil, 0)
		for {
			_, tok, lit := s.Scan()
			if tok == token.EOF {
				return nil
			}
			all.WriteString(strconv.Itoa(int(tok)))
			all.WriteByte(' ')
			all.WriteString(lit)
			all.WriteByte(0)
		}
	})
	if err != nil {
		panic(err) // the sources are part of the program
	}
	sum := sha256.Sum256(all.Bytes())
	return hex.EncodeToString(sum[:])
})

// Key returns the derivation key of results that this program derives with some settings, which are given as text: two results
// of one key were derived in the same way, and may be compared. It changes with the trace format, the rules and their conditions,
// the settings, and the shapes of what is stored.
func Key(settings string) string {
	sum := sha256.Sum256([]byte(code() + "\x00" + settings))
	return hex.EncodeToString(sum[:8])
}
