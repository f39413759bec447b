package jetstream

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"keenlantern.example/internal/core/ids"
	"keenlantern.example/internal/store"
)

// derivedRow is what was derived of a stream, and where it is.
type derivedRow struct {
	Epoch    uint64 `json:"epoch,omitempty"` // of the lease with which it was stored
	Analysed int64  `json:"analysed,omitempty"`
	End      end    `json:"end,omitzero"` // of the stream then
	Ended    bool   `json:"ended,omitempty"`
	BrokenBy string `json:"broken_by,omitempty"`
	Key      string `json:"key,omitempty"`

	Result      piece  `json:"result,omitzero"`
	State       piece  `json:"state,omitzero"`
	Digest      []byte `json:"digest,omitempty"` // a small one
	LargeDigest piece  `json:"large_digest,omitzero"`
	Generation  int    `json:"generation,omitempty"` // of the log of scopes

	Checkpoint piece  `json:"checkpoint,omitzero"`
	Covers     int64  `json:"covers,omitempty"` // batches
	Program    string `json:"program,omitempty"`
}

// piece is where some bytes are. It is stored once and never changed.
type piece struct {
	Name  string `json:"name,omitempty"`
	Parts int    `json:"parts,omitempty"`
	Sum   string `json:"sum,omitempty"` // SHA-256 of them as stored, the first half
}

// maxInline is how large a digest may be to be kept in the catalog, which each service has in memory.
const maxInline = 4 << 10

func (s *Store) derivedRow(token string) *derivedRow {
	r, _ := s.catalog.get(keyDerived + token)
	row, _ := r.read.(*derivedRow)
	return row
}

func sumOf(body []byte) string {
	sum := sha256.Sum256(body)
	return hex.EncodeToString(sum[:16])
}

func (s *Store) pieceSubject(token, name string, part int) string {
	return s.cfg.Name + ".derived." + token + "." + name + "." + strconv.Itoa(part)
}

// putPiece stores bytes under a new name.
func (s *Store) putPiece(ctx context.Context, token string, body []byte) (piece, error) {
	packed := s.zip.EncodeAll(body, nil)
	p := piece{Name: ids.Random(8), Sum: sumOf(packed)}
	for part := range slices.Chunk(packed, s.part) {
		if _, err := s.js.Publish(ctx, s.pieceSubject(token, p.Name, p.Parts), part); err != nil {
			return p, away(err)
		}
		p.Parts++
	}
	return p, nil
}

// piece returns bytes, nil where there are none.
func (s *Store) piece(ctx context.Context, token string, p piece) ([]byte, error) {
	if p.Parts == 0 {
		return nil, ctx.Err()
	}
	if body, ok := s.blobs.Get(p.Name); ok {
		return body, ctx.Err()
	}
	var packed []byte
	for n := range p.Parts {
		m, err := s.derivedMessage(ctx, s.pieceSubject(token, p.Name, n))
		if err != nil {
			return nil, err
		}
		packed = append(packed, m.Data...)
	}
	if sumOf(packed) != p.Sum {
		return nil, fmt.Errorf("what was derived is not what was stored: %w", store.ErrDamaged)
	}
	body, err := s.unzip.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("unpack what was derived: %w (%w)", store.ErrDamaged, err)
	}
	if len(body) <= maxBlob {
		s.blobs.Add(p.Name, body)
	}
	return body, nil
}

// maxBlob is how large a piece may be to be cached.
const maxBlob = 128 << 10

// derivedMessage reads one message of what was derived. A server that is behind may not have it yet.
func (s *Store) derivedMessage(ctx context.Context, subject string) (*jetstream.RawStreamMsg, error) {
	for try := 0; ; try++ {
		m, err := s.derived.GetLastMsgForSubject(ctx, subject)
		if !errors.Is(err, jetstream.ErrMsgNotFound) {
			return m, away(err)
		}
		if try == 5 {
			return nil, fmt.Errorf("what was derived is missing: %w", store.ErrDamaged)
		}
		if err := pause(ctx, try); err != nil {
			return nil, err
		}
	}
}

// dropPieces deletes bytes that no message names any more. What is left of it for want of a connection goes with its stream.
func (s *Store) dropPieces(ctx context.Context, token string, list ...piece) {
	for _, p := range list {
		if p.Parts > 0 {
			_ = s.derived.Purge(ctx, jetstream.WithPurgeSubject(s.cfg.Name+".derived."+token+"."+p.Name+".>"))
		}
	}
}

