package record_test

import (
	"bytes"
	"io"
	"net"
	"runtime"
	"testing"
	"time"

	"keenlantern.example/record"
)

// TestEndlessHeaders has something at the service's address that answers with headers without end: the recorder reads a little of them.
func TestEndlessHeaders(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer l.Close()
	sent := make(chan int64, 64)
	header := append(append([]byte("X-Tide: "), bytes.Repeat([]byte{'x'}, 4000)...), '\r', '\n')
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_, _ = conn.Read(make([]byte, 4096))
				_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\n")
				var n int64
				for n < 64<<20 {
					k, err := conn.Write(header)
					if n += int64(k); err != nil {
						break
					}
				}
				select {
				case sent <- n:
				default:
				}
			}()
		}
	}()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	rec, err := record.Start(record.Config{App: "harbour", Service: "http://" + l.Addr().String(), FlushWait: time.Millisecond, CloseWait: time.Second, Problem: func(error) {}})
	must(t, err)
	n := <-sent
	_ = rec.Close(t.Context()) // it reports that no service has answered
	runtime.ReadMemStats(&after)
	if allocated := after.TotalAlloc - before.TotalAlloc; n > 16<<20 || allocated > 16<<20 {
		t.Errorf("%d bytes of headers were taken, and %d bytes of memory", n, allocated)
	}
}
