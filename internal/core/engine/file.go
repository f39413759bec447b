package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/record/event"
)

// ErrNoStream is returned when a file holds no hello, and so nothing that could be analysed.
var ErrNoStream = errors.New("no stream in it: no line is a hello, with which every stream starts")

// Splitter gives each line of a file to the stream it belongs to: a stream goes from its hello to the next one.
type Splitter struct {
	Set    rules.Settings                   // for the streams that begin from now on
	Scopes func(stream int, c derive.Chunk) // where the chunks of the log of scopes go; nil: nowhere
	Stop   *meter.Stop                      // ends the analysis from outside; nil: nothing does
	Bare   bool                             // the streams' States are not needed

	streams []*Analysis
	early   []Refusal // before the first hello
	lines   int64
}

// Put takes the next line.
func (f *Splitter) Put(line reader.Line) { f.PutAll([]reader.Line{line}) }

// PutAll takes the next lines.
func (f *Splitter) PutAll(lines []reader.Line) {
	from := 0
	for n := range lines {
		// The stream that goes on takes what is before the next one's hello.
		if ev := lines[n].Event; ev != nil && ev.Kind == event.Hello {
			f.put(lines[from:n])
			from = n
			if !f.repeats(ev) {
				f.begin()
			}
		}
	}
	f.put(lines[from:])
}

func (f *Splitter) put(lines []reader.Line) {
	if len(f.streams) > 0 {
		f.streams[len(f.streams)-1].PutAll(lines)
		return
	}
	for n := range lines {
		why := lines[n].Refused
		if why == "" {
			why = "before any hello: a stream starts with one"
		}
		f.lines++
		if len(f.early) < maxRefusals {
			f.early = append(f.early, Refusal{lines[n].Number, why})
		}
	}
}

// Streams returns how many streams have begun.
func (f *Splitter) Streams() int { return len(f.streams) }

// Finish ends the n-th stream, from 0, and returns it to be asked. Its memory is released: nothing may be put into it
// afterwards.
func (f *Splitter) Finish(n int) *Analysis {
	s := f.streams[n]
	s.Finish()
	f.streams[n] = nil
	return s
}

// repeats reports whether a hello is that of the stream that is going on, once more: a line that was written twice.
func (f *Splitter) repeats(hello *event.Event) bool {
	if len(f.streams) == 0 {
		return false
	}
	last := f.streams[len(f.streams)-1].world
	return !last.Ended && hello.Stream == last.Stream.Stream && hello.Start == last.Stream.StartText && hello.App == last.Stream.App
}

func (f *Splitter) begin() {
	n := len(f.streams)
	s := newStream(f.Set, false)
	if !f.Bare {
		s.track(func(c derive.Chunk) {
			if f.Scopes != nil {
				f.Scopes(n, c)
			}
		})
	}
	s.Obey(f.Stop)
	if len(f.streams) == 0 {
		s.health.Lines, s.health.Refused, s.health.Refusals = f.lines, f.lines, f.early
	}
	f.streams = append(f.streams, s)
}

// Analyse reads a whole file, of one stream or several, plain or compressed. It returns what it could read together
// with an error where the input broke off in the middle, and ErrNoStream where nothing could be read at all. It ends soon
// after ctx does, with ErrInterrupted.
func Analyse(ctx context.Context, in io.Reader, opts reader.Options, set rules.Settings) (*Result, error) {
	results := []*Result{}
	err := read(ctx, in, opts, &Splitter{Set: set, Bare: true}, func(_ int, s *Analysis) { results = append(results, s.Result()) })
	if len(results) == 0 {
		return nil, err
	}
	return Merge(results), err
}

// Studied is one stream of a file with all that views answer from.
type Studied struct {
	Result *Result
	State  *derive.State
	Chunks []derive.Chunk // the whole log of its scopes
}

// Study is Analyse that keeps the streams apart, with their states and logs of scopes.
func Study(ctx context.Context, in io.Reader, opts reader.Options, set rules.Settings) ([]Studied, error) {
	var out []Studied
	at := func(n int) *Studied {
		for len(out) <= n {
			out = append(out, Studied{})
		}
		return &out[n]
	}
	f := &Splitter{Set: set, Scopes: func(n int, c derive.Chunk) { at(n).Chunks = append(at(n).Chunks, c) }}
	err := read(ctx, in, opts, f, func(n int, s *Analysis) { at(n).Result, at(n).State = s.Result(), s.State() })
	return out, err
}