// changeDerived replaces what is said of a stream's derived data, as long as this service may. It does nothing for a stream that is
// not there.
func (s *Store) changeDerived(ctx context.Context, stream int64, change func(row *derivedRow, token string) (bool, error)) error {
	token, ok := s.token(stream)
	of := s.streamRow(token)
	if !ok || of == nil {
		return ctx.Err()
	}
	epoch, err := s.mayWrite(token, of)
	if err != nil {
		return err
	}
	return s.catalog.change(ctx, keyDerived+token, func(r row) ([]byte, any, error) {
		next := derivedRow{}
		if was, ok := r.read.(*derivedRow); ok {
			next = *was
		}
		if next.Epoch > epoch {
			return nil, nil, store.ErrHeld // another service has it already
		}
		next.Epoch = epoch
		if ok, err := change(&next, token); err != nil || !ok {
			return nil, nil, err
		}
		return pack(&next), &next, nil
	})
}

// SetResult replaces what was derived of a stream, as a whole.
func (s *Store) SetResult(ctx context.Context, stream int64, d *store.Derived) error {
	ctx, cancel := within(ctx)
	defer cancel()
	token, ok := s.token(stream)
	row := s.streamRow(token)
	if !ok || row == nil {
		return ctx.Err()
	}
	if have := s.derivedRow(token); have != nil && have.Analysed > d.Analysed {
		return ctx.Err()
	}
	if _, err := s.mayWrite(token, row); err != nil {
		return fmt.Errorf("store the result of stream %s: %w", row.Name, err)
	}
	next := derivedRow{Analysed: d.Analysed, Ended: d.Ended, Key: d.Key}
	if d.Broken {
		next.BrokenBy = d.Key
	}
	var err error
	if next.End, err = s.end(ctx, token, row, s.derivedRow(token)); err != nil {
		return err
	}
	for _, part := range []struct {
		body []byte
		to   *piece
	}{{d.Result, &next.Result}, {d.State, &next.State}, {d.Digest, &next.LargeDigest}} {
		if part.to == &next.LargeDigest && len(part.body) <= maxInline {
			next.Digest = part.body
			continue
		}
		if part.body == nil {
			continue
		}
		if *part.to, err = s.putPiece(ctx, token, part.body); err != nil {
			return fmt.Errorf("store the result of stream %s: %w", row.Name, err)
		}
	}
	var old []piece
	generation := -1
	err = s.changeDerived(ctx, stream, func(row *derivedRow, _ string) (bool, error) {
		if row.Analysed > d.Analysed {
			old = []piece{next.Result, next.State, next.LargeDigest}
			return false, nil
		}
		old = []piece{row.Result, row.State, row.LargeDigest}
		row.Analysed, row.Ended, row.BrokenBy, row.Key, row.End = next.Analysed, next.Ended, next.BrokenBy, next.Key, next.End
		row.Result, row.State, row.Digest, row.LargeDigest = next.Result, next.State, next.Digest, next.LargeDigest
		if d.Staged {
			if staged, ok := s.known.staged.Get(token); ok && staged != row.Generation {
				old = []piece{next.Result, next.State, next.LargeDigest}
				return false, nil // another service has derived it again meanwhile
			}
			generation = row.Generation
			row.Generation++
		}
		return true, nil
	})
	if err != nil {
		s.dropPieces(ctx, token, next.Result, next.State, next.LargeDigest)
		return fmt.Errorf("store the result of stream %s: %w", row.Name, err)
	}
	s.dropPieces(ctx, token, old...)
	if generation >= 0 {
		s.dropGeneration(ctx, token, generation)
	}
	return nil
}

// Result returns what was found in a stream; nil while there is nothing.
func (s *Store) Result(ctx context.Context, stream int64) ([]byte, error) {
	return s.pieceOf(ctx, stream, func(d *derivedRow) piece { return d.Result })
}

// pieceOf returns a piece of what is derived of a stream now. It is replaced while it is read, now and then.
func (s *Store) pieceOf(ctx context.Context, stream int64, which func(*derivedRow) piece) ([]byte, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	token, _ := s.token(stream)
	for try := 0; ; try++ {
		d := s.derivedRow(token)
		if d == nil {
			return nil, ctx.Err()
		}
		p := which(d)
		body, err := s.piece(ctx, token, p)
		if err == nil || !errors.Is(err, store.ErrDamaged) || try == 20 {
			return body, err
		}
		if now := s.derivedRow(token); now == nil || which(now) != p {
			continue
		}
		if try > 3 {
			return nil, err
		}
		if err := pause(ctx, try); err != nil {
			return nil, err
		}
	}
}

