#!/bin/sh
# Measures everything and compares it with what was recorded: bench.sh RECORDED [1: record]
set -eu
recorded=$1
pgo=$(pwd)/cmd/keenlantern/default.pgo # as the program is built
now=$(mktemp)
trap 'rm -f "$now"' EXIT
for n in 1 2 3 4 5 6; do # benchstat needs six to tell a difference from noise
	echo "round $n of 6" >&2
	go test -pgo=$pgo -run '^$' -bench . -benchtime 3x -timeout 60m ./internal/core/... ./internal/service/... ./cmd/keenlantern >>"$now"
	(cd recorders/go && go test -run '^$' -bench . -benchtime 1s ./...) >>"$now"
done
if [ "${2:-}" ]; then
	mkdir -p "$(dirname "$recorded")"
	grep -E '^(Benchmark|goos|goarch|pkg|cpu)' "$now" >"$recorded"
	echo "recorded in $recorded"
	exit
fi
if ! [ -f "$recorded" ]; then
	go tool benchstat "$now"
	echo "nothing was recorded to compare with: RECORD=1 make bench"
	exit
fi
go tool benchstat "recorded=$recorded" "now=$now"
echo
echo "What got worse (time, and only where benchstat tells it from noise):"
go tool benchstat -format csv "recorded=$recorded" "now=$now" 2>/dev/null |
	awk -F, '/sec\/op/ { time = 1; next } /^,recorded/ || /^$/ { next } /\/op|\/s|events/ && $1 == "" { time = ($2 == "sec/op") } time && $6 ~ /^\+/ { print "  " $1 ": " $6; worse = 1 } END { if (!worse) print "  nothing" }'
