package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/load"
)

// BenchmarkCheck runs 'keenlantern check --format json', as it is built, on a million events of each shape alternately with
// 'jq -c .ev' on the same file, and reports events a second, how many times as fast it is, and the memory it takes at most. For the
// heavy shape, a thousand scopes are open all the time, and memory is measured with five million events, too.
func BenchmarkCheck(b *testing.B) {
	folder := b.TempDir()
	program := filepath.Join(folder, "keenlantern")
	out, err := exec.Command("go", "build", "-pgo=auto", "-o", program, ".").CombinedOutput()
	require.NoError(b, err, "%s", out)
	jq, err := exec.LookPath("jq")
	if err != nil {
		b.Log("jq is not installed: the ratios to it are left out")
	}
	run := func(name string, args ...string) (took time.Duration, peak float64) {
		cmd := exec.Command(name, args...)
		from := time.Now()
		err := cmd.Run()
		took = time.Since(from)
		if cmd.ProcessState.ExitCode() > 1 { // 1: there are findings
			require.NoError(b, err)
		}
		return took, float64(cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) / 1000
	}
	for _, shape := range load.Shapes {
		b.Run(shape.Name, func(b *testing.B) {
			open := 1
			if shape.Name == "heavy" {
				open = 1000
			}
			write := func(events int) (file string, lines int) {
				file = filepath.Join(folder, fmt.Sprintf("%s-%d.ndjson", shape.Name, events))
				to, err := os.Create(file)
				require.NoError(b, err)
				w := shape.New(shape.Name, open)
				for left := events / shape.Each; left > 0; left -= 1000 {
					_, err = to.Write(w.Requests(min(left, 1000)))
					require.NoError(b, err)
				}
				_, err = to.Write(w.End())
				require.NoError(b, err)
				require.NoError(b, to.Close())
				return file, events
			}
			file, events := write(1_000_000)
			var ours, theirs []time.Duration
			peak := 0.0
			for b.Loop() {
				took, memory := run(program, "check", "--format", "json", file)
				ours, peak = append(ours, took), max(peak, memory)
				if jq != "" {
					took, _ = run(jq, "-c", ".ev", file)
					theirs = append(theirs, took)
				}
			}
			b.ReportMetric(float64(events)/slices.Min(ours).Seconds()/1e6, "Mevents/s")
			b.ReportMetric(peak, "peak-MB")
			if jq != "" {
				b.ReportMetric(slices.Min(theirs).Seconds()/slices.Min(ours).Seconds(), "times-jq")
			}
			if open > 1 {
				long, _ := write(5_000_000)
				_, memory := run(program, "check", "--format", "json", long)
				b.ReportMetric(memory, "5M-peak-MB")
			}
		})
	}
}