// Digests returns, for each stream of a recording that has one, what lists need of its result.
func (s *Store) Digests(ctx context.Context, recording string) (map[int64][]byte, error) {
	list := map[int64][]byte{}
	for _, token := range s.tokensOf(recording) {
		d, row := s.derivedRow(token), s.streamRow(token)
		if d == nil || row == nil || d.Digest == nil && d.LargeDigest.Parts == 0 {
			continue
		}
		body := d.Digest
		if body == nil {
			var err error
			if body, err = s.pieceOf(ctx, row.ID, func(d *derivedRow) piece { return d.LargeDigest }); err != nil {
				return nil, err
			}
		}
		if len(body) > 0 {
			list[row.ID] = body
		}
	}
	return list, ctx.Err()
}

// State returns what views answer from, and how many batches it covers; nil where there is nothing.
func (s *Store) State(ctx context.Context, stream int64) ([]byte, int64, error) {
	covers := int64(0)
	body, err := s.pieceOf(ctx, stream, func(d *derivedRow) piece {
		covers = d.Analysed
		return d.State
	})
	if body == nil {
		covers = 0
	}
	return body, covers, err
}

// chunkName returns the name of a part of a log of scopes, which is stored again while it grows.
func chunkName(generation, n int) string {
	if n < 0 { // staged: it takes the other's place with the next generation
		generation, n = generation+1, -1-n
	}
	return "c" + strconv.Itoa(generation) + "-" + strconv.Itoa(n)
}

const (
	hEpoch = "Lantern-Epoch"
	hSum   = "Lantern-Sum"
)

// PutChunks stores parts of a stream's log of scopes, in place of those of the same numbers.
func (s *Store) PutChunks(ctx context.Context, stream int64, chunks []store.Chunk) error {
	if len(chunks) == 0 {
		return ctx.Err()
	}
	ctx, cancel := within(ctx)
	defer cancel()
	token, ok := s.token(stream)
	row := s.streamRow(token)
	if !ok || row == nil {
		return ctx.Err()
	}
	generation := 0
	if d := s.derivedRow(token); d != nil {
		generation = d.Generation
	}
	for _, c := range chunks {
		if err := s.putChunk(ctx, token, row, chunkName(generation, c.N), c.Body); err != nil {
			return fmt.Errorf("store the log of scopes of stream %s: %w", row.Name, err)
		}
	}
	return nil
}

// putChunk stores a part of a log of scopes, unless who has the lease by now has stored one.
func (s *Store) putChunk(ctx context.Context, token string, row *streamRow, name string, body []byte) error {
	packed := s.zip.EncodeAll(body, nil)
	parts := slices.Collect(slices.Chunk(packed, s.part))
	sum := sumOf(packed)
	for n := len(parts) - 1; n > 0; n-- {
		if _, err := s.js.Publish(ctx, s.pieceSubject(token, name+"_"+sum, n), parts[n]); err != nil {
			return away(err)
		}
	}
	subject := s.pieceSubject(token, name, 0)
	seq, known := s.known.chunks.Get(subject)
	for range 20 {
		epoch, err := s.mayWrite(token, row)
		if err != nil {
			return err
		}
		if !known {
			m, err := s.derived.GetLastMsgForSubject(ctx, subject)
			if err != nil && !errors.Is(err, jetstream.ErrMsgNotFound) {
				return away(err)
			}
			if seq = 0; err == nil {
				seq = m.Sequence
				if uint64(number(m.Header, hEpoch)) > epoch {
					return store.ErrHeld
				}
			}
		}
		h := nats.Header{}
		h.Set(hEpoch, strconv.FormatUint(epoch, 10))
		h.Set(hParts, strconv.Itoa(len(parts)))
		h.Set(hSum, sum)
		var first []byte
		if len(parts) > 0 {
			first = parts[0]
		}
		ack, err := s.js.PublishMsg(ctx, &nats.Msg{Subject: subject, Header: h, Data: first}, jetstream.WithExpectLastSequencePerSubject(seq))
		if wrongRevision(err) {
			known = false
			if err := pause(ctx, 0); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return away(err)
		}
		s.known.chunks.Add(subject, ack.Sequence)
		return nil
	}
	return away(errMoved)
}

