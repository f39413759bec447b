package jetstream

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"golang.org/x/sync/errgroup"

	"keenlantern.example/internal/core/ids"
	"keenlantern.example/internal/store"
)

// What is said in the headers of a batch.
const (
	hFirstLine = "Lantern-First-Line"
	hLines     = "Lantern-Lines"
	hBytes     = "Lantern-Bytes"     // of the stream's batches so far, as stored
	hReceived  = "Lantern-Received"  // Unix ns
	hParts     = "Lantern-Parts"     // messages that it is cut into, where there are several
	hID        = "Lantern-Id"        // of the message, so that its sender knows it again
	hNonce     = "Lantern-Nonce"     // which those are
	hStream    = "Lantern-Stream"    // of the first one: the stream's row
	hRecording = "Lantern-Recording" // of the first one: the recording's row
)

// end is how far a stream is.
type end struct {
	Batches    int64 `json:"batches,omitempty"`
	Lines      int64 `json:"lines,omitempty"`
	Bytes      int64 `json:"bytes,omitempty"`
	ReceivedNS int64 `json:"received_ns,omitempty"`
}

// tokenOf returns what a live stream is called in the log: names are of any length and letters.
func tokenOf(name string) string {
	sum := sha256.Sum256([]byte(name))
	return base64.RawURLEncoding.EncodeToString(sum[:15])
}

// partition returns a stream's.
func (s *Store) partition(token string) int {
	sum := sha256.Sum256([]byte(token))
	return int(binary.BigEndian.Uint64(sum[:8]) % uint64(s.cfg.Partitions))
}

// subject returns that of all batches of a stream, without the number.
func (s *Store) subject(token string, live bool) string {
	if !live {
		return s.cfg.Name + ".batch.file." + token + "."
	}
	return s.cfg.Name + ".batch." + strconv.Itoa(s.partition(token)) + "." + token + "."
}

// recent asks any server for the latest message of a subject, which may have a wildcard; nil where there is none. It may be of a moment
// ago, which who publishes behind it finds out.
func (s *Store) recent(ctx context.Context, subject string) (*jetstream.RawStreamMsg, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*answerFor)
	defer cancel()
	m, err := s.conn.RequestWithContext(ctx, "$JS.API.DIRECT.GET."+s.cfg.Name+"-batches", pack(map[string]string{"last_by_subj": subject}))
	if err != nil {
		return nil, away(err)
	}
	switch status := m.Header.Get("Status"); status {
	case "":
		seq, _ := strconv.ParseUint(m.Header.Get(jetstream.SequenceHeader), 10, 64) // 0 where it is missing
		return &jetstream.RawStreamMsg{Subject: m.Header.Get(jetstream.SubjectHeader), Sequence: seq, Header: m.Header, Data: m.Data}, nil
	case "404":
		return nil, nil
	default:
		return nil, away(fmt.Errorf("the log answers %s %s", status, m.Header.Get("Description")))
	}
}

// latest asks the leader of the batches for the latest message of a subject, which may have a wildcard; nil where there is none. The
// other servers may answer from a moment ago.
func (s *Store) latest(ctx context.Context, subject string) (*jetstream.RawStreamMsg, error) {
	ask := pack(map[string]string{"last_by_subj": subject})
	ctx, cancel := context.WithTimeout(ctx, 2*answerFor)
	defer cancel()
	got, err := s.conn.RequestWithContext(ctx, "$JS.API.STREAM.MSG.GET."+s.cfg.Name+"-batches", ask)
	if err != nil {
		return nil, away(err)
	}
	var answer struct {
		Error   *jetstream.APIError `json:"error"`
		Message *struct {
			Subject string    `json:"subject"`
			Seq     uint64    `json:"seq"`
			Header  []byte    `json:"hdrs"`
			Data    []byte    `json:"data"`
			Time    time.Time `json:"time"`
		} `json:"message"`
	}
	if err := json.Unmarshal(got.Data, &answer); err != nil {
		return nil, away(fmt.Errorf("understand the log: %w", err))
	}
	if answer.Error != nil {
		if answer.Error.ErrorCode == jetstream.JSErrCodeMessageNotFound {
			return nil, nil
		}
		return nil, away(answer.Error)
	}
	m := answer.Message
	header := nats.Header{}
	if len(m.Header) > 0 {
		if header, err = nats.DecodeHeadersMsg(m.Header); err != nil {
			return nil, fmt.Errorf("read a batch's headers: %w (%w)", store.ErrDamaged, err)
		}
	}
	return &jetstream.RawStreamMsg{Subject: m.Subject, Sequence: m.Seq, Header: header, Data: m.Data, Time: m.Time}, nil
}

