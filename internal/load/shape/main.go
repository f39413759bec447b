// Command shape writes a trace of one of the shapes that speed is measured for:
//
//	go run ./internal/load/shape heavy 1000000 1000 > heavy.ndjson
//
// are about a million events with a thousand requests open at once.
package main

import (
	"bufio"
	"fmt"
	"os"
	"strconv"

	"keenlantern.example/internal/load"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "shape:", err)
		os.Exit(2)
	}
}

func run(args []string) error {
	if len(args) < 2 {
		return fmt.Errorf("usage: shape NAME EVENTS [OPEN [STREAMS]]")
	}
	numbers := []int{0, 1, 1}
	for n, text := range args[1:] {
		number, err := strconv.Atoi(text)
		if err != nil || n >= len(numbers) || number < 1 {
			return fmt.Errorf("%q: a number from 1", text)
		}
		numbers[n] = number
	}
	events, open, streams := numbers[0], numbers[1], numbers[2]
	for _, s := range append([]load.Shape{load.Enterprise}, load.Shapes...) {
		if s.Name == args[0] {
			out := bufio.NewWriterSize(os.Stdout, 1<<20)
			for n := range streams {
				w := s.New(fmt.Sprintf("%s-%d", s.Name, n+1), open)
				for left := events / streams / s.Each; left > 0; left -= 1000 {
					if _, err := out.Write(w.Requests(min(left, 1000))); err != nil {
						return err
					}
				}
				if _, err := out.Write(w.End()); err != nil {
					return err
				}
			}
			return out.Flush()
		}
	}
	return fmt.Errorf("there is no shape %q", args[0])
}
