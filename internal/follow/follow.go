package follow

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/klauspost/compress/zstd"

	"keenlantern.example/internal/core/join"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/follow/regular"
	"keenlantern.example/record/event"
)

// Config is what is followed.
type Config struct {
	Folders []string
	State   string // a file; "" is StateName in the first folder
	Send    Sender
	Once    bool          // send what is there, and end
	Within  time.Duration // with Once: how long a service may not answer; 0 is half a minute
	Remove  bool          // delete files that have been sent to their end
	Every   time.Duration // between two looks into the folders; 0 is a second
	Log     *slog.Logger
}

// Told is what a follower has done.
type Told struct {
	Batches, Lines   int64
	Streams          int64 // that began
	Requests, Joined int64 // short streams, and those that they became
	Removed          int64
	Trouble          []string // the first of what could not be sent, each said once
	More             int64    // trouble that is not listed
}

// maxTrouble bounds what is listed.
const maxTrouble = 100

// batchBytes is how many bytes of lines are sent at once.
const batchBytes = 1 << 20

// The times after which something is taken to come no more.
const (
	abandoned = time.Minute // a short stream without its end
	joinedFor = time.Hour   // and as long is joined into one stream
)

// lookBytes is the number of bytes read of one file before the next file is read.
const lookBytes = 16 << 20

// patience is how long a part waits for the previous part if that is missing or being written: rotation moves, copies and compresses files
// while they are read.
const patience = 5 * time.Second

// maxOpen bounds how many joined streams are open at once: applications, versions, hosts.
const maxOpen = 32

type follower struct {
	Config
	state    *state
	zip      *zstd.Encoder
	told     Told
	said     map[string]bool   // problems that have been reported
	seen     map[string]seen   // by path
	held     map[string]*lines // packed files that are being read, by path
	begins   map[string]*found // the files of this pass, by their ids
	began    map[string]*found // the files of the pass before
	waits    map[string]wait   // by base
	group    []found           // the files of the current stream
	more     bool              // a file has more lines than its turn allows
	joined   []*joining
	gathered gathering
	quiet    bool // it has been said that no service answers
}

// seen is what a file was like when all that was whole in it had been sent.
type seen struct {
	size    int64
	changed time.Time
	file    regular.ID
	id      string
	rest    int  // bytes of a last line that is not whole
	whole   bool // nothing more can come: it is compressed, or its stream has ended
}

// obstacle is the reason why a file was not read to its end, so that newer files of its stream wait.
type obstacle struct {
	why  string // "" where only its turn is over
	size int64  // of the file: while it grows, rotation is still at work
}

// wait is an obstacle, and since when it has existed.
type wait struct {
	obstacle
	since time.Time
}

// joining is a joined stream that is open.
type joining struct {
	*join.Stream
	id    string
	n     int64 // of its latest batch
	began time.Time
}

// Folders reports whether all are folders.
func Folders(list []string) error {
	for _, folder := range list {
		if info, err := os.Stat(folder); err != nil || !info.IsDir() {
			return fmt.Errorf("follow %s: there is no such folder", folder)
		}
	}
	return nil
}

// Run follows folders until ctx ends, or, with Once, until all has been sent.
func Run(ctx context.Context, c Config) (*Told, error) {
	if c.Every <= 0 {
		c.Every = time.Second
	}
	if c.Within <= 0 {
		c.Within = 30 * time.Second
	}
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	if err := Folders(c.Folders); err != nil {
		return nil, err
	}
	if c.State == "" {
		c.State = filepath.Join(c.Folders[0], StateName)
	}
	st, err := openState(ctx, c.State)
	if err != nil && ctx.Err() != nil {
		return &Told{}, nil // stopped before it began
	}
	if err != nil {
		return nil, err
	}
	defer st.Close()
	zip, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20))
	if err != nil {
		return nil, fmt.Errorf("prepare compression: %w", err)
	}
	defer zip.Close()
	f := &follower{Config: c, state: st, zip: zip, said: map[string]bool{}, seen: map[string]seen{}, held: map[string]*lines{}, waits: map[string]wait{}}
	defer f.release("")
	err = f.run(ctx)
	if errors.Is(err, context.Canceled) && ctx.Err() != nil {
		err = nil
	}
	return &f.told, err
}