func number(h nats.Header, name string) int64 {
	n, _ := strconv.ParseInt(h.Get(name), 10, 64) // 0 where it is missing
	return n
}

// numberOf returns a batch's from its subject.
func numberOf(subject string) int64 {
	for at := len(subject) - 1; at >= 0; at-- {
		if subject[at] == '.' {
			n, _ := strconv.ParseInt(subject[at+1:], 10, 64) // it is our own
			return n
		}
	}
	return 0
}

func endOf(subject string, h nats.Header) end {
	n := numberOf(subject)
	if n == 0 { // a file's stream begins with a message that is no batch
		return end{}
	}
	return end{Batches: n, Lines: number(h, hFirstLine) + number(h, hLines) - 1, Bytes: number(h, hBytes), ReceivedNS: number(h, hReceived)}
}

// seenEnd is how far a stream was when this service last saw it.
type seenEnd struct {
	end
	at time.Time
}

// saw notes how far a stream is.
func (s *Store) saw(token string, e end) {
	if have, ok := s.known.ends.Peek(token); ok && have.Batches > e.Batches {
		return
	}
	s.known.ends.Add(token, seenEnd{e, time.Now()})
}

// freshFor is how long what this service saw of a stream counts as so. Other services take batches of it too.
const freshFor = time.Second

// end returns how far a stream is: what this service saw a moment ago, else what the log says.
func (s *Store) end(ctx context.Context, token string, row *streamRow, d *derivedRow) (end, error) {
	if e, ok := s.known.ends.Get(token); ok && (time.Since(e.at) < freshFor || s.holds(token)) {
		return e.end, ctx.Err()
	}
	rec := s.recording(row.Recording)
	if d != nil && d.Analysed == d.End.Batches && (d.Ended || !row.Live && rec != nil && rec.Importer == "") {
		return d.End, ctx.Err()
	}
	return s.readEnd(ctx, token, row, s.recent)
}

// readEnd asks the log how far a stream is.
func (s *Store) readEnd(ctx context.Context, token string, row *streamRow, ask func(context.Context, string) (*jetstream.RawStreamMsg, error)) (end, error) {
	m, err := ask(ctx, s.subject(token, row.Live)+"*")
	if m == nil || err != nil {
		return end{}, err
	}
	return endOf(m.Subject, m.Header), nil
}

// nearEnd returns how far a stream is, as far as this service knows without asking.
func (s *Store) nearEnd(token string) (e end) {
	if d := s.derivedRow(token); d != nil {
		e = d.End
	}
	if seen, ok := s.known.ends.Peek(token); ok && seen.Batches > e.Batches {
		e = seen.end
	}
	return e
}

// discover looks in the log for a live stream that the catalog does not know, and adds it.
func (s *Store) discover(ctx context.Context, token string) error {
	m, err := s.latest(ctx, s.subject(token, true)+"1")
	if err != nil {
		return err
	}
	if m == nil {
		return store.ErrNotFound
	}
	return s.learn(ctx, token, m.Header, m.Sequence)
}