// Chunk returns a part of a stream's log of scopes.
func (s *Store) Chunk(ctx context.Context, stream int64, n int) ([]byte, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	token, ok := s.token(stream)
	if !ok {
		return nil, cmp.Or(ctx.Err(), error(store.ErrNotFound))
	}
	for try := 0; ; try++ {
		generation := 0
		if d := s.derivedRow(token); d != nil {
			generation = d.Generation
		}
		body, err := s.chunk(ctx, token, chunkName(generation, n))
		if err == nil || try == 5 || !errors.Is(err, store.ErrDamaged) && !errors.Is(err, store.ErrNotFound) {
			if err != nil {
				err = fmt.Errorf("read part %d of the log of scopes: %w", n, err)
			}
			return body, err
		}
		if err := pause(ctx, try); err != nil { // it is being replaced, or a server is behind
			return nil, err
		}
	}
}

func (s *Store) chunk(ctx context.Context, token, name string) ([]byte, error) {
	m, err := s.derived.GetLastMsgForSubject(ctx, s.pieceSubject(token, name, 0))
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil, store.ErrNotFound
	}
	if err != nil {
		return nil, away(err)
	}
	packed := m.Data
	for n := 1; n < int(number(m.Header, hParts)); n++ {
		more, err := s.derived.GetLastMsgForSubject(ctx, s.pieceSubject(token, name+"_"+m.Header.Get(hSum), n))
		if errors.Is(err, jetstream.ErrMsgNotFound) {
			return nil, store.ErrDamaged
		}
		if err != nil {
			return nil, away(err)
		}
		packed = append(packed, more.Data...)
	}
	if sumOf(packed) != m.Header.Get(hSum) {
		return nil, store.ErrDamaged
	}
	body, err := s.unzip.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("unpack: %w (%w)", store.ErrDamaged, err)
	}
	return body, nil
}

// dropGeneration deletes a log of scopes that another has taken the place of, by the subjects that there are.
func (s *Store) dropGeneration(ctx context.Context, token string, generation int) {
	info, err := s.derived.Info(ctx, jetstream.WithSubjectFilter(s.cfg.Name+".derived."+token+".>"))
	if err != nil {
		return // it goes with its stream
	}
	begins := s.cfg.Name + ".derived." + token + ".c" + strconv.Itoa(generation) + "-"
	for subject := range info.State.Subjects {
		if len(subject) > len(begins) && subject[:len(begins)] == begins {
			_ = s.derived.Purge(ctx, jetstream.WithPurgeSubject(subject))
			s.known.chunks.Remove(subject)
		}
	}
}

// DropStaged deletes what an earlier attempt to reanalyse a stream has left.
func (s *Store) DropStaged(ctx context.Context, stream int64) error {
	ctx, cancel := within(ctx)
	defer cancel()
	token, ok := s.token(stream)
	if !ok {
		return ctx.Err()
	}
	generation := 0
	if d := s.derivedRow(token); d != nil {
		generation = d.Generation
	}
	s.known.staged.Add(token, generation)
	s.dropGeneration(ctx, token, generation+1)
	return ctx.Err()
}

// PutCheckpoint keeps a stream's analysis as it is after its first batches.
func (s *Store) PutCheckpoint(ctx context.Context, stream, batches int64, program string, body []byte) error {
	ctx, cancel := context.WithTimeout(ctx, 4*patience) // it may be large
	defer cancel()
	token, ok := s.token(stream)
	row := s.streamRow(token)
	if !ok || row == nil {
		return ctx.Err()
	}
	if _, err := s.mayWrite(token, row); err != nil {
		return err
	}
	p, err := s.putPiece(ctx, token, body)
	if err != nil {
		return fmt.Errorf("keep a checkpoint of stream %s: %w", row.Name, err)
	}
	var old piece
	err = s.changeDerived(ctx, stream, func(d *derivedRow, _ string) (bool, error) {
		old = d.Checkpoint
		d.Checkpoint, d.Covers, d.Program = p, batches, program
		return true, nil
	})
	if err != nil {
		old = p
		err = fmt.Errorf("keep a checkpoint of stream %s: %w", row.Name, err)
	}
	s.dropPieces(ctx, token, old)
	return err
}