func (f *follower) run(ctx context.Context) error {
	if err := f.goOn(ctx); err != nil {
		return err
	}
	for {
		if err := f.pass(ctx); err != nil {
			if ctx.Err() != nil {
				return f.leave(ctx)
			}
			return err
		}
		pause := f.Every
		switch {
		case f.more:
			pause = 0
		case f.Once && f.waiting():
			pause = min(pause, 50*time.Millisecond)
		case f.Once:
			return f.endAll(ctx)
		}
		select {
		case <-ctx.Done():
			return f.leave(ctx)
		case <-time.After(pause):
		}
	}
}

// leave ends the joined streams, which go on in others after the next start, unless a batch is still on its way: then the next
// start does so.
func (f *follower) leave(ctx context.Context) error {
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if p, err := f.state.waiting(last); err != nil || p != nil {
		return err
	}
	return f.endAll(last)
}

// trouble reports a problem once.
func (f *follower) trouble(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if f.said[text] {
		return
	}
	if len(f.said) == 100*maxTrouble { // there is too much of it to say what has been said
		f.told.More++
		return
	}
	f.said[text] = true
	f.Log.Warn(text)
	if len(f.told.Trouble) == maxTrouble {
		f.told.More++
		return
	}
	f.told.Trouble = append(f.told.Trouble, text)
}

// goOn finishes what an earlier follower had begun: its last batch, and its joined streams, to which no stream can be joined any more.
func (f *follower) goOn(ctx context.Context) error {
	p, err := f.state.waiting(ctx)
	if err != nil {
		return err
	}
	if p != nil {
		if err := f.deliver(ctx, p); err != nil && !isRefused(err) { // refusals have been reported
			return err
		}
	}
	left, err := f.state.left(ctx)
	if err != nil {
		return err
	}
	for id, last := range left {
		n, err := f.state.next(ctx, id)
		if err != nil {
			return err
		}
		bye := event.AppendLine(nil, &event.Event{Kind: event.Bye, T: last, Why: event.GoesOn, Has: event.Of(event.FT, event.FWhy)})
		if err := f.send(ctx, &pending{stream: id, n: n, joined: true, ends: true, last: last}, bye); err != nil && !isRefused(err) {
			return err
		}
	}
	return nil
}

func isRefused(err error) bool {
	refused := (*Refused)(nil)
	return errors.As(err, &refused)
}

// send notes a batch and sends it.
func (f *follower) send(ctx context.Context, p *pending, body []byte) error {
	p.lines = int64(bytes.Count(body, []byte{'\n'}))
	p.body = f.zip.EncodeAll(body, nil)
	if err := f.state.begin(ctx, p); err != nil {
		return err
	}
	return f.deliver(ctx, p)
}

// errGivenUp is returned when no service answered for too long.
var errGivenUp = errors.New("what is left is sent next time")