// learn adds a stream to the catalog as its first message says, and its recording. A quicker service does the same.
func (s *Store) learn(ctx context.Context, token string, h nats.Header, seq uint64) error {
	var st streamRow
	var rec recordingRow
	if json.Unmarshal([]byte(h.Get(hStream)), &st) != nil || json.Unmarshal([]byte(h.Get(hRecording)), &rec) != nil || st.Recording == "" {
		return fmt.Errorf("read the first batch of a stream: %w", store.ErrDamaged)
	}
	st.ID = int64(seq)
	if have := s.recording(st.Recording); have != nil && have.Deleted {
		return store.ErrNotFound
	} else if have == nil {
		if _, err := s.catalog.create(ctx, keyRecording+st.Recording, pack(&rec), &rec); err != nil && !errors.Is(err, errTaken) {
			return err
		}
	}
	if have := s.streamRow(token); have != nil && have.ID == st.ID {
		return nil
	}
	if _, err := s.catalog.create(ctx, keyStream+token, pack(&st), &st); err != nil && !errors.Is(err, errTaken) {
		return err
	} else if err != nil {
		// Another service was quicker; this one hears of it in a moment.
		return s.catalog.moved(ctx, keyStream+token, 0)
	}
	return nil
}

// publishNew stores one message where its subject has none yet; store.ErrNotNext says that it has one.
func (s *Store) publishNew(ctx context.Context, subject string, h nats.Header, body []byte) (uint64, error) {
	began := time.Now()
	if len(body) > s.part {
		nonce := ids.Random(10)
		parts := slices.Collect(slices.Chunk(body, s.part))
		var all errgroup.Group
		all.SetLimit(4)
		for n, part := range parts[1:] {
			all.Go(func() error {
				_, err := s.js.Publish(ctx, subject+"."+nonce+"."+strconv.Itoa(n+1), part)
				return err
			})
		}
		if err := all.Wait(); err != nil {
			return 0, s.unpublished(err)
		}
		h.Set(hParts, strconv.Itoa(len(parts)))
		h.Set(hNonce, nonce)
		body = parts[0]
	}
	defer func() {
		s.publish.count.Add(1)
		s.publish.ns.Add(time.Since(began).Nanoseconds())
	}()
	id := ids.Random(8)
	h.Set(hID, id)
	for try := 0; ; try++ {
		one, cancel := context.WithTimeout(ctx, answerFor)
		ack, err := s.js.PublishMsg(one, &nats.Msg{Subject: subject, Header: h, Data: body}, jetstream.WithExpectLastSequencePerSubject(0))
		cancel()
		switch {
		case err == nil:
			return ack.Sequence, nil
		case wrongRevision(err) && try == 0:
			return 0, store.ErrNotNext
		case wrongRevision(err): // by the try before, whose answer was lost, or by another process
			m, err := s.latest(ctx, subject)
			if err == nil && (m == nil || m.Header.Get(hID) != id) {
				err = store.ErrNotNext
			}
			if err != nil {
				return 0, err
			}
			return m.Sequence, nil
		case !lost(err) || ctx.Err() != nil || pause(ctx, try) != nil:
			return 0, s.unpublished(err)
		}
	}
}

// answerFor is how long one request may take before it is made again: who should answer it may have gone.
const answerFor = 1500 * time.Millisecond

func (s *Store) unpublished(err error) error {
	s.publish.failed.Add(1)
	return away(err)
}

// header returns what is said of a batch behind what came before it.
func header(b *store.Batch, stored int64, before end, receivedNS int64) (nats.Header, end) {
	e := end{Batches: b.N, Lines: b.FirstLine + b.Lines - 1, Bytes: before.Bytes + stored, ReceivedNS: receivedNS}
	h := nats.Header{}
	for name, n := range map[string]int64{hFirstLine: b.FirstLine, hLines: b.Lines, hBytes: e.Bytes, hReceived: receivedNS} {
		h.Set(name, strconv.FormatInt(n, 10))
	}
	return h, e
}

func (s *Store) packed(b *store.Batch) []byte {
	if b.Packed != nil {
		return b.Packed
	}
	return s.zip.EncodeAll(b.Body, nil)
}

