package cli

import (
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"keenlantern.example/internal/report"
)

// progress is a file that is being read, and shows on standard error how far it is where that is a terminal.
type progress struct {
	io.Reader
	read atomic.Int64
	stop chan struct{}
	wait sync.WaitGroup
}

const progressEvery = 200 * time.Millisecond

func startProgress(std IO, name string, file *os.File) *progress {
	p := &progress{Reader: file, stop: make(chan struct{})}
	info, err := file.Stat()
	if !std.Watched || err != nil || !info.Mode().IsRegular() {
		return p
	}
	p.wait.Go(func() {
		tick := time.NewTicker(progressEvery)
		defer tick.Stop()
		for {
			select {
			case <-p.stop:
				fmt.Fprint(std.Err, "\r\x1b[K") // the line is gone when the work is done
				return
			case <-tick.C:
			}
			size, read := info.Size(), p.read.Load()
			fmt.Fprintf(std.Err, "\r\x1b[K%s: %d of %d MB sent, %d %%", report.Clean(name), read>>20, size>>20, 100*read/max(1, size))
		}
	})
	return p
}

// Read counts what is read.
func (p *progress) Read(b []byte) (int, error) {
	n, err := p.Reader.Read(b)
	p.read.Add(int64(n))
	return n, err
}

func (p *progress) end() {
	close(p.stop)
	p.wait.Wait()
}