// deliver sends a noted batch until it has arrived, or is refused for good.
func (f *follower) deliver(ctx context.Context, p *pending) error {
	until := time.Now().Add(f.Within)
	for wait := 500 * time.Millisecond; ; wait = min(2*wait, 30*time.Second) {
		err := f.Send.Send(ctx, p.stream, p.n, p.body)
		if err == nil {
			if f.quiet {
				f.quiet = false
				f.Log.Info("the service answers again")
			}
			f.told.Batches++
			f.told.Lines += p.lines
			if p.n == 1 {
				f.told.Streams++
			}
			// What has arrived is noted, also while this is being stopped: nothing has to be sent again, and its stream can end.
			return f.state.done(context.WithoutCancel(ctx), p, false)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if refused := (*Refused)(nil); errors.As(err, &refused) {
			f.trouble("the service refused batch %d of stream %s: %s", p.n, p.stream, refused.Why)
			if err := f.state.done(context.WithoutCancel(ctx), p, true); err != nil {
				return err
			}
			return refused
		}
		if f.Once && time.Now().After(until) {
			return fmt.Errorf("%w; %w", err, errGivenUp)
		}
		if !f.quiet {
			f.quiet = true
			f.Log.Warn(err.Error() + "; what is recorded stays in the folder, and is sent when it does")
		}
		if later := (*Later)(nil); errors.As(err, &later) && later.After > 0 {
			wait = min(later.After, time.Minute)
		}
		if f.Once {
			wait = min(wait, 2*time.Second)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
	}
}

// pass looks at every file once.
func (f *follower) pass(ctx context.Context) error {
	there, bases := map[string]bool{}, map[string]bool{}
	f.began, f.begins, f.more = f.begins, map[string]*found{}, false
	for _, folder := range f.Folders {
		files, err := list(folder, f.trouble)
		if err != nil {
			f.trouble("%v", err)
			continue
		}
		for len(files) > 0 {
			n := 1
			for n < len(files) && files[n].base == files[0].base {
				n++
			}
			bases[files[0].base] = true
			for k := range files[:n] {
				there[files[k].path] = true
			}
			if err := f.parts(ctx, files[:n]); err != nil {
				return err
			}
			files = files[n:]
		}
	}
	for path := range f.seen {
		if !there[path] {
			delete(f.seen, path)
		}
	}
	for path := range f.held {
		if !there[path] {
			f.release(path)
		}
	}
	for base := range f.waits {
		if !bases[base] {
			delete(f.waits, base)
		}
	}
	return nil
}

// parts reads the files of one stream, the oldest first. It reads the first line of each before it reads on in any: once a part has its first
// line, nothing more is written to the parts before it.
func (f *follower) parts(ctx context.Context, files []found) error {
	f.group = files
	ids := make([]string, len(files))
	for n := range files {
		if ids[n] = f.peek(&files[n]); ids[n] != "" && f.begins[ids[n]] == nil {
			f.begins[ids[n]] = &files[n]
		}
	}
	ended := map[string]bool{} // the files that were read to their end, by what they begin with
	for n := range files {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		obstacle, err := f.look(ctx, &files[n], ids[n], ended, n == len(files)-1)
		if err != nil {
			return err
		}
		if obstacle == nil {
			continue
		}
		if obstacle.why == "" || !f.waited(files[n].base, *obstacle) {
			return nil
		}
		f.trouble("%s", obstacle.why)
	}
	delete(f.waits, files[0].base)
	return nil
}

// waited reports whether the files of a stream have waited long enough for an obstacle to go.
func (f *follower) waited(base string, o obstacle) bool {
	w, waits := f.waits[base]
	if !waits || w.obstacle != o {
		w = wait{o, time.Now()}
		f.waits[base] = w
	}
	return time.Since(w.since) >= f.patience()
}

func (f *follower) patience() time.Duration {
	if f.Once {
		return patience / 5
	}
	return patience
}

// waiting reports whether the files of a stream still wait for another one.
func (f *follower) waiting() bool {
	for _, w := range f.waits {
		if time.Since(w.since) < f.patience() {
			return true
		}
	}
	return false
}

// unchanged returns the state of a file as it was last read, and reports whether the file is the same.
func (f *follower) unchanged(file *found) (seen, bool) {
	before, known := f.seen[file.path]
	return before, known && before.size == file.size && before.file == file.file && before.changed.Equal(file.changed)
}

// peek returns a file's id, "" if it has no whole line or does not exist any more.
func (f *follower) peek(file *found) string {
	if before, same := f.unchanged(file); same {
		return before.id
	}
	if l := f.held[file.path]; l != nil && l.of == file.file {
		return l.id
	}
	l, err := openLines(file)
	if err != nil {
		return ""
	}
	defer l.Close()
	if first := l.first(); first != nil {
		return idOf(file.base, first)
	}
	return ""
}

// look sends the new lines of a file and marks it in ended if it was read to its end; otherwise it returns an obstacle. It returns an error only
// if the follower cannot continue. Last is true for the newest file of a stream.
func (f *follower) look(ctx context.Context, file *found, id string, ended map[string]bool, last bool) (*obstacle, error) {
	if before, same := f.unchanged(file); same {
		ended[before.id] = ended[before.id] || before.rest == 0
		return nil, f.remove(ctx, file, before)
	}
	hindered := func(format string, args ...any) *obstacle { return &obstacle{fmt.Sprintf(format, args...), file.size} }
	l, first, err := f.open(file)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			return hindered("%s was moved while it was read", file.path), nil
		}
		return hindered("%v", err), nil
	}
	keep := false
	defer func() {
		if !keep {
			_ = l.Close()
		}
	}()
	if first == nil {
		if file.size > 0 && (f.Once || file.packed) {
			return hindered("%s holds no whole line; it is left alone until it does", file.path), nil
		}
		return nil, nil
	}
	if idOf(file.base, first) != id {
		return hindered("%s was replaced while it was read", file.path), nil
	}
	one, known, err := f.known(ctx, file, first)
	if err != nil {
		return nil, err
	}
	if known && one.base != file.base {
		for _, other := range []*found{f.begins[id], f.began[id]} {
			if other != nil && other.base != file.base {
				f.trouble("%s begins with the same line as %s; it is taken for the same, and is not sent", file.path, other.path)
				return nil, nil
			}
		}
	}
	one.base = file.base
	if l.id == "" || l.at != one.at {
		fits, err := l.seek(file, one.at)
		switch {
		case (err != nil || !fits) && ended[id]:
			return nil, nil // it is being copied or packed from a part that is here
		case err != nil:
			return hindered("%v", err), nil
		case !fits:
			return hindered("%s is shorter than what has been sent of it; it was cut, and nothing is sent again", file.path), nil
		}
	}
	l.id, l.of, l.begin, l.turn = id, file.file, first, l.at+lookBytes
	if file.requests {
		err = f.requests(ctx, file, l, &one)
	} else {
		if one.at == 0 {
			if waits, err := f.follows(ctx, file, first, &one, ended); waits != nil || err != nil {
				return waits, err
			}
		}
		err = f.stream(ctx, file, l, &one)
	}
	switch {
	case errors.Is(err, errReplaced):
		return hindered("%s was replaced while it was read", file.path), nil
	case err != nil:
		return nil, err
	case l.failed != nil && ended[id]:
		return nil, nil // it is being packed from a part that is here
	case l.failed != nil:
		return hindered("read %s: %v", file.path, l.failed), nil
	}
	if l.long > 0 {
		f.trouble("%s has a line of more than %d MB; it is left out", file.path, maxLine>>20)
	}
	if l.at >= l.turn {
		f.more = true
		if file.packed && len(f.held) < maxHeld {
			f.held[file.path], keep = l, true
		}
		return &obstacle{}, nil
	}
	// This describes the file as it was listed: if it has grown since, it is inspected again.
	f.seen[file.path] = seen{file.size, file.changed, file.file, one.id, l.rest, (file.packed || one.ended) && l.rest == 0 && one.at == l.at}
	if l.rest > 0 {
		cut := hindered("%s ends within a line; its last %d bytes are not sent until the rest of it is there", file.path, l.rest)
		if f.Once || file.packed {
			f.trouble("%s", cut.why)
		}
		if !last && !ended[id] {
			return cut, nil
		}
		return nil, nil
	}
	ended[id], ended[one.id] = true, true
	return nil, f.remove(ctx, file, f.seen[file.path])
}

