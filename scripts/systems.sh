#!/bin/sh
# Builds the program and the recorder for Go for each system that they run on, but the one on which all else is tested (Linux on amd64), and
# vets what differs between systems. Where the libraries of a system cannot be had, what needs them is left out, which is written into the
# file $1. Tests of the program are for Linux: they are not vetted for the others.
set -eu
cd "$(dirname "$0")/.."
rm -f "$1"
needs='{{$needs := false}}{{range .Deps}}{{if or (eq . "modernc.org/libc") (eq . "github.com/nats-io/nats-server/v2/server")}}{{$needs = true}}{{end}}{{end}}'
for target in linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64; do
  system=${target%/*} machine=${target#*/}
  export GOFLAGS=-pgo=off GOOS=$system GOARCH=$machine CGO_ENABLED=0
  for module in recorders/go recorders/go/samberdo recorders/go/uberdig recorders/go/uberfx; do
    (cd "$module" && go build ./...)
  done
  if go build -o /dev/null modernc.org/sqlite github.com/nats-io/nats-server/v2/server 2>/dev/null; then
    go build -o /dev/null ./cmd/keenlantern
  else
    # shellcheck disable=SC2046 # a list of packages
    go build $(go list -e -f "$needs{{if not (or \$needs .DepsErrors (not .GoFiles))}}{{.ImportPath}}{{end}}" ./... 2>/dev/null)
    echo "The program was not built for $system on $machine: the libraries that its store and its log need there could not be had." >>"$1"
  fi
  if [ "$machine" = amd64 ]; then
    (cd recorders/go && go vet .)
    go vet ./internal/follow/regular
  fi
done