// BeginStream stores a new live stream with its first batch. The batch says which stream and recording it begins, so that either
// all of it is there or nothing.
func (s *Store) BeginStream(ctx context.Context, fresh *store.Recording, st store.Stream, b store.Batch, receivedNS int64) (int64, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	row := s.recording(st.Recording)
	switch {
	case ctx.Err() != nil:
		return 0, ctx.Err()
	case fresh != nil && row != nil:
		return 0, store.ErrSpent
	case fresh != nil:
		row = rowOf(fresh, s.process())
	case row == nil || row.Deleted:
		return 0, store.ErrNotFound
	}
	token := tokenOf(st.Name)
	packed := s.packed(&b)
	h, e := header(&b, int64(len(packed)), end{}, receivedNS)
	h.Set(hStream, string(pack(&streamRow{Recording: st.Recording, Name: st.Name, Live: true, Owner: st.Owner})))
	h.Set(hRecording, string(pack(row)))
	seq, err := s.publishNew(ctx, s.subject(token, true)+strconv.FormatInt(b.N, 10), h, packed)
	if err != nil {
		return 0, fmt.Errorf("store the first batch of stream %s: %w", st.Name, err)
	}
	if err := s.learn(ctx, token, h, seq); err != nil {
		s.log.Warn("a new stream is not in the catalog yet; the service that works on it adds it", "stream", st.Name, "error", err)
	}
	s.saw(token, e)
	return int64(seq), nil
}

// AddStream stores a new stream without batches.
func (s *Store) AddStream(ctx context.Context, recording, name string, live bool) (int64, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	token := "f" + ids.Random(10)
	if live {
		token = tokenOf(name)
	}
	row := &streamRow{Recording: recording, Name: name, Live: live}
	h := nats.Header{}
	h.Set(hStream, string(pack(row)))
	seq, err := s.publishNew(ctx, s.subject(token, live)+"0", h, nil)
	if err != nil {
		return 0, fmt.Errorf("store stream %s: %w", name, err)
	}
	row.ID = int64(seq)
	if _, err := s.catalog.create(ctx, keyStream+token, pack(row), row); err != nil {
		return 0, fmt.Errorf("store stream %s: %w", name, err)
	}
	s.saw(token, end{})
	return row.ID, nil
}

// AppendBatch stores the next batch of a stream.
func (s *Store) AppendBatch(ctx context.Context, stream int64, b store.Batch, receivedNS int64) error {
	ctx, cancel := within(ctx)
	defer cancel()
	token, ok := s.token(stream)
	row := s.streamRow(token)
	if !ok || row == nil {
		return cmp.Or(ctx.Err(), error(store.ErrNotFound))
	}
	var before end
	var err error
	if seen, ok := s.known.ends.Get(token); ok { // an older one is found out by the log
		before = seen.end
	} else if before, err = s.end(ctx, token, row, s.derivedRow(token)); err != nil {
		return fmt.Errorf("store batch %d of stream %s: %w", b.N, row.Name, err)
	}
	if b.N != before.Batches+1 {
		// Another service may have taken some meanwhile.
		if before, err = s.readEnd(ctx, token, row, s.latest); err != nil {
			return fmt.Errorf("store batch %d of stream %s: %w", b.N, row.Name, err)
		}
		if b.N != before.Batches+1 {
			return store.ErrNotNext
		}
	}
	packed := s.packed(&b)
	h, e := header(&b, int64(len(packed)), before, receivedNS)
	if _, err = s.publishNew(ctx, s.subject(token, row.Live)+strconv.FormatInt(b.N, 10), h, packed); err != nil {
		s.known.ends.Remove(token) // what became of it is not known
		return fmt.Errorf("store batch %d of stream %s: %w", b.N, row.Name, err)
	}
	s.saw(token, e)
	return nil
}

// Batch returns one batch.
func (s *Store) Batch(ctx context.Context, stream, n int64) (store.Batch, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	token, ok := s.token(stream)
	row := s.streamRow(token)
	if !ok || row == nil || n < 1 {
		return store.Batch{}, cmp.Or(ctx.Err(), error(store.ErrNotFound))
	}
	subject := s.subject(token, row.Live) + strconv.FormatInt(n, 10)
	m, err := s.batches.GetLastMsgForSubject(ctx, subject)
	if errors.Is(err, jetstream.ErrMsgNotFound) { // of a server that is behind, maybe
		m, err = s.latest(ctx, subject)
		if err == nil && m == nil {
			return store.Batch{}, store.ErrNotFound
		}
	}
	if err != nil {
		return store.Batch{}, fmt.Errorf("read batch %d of stream %s: %w", n, row.Name, away(err))
	}
	return s.unpack(ctx, m.Subject, m.Header, m.Data, nil)
}