// read reads a whole file into f and gives each stream to done when it has ended.
func read(ctx context.Context, in io.Reader, opts reader.Options, f *Splitter, done func(n int, s *Analysis)) error {
	plain, err := reader.Decompress(in)
	if err != nil {
		return err
	}
	defer plain.Close()
	f.Stop = &meter.Stop{}
	defer context.AfterFunc(ctx, f.Stop.Call)()
	finished := 0
	broken := readAll(ctx, reader.New(plain, opts), func(lines []reader.Line) {
		for f.PutAll(lines); f.Streams() > finished+1; finished++ {
			done(finished, f.Finish(finished))
		}
	})
	if f.Stop.Called() {
		return ErrInterrupted
	}
	if f.Streams() > 0 {
		done(finished, f.Finish(finished))
	} else if broken == nil {
		return ErrNoStream
	}
	return broken
}

// Each gives all lines of a trace to put, in order, until it returns false. Reading goes on ahead where there is a core for it. An
// event is overwritten by a later one. The error is that of what the input broke off with, or ctx's.
func Each(ctx context.Context, r *reader.Reader, put func(reader.Line) bool) error {
	until, enough := context.WithCancel(ctx)
	defer enough()
	goesOn := true
	err := readAll(until, r, func(lines []reader.Line) {
		for _, line := range lines {
			if goesOn = goesOn && put(line); !goesOn {
				enough()
			}
		}
	})
	if !goesOn {
		return nil
	}
	return errors.Join(err, ctx.Err())
}

// readAll gives all lines to put in order and returns what the input broke off with, nil at its end.
func readAll(ctx context.Context, r *reader.Reader, put func([]reader.Line)) error {
	if runtime.GOMAXPROCS(0) > 1 {
		return readAhead(ctx, r, put)
	}
	few := &few{}
	for ctx.Err() == nil {
		err := few.read(r)
		put(few.lines[:few.n])
		if err != nil {
			return ended(err)
		}
	}
	return nil
}

func brokeOff(line reader.Line, err error) error {
	return fmt.Errorf("read line %d: %w", line.Number+1, err)
}

// fewLines is how many lines are put at once: so few that their events stay cached.
const fewLines = 8

// PutAll gives all lines of a trace to s, on the caller's core. The error is what the input ended with, io.EOF at its end.
func PutAll(r *reader.Reader, s *Analysis) error {
	few := rooms.Get().(*few)
	defer rooms.Put(few)
	for {
		err := few.read(r)
		s.PutAll(few.lines[:few.n])
		if err != nil {
			return err
		}
	}
}

var rooms = sync.Pool{New: func() any { return &few{} }}

// few are lines with room for their events.
type few struct {
	lines  [fewLines]reader.Line
	events [fewLines]event.Event
	n      int
}

// read fills f from r. The error is that behind the last line.
func (f *few) read(r *reader.Reader) error {
	for f.n = 0; f.n < fewLines; f.n++ {
		line := &f.lines[f.n]
		if err := r.NextInto(line, &f.events[f.n]); err != nil {
			return brokeOffAt(*line, err)
		}
		line.Text = nil // it is the reader's own, and has moved on
	}
	return nil
}

// take fills f from a parcel.
func (f *few) take(p *reader.Parcel) {
	for f.n = 0; f.n < fewLines && p.Len() > 0; f.n++ {
		f.events[f.n].Reset()
		f.lines[f.n] = p.Take(&f.events[f.n])
	}
}

func brokeOffAt(line reader.Line, err error) error {
	if errors.Is(err, io.EOF) {
		return err
	}
	return brokeOff(line, err)
}

// ended returns what the input broke off with, nil at its end.
func ended(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// aheadParcels is how many parcels of lines are read ahead of the analysis.
const aheadParcels = 8

// ahead is a parcel and what came behind its last line.
type ahead struct {
	reader.Parcel
	err error
}

func (a *ahead) read(r *reader.Reader, room *event.Event) {
	var line reader.Line
	for a.Reset(); !a.Full(); {
		if err := r.NextInto(&line, room); err != nil {
			a.err = brokeOffAt(line, err)
			return
		}
		a.Add(&line)
	}
}

// readAhead is readAll that reads on its own core; put runs on the caller's. It returns when its goroutine has ended,
// or when ctx has: a read that waits for input cannot be interrupted, and its goroutine then ends with it.
func readAhead(ctx context.Context, r *reader.Reader, put func([]reader.Line)) error {
	free, full := make(chan *ahead, aheadParcels), make(chan *ahead, aheadParcels)
	for range aheadParcels {
		free <- &ahead{}
	}
	go func() {
		defer close(full)
		room := &event.Event{}
		for a := range free {
			a.read(r, room)
			full <- a
			if a.err != nil {
				return
			}
		}
	}()
	few := &few{}
	for {
		var a *ahead
		select {
		case a = <-full:
		case <-ctx.Done():
			close(free)
			return nil
		}
		for a.Len() > 0 {
			few.take(&a.Parcel)
			put(few.lines[:few.n])
		}
		if a.err != nil {
			for range full { // it is closed behind the last one
			}
			return ended(a.err)
		}
		free <- a
	}
}