// Checkpoint returns what this program kept of a stream, and how many batches it covers; nil where there is nothing.
func (s *Store) Checkpoint(ctx context.Context, stream int64, program string) ([]byte, int64, error) {
	ctx, cancel := context.WithTimeout(ctx, 4*patience)
	defer cancel()
	token, _ := s.token(stream)
	d := s.derivedRow(token)
	if d == nil || d.Program != program || d.Checkpoint.Parts == 0 {
		return nil, 0, ctx.Err()
	}
	body, err := s.piece(ctx, token, d.Checkpoint)
	return body, d.Covers, err
}

// DropCheckpoint deletes what was kept of a stream, if anything.
func (s *Store) DropCheckpoint(ctx context.Context, stream int64) error {
	ctx, cancel := within(ctx)
	defer cancel()
	var old piece
	err := s.changeDerived(ctx, stream, func(d *derivedRow, _ string) (bool, error) {
		old = d.Checkpoint
		d.Checkpoint, d.Covers, d.Program = piece{}, 0, ""
		return old.Parts > 0, nil
	})
	if token, ok := s.token(stream); ok && err == nil {
		s.dropPieces(ctx, token, old)
	}
	return cmp.Or(err, ctx.Err())
}

// Again has a stream analysed again from its first batch.
func (s *Store) Again(ctx context.Context, stream int64) error {
	ctx, cancel := within(ctx)
	defer cancel()
	var old piece
	err := s.changeDerived(ctx, stream, func(d *derivedRow, _ string) (bool, error) {
		old = d.Checkpoint
		d.Analysed, d.BrokenBy, d.Checkpoint, d.Covers, d.Program = 0, "", piece{}, 0, ""
		return true, nil
	})
	if token, ok := s.token(stream); ok && err == nil {
		s.dropPieces(ctx, token, old)
	}
	return cmp.Or(err, ctx.Err())
}

// mine reports whether what has to be done for a stream is this service's: while services work on partitions, of its own ones.
func (s *Store) mine(token string) bool { return !s.parts.working() || s.holds(token) }

// Unfinished returns the streams whose result does not cover all their batches, and those whose analysis broke off with another
// key. Where services work on partitions, the batches that are behind come by themselves.
func (s *Store) Unfinished(ctx context.Context, key string) ([]store.Stream, error) {
	var list []store.Stream
	err := s.eachStream(ctx, func(token string, row *streamRow, d *derivedRow) error {
		broken := d != nil && d.BrokenBy != "" && d.BrokenBy != key
		if !broken && row.Live && s.parts.working() {
			return nil
		}
		st, err := s.stream(ctx, token)
		if err != nil {
			return err
		}
		if st.Batches > 0 && (broken || st.Analysed < st.Batches) {
			list = append(list, st)
		}
		return nil
	})
	return list, err
}

// eachStream calls f with the streams that are this service's, in their order; those of files that are being read are left out.
func (s *Store) eachStream(ctx context.Context, f func(token string, row *streamRow, d *derivedRow) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	list := s.recordings()
	slices.Reverse(list)
	for _, rec := range list {
		if rec.row.Importer != "" {
			continue
		}
		for _, token := range s.tokensOf(rec.id) {
			row := s.streamRow(token)
			if row == nil || !s.mine(token) {
				continue
			}
			if err := f(token, row, s.derivedRow(token)); err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
		}
	}
	return nil
}

// Stale returns a stream that was derived with another key than this one, of the newest recording first, and how many there are.
func (s *Store) Stale(ctx context.Context, key string, but func(store.Stream) bool) (st store.Stream, n int, err error) {
	if err := ctx.Err(); err != nil {
		return st, 0, err
	}
	for _, rec := range s.recordings() {
		if rec.row.Importer != "" {
			continue
		}
		for _, token := range s.tokensOf(rec.id) {
			d := s.derivedRow(token)
			if d == nil || d.Result.Parts == 0 || d.Key == key || !s.mine(token) {
				continue
			}
			one, err := s.stream(ctx, token)
			if errors.Is(err, store.ErrNotFound) || err == nil && but(one) {
				continue
			}
			if err != nil {
				return st, n, err
			}
			if n == 0 {
				st = one
			}
			n++
		}
	}
	if n == 0 {
		return st, 0, store.ErrNotFound
	}
	return st, n, nil
}

// Broken returns how many streams have an analysis that broke off.
func (s *Store) Broken(ctx context.Context) (n int64, err error) {
	s.known.mu.Lock()
	list := slices.Collect(maps.Keys(s.known.broken))
	s.known.mu.Unlock()
	for _, token := range list {
		if s.mine(token) {
			n++
		}
	}
	return n, ctx.Err()
}