// maxHeld bounds how many packed files are held open between two turns.
const maxHeld = 4

// open opens a file, or continues with one that is held open, and returns its first line.
func (f *follower) open(file *found) (*lines, []byte, error) {
	if l := f.held[file.path]; l != nil {
		if l.of == file.file {
			delete(f.held, file.path)
			return l, l.begin, nil
		}
		f.release(file.path)
	}
	l, err := openLines(file)
	if err != nil {
		return nil, nil, err
	}
	return l, l.first(), nil
}

// release closes a file that is held open, or all of them.
func (f *follower) release(path string) {
	for held, l := range f.held {
		if path == "" || held == path {
			_ = l.Close()
			delete(f.held, held)
		}
	}
}

// known returns the stored state of a file, found by its first line.
func (f *follower) known(ctx context.Context, file *found, first []byte) (source, bool, error) {
	one, known, err := f.state.source(ctx, idOf(file.base, first))
	if err != nil || known {
		return one, known, err
	}
	// Earlier versions knew every file by its first line alone.
	if old, was, err := f.state.source(ctx, idOf("", first)); err != nil || was && old.base == file.base {
		return old, was, err
	}
	return source{id: idOf(file.base, first)}, false, nil
}

// follows makes a part that has not been sent continue the stream of the part before it, once that was read to its end.
func (f *follower) follows(ctx context.Context, file *found, first []byte, one *source, ended map[string]bool) (*obstacle, error) {
	before, known, err := f.state.before(ctx, file.base)
	switch {
	case err != nil || known && before.id == one.id:
		return nil, err
	case !known && isKind(first, "hello"):
		return nil, nil // a stream begins
	case !known:
		// A folder that is read while files in it are renamed may not show the first part.
		missing := obstacle{why: fmt.Sprintf(headless, file.path)}
		if !f.waited(file.base, missing) {
			return &missing, nil
		}
		return nil, nil
	case !ended[before.id] && before.at != removed:
		gone := obstacle{why: file.path + " goes on without the file before it, which is gone"}
		if !f.waited(file.base, gone) {
			return &gone, nil
		}
		f.trouble("%s", gone.why)
	}
	if !f.settled(file) {
		return &obstacle{why: file.path + " was moved while it was read"}, nil
	}
	one.stream, one.refused = before.stream, before.refused
	return nil, nil
}