// unpack makes a batch of a message, and of the others that it is cut into. Its body is in room, where that is large enough.
func (s *Store) unpack(ctx context.Context, subject string, h nats.Header, data, room []byte) (store.Batch, error) {
	b := store.Batch{N: numberOf(subject), FirstLine: number(h, hFirstLine), Lines: number(h, hLines)}
	if n := number(h, hParts); n > 1 {
		data = slices.Clone(data)
		for part := int64(1); part < n; part++ {
			at := subject + "." + h.Get(hNonce) + "." + strconv.FormatInt(part, 10)
			m, err := s.batches.GetLastMsgForSubject(ctx, at)
			if errors.Is(err, jetstream.ErrMsgNotFound) {
				if m, err = s.latest(ctx, at); err == nil && m == nil {
					return b, fmt.Errorf("batch %d: a part of it is missing: %w", b.N, store.ErrDamaged)
				}
			}
			if err != nil {
				return b, away(err)
			}
			data = append(data, m.Data...)
		}
	}
	body, err := s.unzip.DecodeAll(data, room[:0])
	if err != nil {
		return b, fmt.Errorf("unpack batch %d: %w (%w)", b.N, store.ErrDamaged, err)
	}
	b.Body = body
	return b, nil
}

// BatchesWith returns the numbers of the batches that hold a stream's lines from one to another.
func (s *Store) BatchesWith(ctx context.Context, stream, from, to int64, limit int) ([]int64, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	token, ok := s.token(stream)
	row := s.streamRow(token)
	if !ok || row == nil {
		return nil, ctx.Err()
	}
	e, err := s.end(ctx, token, row, s.derivedRow(token))
	if err != nil {
		return nil, err
	}
	// The last batch that begins at or before from; batches begin at growing lines.
	first := func(n int64) int64 {
		if err != nil {
			return 0
		}
		var m *jetstream.RawStreamMsg
		subject := s.subject(token, row.Live) + strconv.FormatInt(n, 10)
		if m, err = s.batches.GetLastMsgForSubject(ctx, subject); errors.Is(err, jetstream.ErrMsgNotFound) {
			if m, err = s.latest(ctx, subject); m == nil && err == nil {
				err = store.ErrNotFound
			}
		}
		if err != nil {
			return 0
		}
		return number(m.Header, hFirstLine)
	}
	low, high := int64(1), e.Batches // it is within
	for low < high {
		mid := (low + high + 1) / 2
		if first(mid) <= from {
			low = mid
		} else {
			high = mid - 1
		}
	}
	var list []int64
	for n := low; n <= e.Batches && len(list) < limit; n++ {
		if first(n) > to {
			break
		}
		list = append(list, n)
	}
	if err != nil {
		return nil, fmt.Errorf("look for lines of stream %s: %w", row.Name, away(err))
	}
	return list, nil
}

// purgeStream removes what is kept of a stream, its row last: what is left of it is found again by that.
func (s *Store) purgeStream(ctx context.Context, token string) error {
	ctx, cancel := within(ctx)
	defer cancel()
	row := s.streamRow(token)
	if row == nil {
		return ctx.Err()
	}
	if err := s.batches.Purge(ctx, jetstream.WithPurgeSubject(s.subject(token, row.Live)+">")); err != nil {
		return away(err)
	}
	if err := s.derived.Purge(ctx, jetstream.WithPurgeSubject(s.cfg.Name+".derived."+token+".>")); err != nil {
		return away(err)
	}
	if err := s.catalog.drop(ctx, keyDerived+token, 0); err != nil {
		return err
	}
	return s.catalog.drop(ctx, keyStream+token, 0)
}