// headless is the trouble with a file whose stream is not known.
const headless = "%s does not begin with a hello, and the file in which its stream begins is not here; its first lines are left out"

// settled reports whether the files of a stream are the ones that were listed, and the parts before this one have the size that they had then.
// A folder that is read while files are renamed may show one part under two names and miss another, and a part may be an incomplete copy.
func (f *follower) settled(file *found) bool {
	now, err := partsOf(file.base)
	if err != nil {
		return false
	}
	before := true
	return slices.EqualFunc(now, f.group, func(a, b found) bool {
		before = before && b.path != file.path
		return a.path == b.path && a.file == b.file && (!before || a.size == b.size && a.changed.Equal(b.changed))
	})
}

// errReplaced is returned when a file's content was replaced since it was opened.
var errReplaced = errors.New("the file was replaced")

// stream sends the lines of a file that holds one stream, or several one after the other.
func (f *follower) stream(ctx context.Context, file *found, l *lines, one *source) error {
	var body []byte
	flush := func() error {
		if len(body) == 0 {
			return nil
		}
		if l.replaced() {
			return errReplaced
		}
		n, err := f.state.next(ctx, one.stream)
		if err != nil {
			return err
		}
		err = f.send(ctx, &pending{stream: one.stream, n: n, source: *one}, body)
		if isRefused(err) {
			one.refused, err = true, nil
		}
		body = body[:0]
		return err
	}
	for l.at < l.turn {
		at := l.at
		line, err := l.line()
		if err != nil {
			l.failed = err
			break
		}
		if line == nil {
			break
		}
		if len(line) <= 2 && len(bytes.TrimSpace(line)) == 0 {
			one.at = l.at
			continue
		}
		if isKind(line, "hello") {
			if err := flush(); err != nil {
				return err
			}
			if hello := helloOf(line); hello != nil && (hello.Stream != one.stream || one.ended) {
				if one.stream = hello.Stream; one.ended {
					one.ended = false
				}
				one.refused = false
			}
		}
		switch {
		case one.stream == "":
			f.trouble(headless, file.path)
			one.at = l.at
			continue
		case one.ended:
			f.trouble("%s has lines behind the end of stream %s; they are left out", file.path, one.stream)
			one.at = l.at
			continue
		case one.refused:
			one.at = l.at
			continue
		}
		if len(body)+len(line) > batchBytes {
			one.at = at
			if err := flush(); err != nil {
				return err
			}
		}
		body = append(body, line...)
		one.at = l.at
		if isKind(line, "bye") {
			one.ended = true
			if err := flush(); err != nil {
				return err
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	if len(body) > 0 {
		return flush()
	}
	if l.replaced() {
		return errReplaced
	}
	if one.at > 0 {
		return f.state.note(ctx, *one)
	}
	return nil
}

// isKind reports whether a line is of a kind. Recorders begin with it; others may not.
func isKind(line []byte, kind string) bool {
	if bytes.HasPrefix(line, []byte(`{"ev":"`)) {
		return bytes.HasPrefix(line[len(`{"ev":"`):], []byte(kind+`"`))
	}
	if !bytes.Contains(line, []byte(`"`+kind+`"`)) {
		return false
	}
	var p reader.Parser
	read := p.Parse(bytes.TrimRight(line, "\r\n"))
	return read.Event != nil && read.Event.Kind.String() == kind
}

func helloOf(line []byte) *event.Event {
	var p reader.Parser
	if read := p.Parse(bytes.TrimRight(line, "\r\n")); read.Event != nil && read.Event.Kind == event.Hello {
		return read.Event
	}
	return nil
}

// requests joins the short streams of a file.
func (f *follower) requests(ctx context.Context, file *found, l *lines, one *source) error {
	var p reader.Parser
	var group []*event.Event
	begins := one.at // of the group that is being read
	long := 0
	end := func() error {
		one.at = begins
		defer func() { group, long = nil, 0 }()
		if len(group) == 0 {
			return nil
		}
		if l.replaced() {
			return errReplaced
		}
		return f.join(ctx, file, group, long, one)
	}
	for l.at < l.turn || len(group) > 0 {
		at := l.at
		line, err := l.line()
		if err != nil {
			l.failed = err
			break
		}
		if line == nil {
			break
		}
		read := p.Parse(bytes.TrimRight(line, "\r\n"))
		if read.Event != nil && read.Event.Kind == event.Hello && len(group) > 0 { // the one before has no end: its process has died
			begins = at
			if err := end(); err != nil {
				return err
			}
		}
		switch {
		case read.Event == nil:
			if read.Refused != "" {
				f.trouble("%s has a line that cannot be read (%s); it is left out", file.path, read.Refused)
			}
		case len(group) == 0 && read.Event.Kind != event.Hello:
			f.trouble("%s has lines that belong to no stream; they are left out", file.path)
		case len(group) > join.MaxLines:
			long++
		default:
			group = append(group, read.Event.Clone())
		}
		if read.Event != nil && read.Event.Kind == event.Bye {
			begins = l.at
			if err := end(); err != nil {
				return err
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	if len(group) > 0 && l.failed == nil && (file.packed || f.Once || time.Since(file.changed) > abandoned) {
		begins = l.at
		if err := end(); err != nil {
			return err
		}
	}
	if err := f.flush(ctx); err != nil {
		return err
	}
	if len(group) == 0 {
		begins = l.at // behind lines that belong to nothing
	}
	if l.replaced() {
		return errReplaced
	}
	if one.at = begins; one.at == 0 {
		return nil
	}
	return f.state.note(ctx, *one)
}

// join adds a short stream to the joined one of its kind. One is the file, as it is when that has been sent.
func (f *follower) join(ctx context.Context, file *found, group []*event.Event, long int, one *source) error {
	if long > 0 {
		f.trouble("%s has a stream of one request with more than %d lines; its last lines are left out", file.path, join.MaxLines)
		group = group[:join.MaxLines]
	}
	of, err := f.joiningFor(ctx, group[0])
	if err != nil {
		return err
	}
	if g := &f.gathered; g.of != nil && (g.of != of || g.lines > gatheredLines) {
		if err := f.flush(ctx); err != nil {
			return err
		}
		if of, err = f.joiningFor(ctx, group[0]); err != nil { // it may have been refused
			return err
		}
	}
	g := &f.gathered
	g.of, g.source, g.file = of, *one, file.path
	g.groups = append(g.groups, group)
	g.lines += len(group)
	return nil
}

// gatheredLines bounds what is joined at once.
const gatheredLines = 3000

// gathering is what is to be joined and sent, and how far the file is then.
type gathering struct {
	of     *joining
	groups [][]*event.Event
	lines  int
	source source
	file   string
}

// flush joins and sends what has been gathered.
func (f *follower) flush(ctx context.Context) error {
	g := f.gathered
	f.gathered = gathering{}
	if g.of == nil {
		return nil
	}
	of := g.of
	if of.Joined() == 0 {
		f.begin(of, g.groups)
		f.told.Joined++
	}
	var body []byte
	for _, group := range g.groups {
		if err := of.Put(group, func(ev *event.Event) { body = event.AppendLine(body, ev) }); err != nil {
			f.trouble("%s has a stream of one request that cannot be joined: %v", g.file, err)
			continue
		}
		f.told.Requests++
	}
	if len(body) == 0 {
		return f.state.note(ctx, g.source)
	}
	err := f.send(ctx, &pending{stream: of.id, n: of.n + 1, joined: true, last: of.Last(), source: g.source}, body)
	if isRefused(err) {
		f.joined = slices.DeleteFunc(f.joined, func(other *joining) bool { return other == of })
		return nil
	}
	if err == nil {
		of.n++
	}
	return err
}

// begin has a joined stream start with the earliest of the first ones.
func (f *follower) begin(of *joining, groups [][]*event.Event) {
	var earliest time.Time
	for _, group := range groups {
		if start, err := time.Parse(time.RFC3339, group[0].Start); err == nil && (earliest.IsZero() || start.Before(earliest)) {
			earliest = start
		}
	}
	of.Begin(groups[0][0], earliest)
}

// joiningFor returns the joined stream that one with this hello belongs to.
func (f *follower) joiningFor(ctx context.Context, hello *event.Event) (*joining, error) {
	for _, of := range slices.Clone(f.joined) {
		if of.Joined() >= join.MaxStreams || time.Since(of.began) > joinedFor {
			if err := f.end(ctx, of); err != nil {
				return nil, err
			}
			continue
		}
		if of.Fits(hello) {
			return of, nil
		}
	}
	if len(f.joined) == maxOpen {
		if err := f.end(ctx, f.joined[0]); err != nil {
			return nil, err
		}
	}
	id := newID()
	of := &joining{Stream: join.New(id), id: id, began: time.Now()}
	of.Begin(hello, time.Time{}) // it is known of which application it is, and begins when it is first sent
	f.joined = append(f.joined, of)
	return of, nil
}

// end ends a joined stream. What comes later goes on in another one.
func (f *follower) end(ctx context.Context, of *joining) error {
	if f.gathered.of == of {
		if err := f.flush(ctx); err != nil {
			return err
		}
	}
	f.joined = slices.DeleteFunc(f.joined, func(other *joining) bool { return other == of })
	if of.n == 0 {
		return nil
	}
	var body []byte
	of.End(event.GoesOn, func(ev *event.Event) { body = event.AppendLine(body, ev) })
	err := f.send(ctx, &pending{stream: of.id, n: of.n + 1, joined: true, ends: true, last: of.Last()}, body)
	if isRefused(err) {
		return nil
	}
	return err
}

// endAll ends the joined streams.
func (f *follower) endAll(ctx context.Context) error {
	for len(f.joined) > 0 {
		if err := f.end(ctx, f.joined[0]); err != nil {
			return err
		}
	}
	return nil
}

func newID() string {
	var b [12]byte
	_, _ = rand.Read(b[:]) // it never fails
	return "joined-" + hex.EncodeToString(b[:])
}

// remove deletes a file that has been sent to its end, where that is wanted.
func (f *follower) remove(ctx context.Context, file *found, s seen) error {
	if !f.Remove {
		return nil
	}
	rested := f.Once || time.Since(file.changed) > joinedFor
	if !s.whole && !(file.requests && rested) {
		return nil
	}
	open, err := file.open(os.O_RDWR)
	if err != nil {
		return nil //nolint:nilerr // it is gone, or not ours to delete
	}
	one, known, err := f.state.source(ctx, s.id)
	if err != nil || !known {
		return errors.Join(err, open.Close())
	}
	gone, err := regular.Remove(open, func(info fs.FileInfo) bool {
		return info.Size() == s.size && (file.packed || one.at == s.size)
	})
	if err != nil {
		f.trouble("delete %s: %v", file.path, err)
	}
	if !gone {
		return nil
	}
	f.told.Removed++
	delete(f.seen, file.path)
	if one.stream != "" && !one.ended && !file.requests {
		one.at = removed // the next part goes on with its stream
		return f.state.note(ctx, one)
	}
	return f.state.forget(ctx, s.id)
}
