package jetstream

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/nats-io/nats.go/jetstream"
	"golang.org/x/sync/errgroup"

	"keenlantern.example/internal/store"
)

// The rows of the catalog, by the beginnings of their keys.
const (
	keyRecording = "recording." // and the recording's id
	keyStream    = "stream."    // and the stream's token
	keyDerived   = "derived."   // the same
	keyReached   = "reached."   // and a partition
	keyOrder     = "order."     // and an application's name, as base64
	keyContract  = "contract."  // the same
	keyToken     = "token."     // and the token's id
	keySession   = "session."   // and the session's hash
	keySeen      = "seen"
)

// recordingRow is a recording. One that was deleted stays as its id, which is never given out again.
type recordingRow struct {
	App         string `json:"app,omitempty"`
	Version     string `json:"version,omitempty"`
	Environment string `json:"environment,omitempty"`
	Source      string `json:"source,omitempty"`
	CreatedNS   int64  `json:"created_ns,omitempty"`
	Name        string `json:"name,omitempty"`
	Pinned      bool   `json:"pinned,omitempty"`
	Labels      []byte `json:"labels,omitempty"`
	Importer    string `json:"importer,omitempty"` // the process that reads the file, until it has come to its end
	Deleted     bool   `json:"deleted,omitempty"`
}

func rowOf(r *store.Recording, importer string) *recordingRow {
	row := &recordingRow{App: r.App, Version: r.Version, Environment: r.Environment, Source: r.Source, CreatedNS: r.CreatedNS, Name: r.Name, Pinned: r.Pinned, Labels: r.Labels}
	if r.Importing {
		row.Importer = importer
	}
	return row
}

// streamRow is what of a stream never changes.
type streamRow struct {
	ID        int64  `json:"id,omitempty"` // the log's number of its first message
	Recording string `json:"recording"`
	Name      string `json:"name"`
	Live      bool   `json:"live,omitempty"`
	Owner     string `json:"owner,omitempty"`
}

func parseCatalog(key string, value []byte) any {
	read := func(to any) any {
		if json.Unmarshal(value, to) != nil {
			return nil
		}
		return to
	}
	switch {
	case strings.HasPrefix(key, keyRecording):
		return read(&recordingRow{})
	case strings.HasPrefix(key, keyStream):
		return read(&streamRow{})
	case strings.HasPrefix(key, keyDerived):
		return read(&derivedRow{})
	}
	return nil
}

// known finds streams by what else they are called, and how far they are.
type known struct {
	mu      sync.Mutex
	byID    map[int64]string               // tokens
	rows    map[string]*streamRow          // by token
	of      map[string]map[string]struct{} // tokens of a recording's streams
	broken  map[string]struct{}            // tokens of streams whose analysis broke off
	changes map[string]int64               // of recordings: the latest revision of what was derived
	ends    *lru.Cache[string, seenEnd]    // by token: as this service last saw the stream
	staged  *lru.Cache[string, int]        // by token: the generation whose place a log of scopes takes that is being reanalysed
	chunks  *lru.Cache[string, uint64]     // the log's number of a chunk as this service stored it
}

func (k *known) init() {
	k.byID, k.broken, k.rows, k.of, k.changes = map[int64]string{}, map[string]struct{}{}, map[string]*streamRow{}, map[string]map[string]struct{}{}, map[string]int64{}
	k.ends, _ = lru.New[string, seenEnd](1 << 14) // the sizes are positive
	k.staged, _ = lru.New[string, int](1 << 12)
	k.chunks, _ = lru.New[string, uint64](1 << 12)
}

// heardCatalog keeps what finds streams as the catalog's rows come.
func (s *Store) heardCatalog(key string, r row) {
	if token, ok := strings.CutPrefix(key, keyStream); ok {
		s.known.stream(token, r)
		return
	}
	if token, ok := strings.CutPrefix(key, keyDerived); ok {
		s.tellWatchers(keyDerived, s.known.derived(token, r))
		return
	}
	kind, rest, _ := strings.Cut(key, ".")
	s.tellWatchers(kind+".", rest)
}

// stream notes a stream's row.
func (k *known) stream(token string, r row) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if was := k.rows[token]; was != nil {
		delete(k.rows, token)
		delete(k.byID, was.ID)
		if delete(k.of[was.Recording], token); len(k.of[was.Recording]) == 0 {
			delete(k.of, was.Recording)
			delete(k.changes, was.Recording)
		}
	}
	st, ok := r.read.(*streamRow)
	if !ok {
		k.ends.Remove(token)
		return
	}
	k.rows[token], k.byID[st.ID] = st, token
	if k.of[st.Recording] == nil {
		k.of[st.Recording] = map[string]struct{}{}
	}
	k.of[st.Recording][token] = struct{}{}
}

// derived notes that what is derived of a stream has changed, and returns its recording.
func (k *known) derived(token string, r row) string {
	k.mu.Lock()
	defer k.mu.Unlock()
	if d, ok := r.read.(*derivedRow); ok && d.BrokenBy != "" {
		k.broken[token] = struct{}{}
	} else {
		delete(k.broken, token)
	}
	st := k.rows[token]
	if st == nil {
		return ""
	}
	k.changes[st.Recording] = int64(r.rev)
	return st.Recording
}

// watch has f called whenever a row of a kind has changed, by whomever: with the rest of its key, for a recording that has
// changed in any way its id. F must not block, nor call the store.
func (s *Store) watch(kind string, f func(rest string)) {
	list, _ := s.watched.LoadOrStore(kind, &watchers{})
	w := list.(*watchers)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.list = append(w.list, f)
}

type watchers struct {
	mu   sync.Mutex
	list []func(string)
}

func (s *Store) tellWatchers(kind, rest string) {
	list, ok := s.watched.Load(kind)
	if !ok {
		return
	}
	w := list.(*watchers)
	w.mu.Lock()
	all := slices.Clone(w.list)
	w.mu.Unlock()
	for _, f := range all {
		f(rest)
	}
}

func pack(v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // rows are numbers and texts
	}
	return text
}

// named makes any text a part of a key.
func named(text string) string { return base64.RawURLEncoding.EncodeToString([]byte(text)) }

func unnamed(part string) string {
	text, _ := base64.RawURLEncoding.DecodeString(part) // it is our own
	return string(text)
}

// recording returns a recording's row, nil where there is none; one that was deleted too.
func (s *Store) recording(id string) *recordingRow {
	r, _ := s.catalog.get(keyRecording + id)
	row, _ := r.read.(*recordingRow)
	return row
}

func (s *Store) streamRow(token string) *streamRow {
	r, _ := s.catalog.get(keyStream + token)
	row, _ := r.read.(*streamRow)
	return row
}

// stored returns a recording as the interface has it.
func (s *Store) stored(id string, row *recordingRow) store.Recording {
	r := store.Recording{
		ID: id, App: row.App, Version: row.Version, Environment: row.Environment, Source: row.Source, CreatedNS: row.CreatedNS,
		Name: row.Name, Pinned: row.Pinned, Labels: row.Labels, Importing: row.Importer != "", Summary: []byte("{}"),
	}
	if r.Labels == nil {
		r.Labels = []byte("{}")
	}
	s.known.mu.Lock()
	r.Changes = s.known.changes[id]
	s.known.mu.Unlock()
	if kept, ok := s.summaries.get(id, r.Changes); ok {
		r.Summary = kept
	}
	return r
}

// summaries are what lists show of recordings. They are made again where they are missing, so each service keeps its own.
type summaries struct {
	mu   sync.Mutex
	list map[string]summary
}

type summary struct {
	changes int64
	body    []byte
}

const maxSummaries = 5000

func (m *summaries) get(id string, changes int64) ([]byte, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	one, ok := m.list[id]
	return one.body, ok && one.changes == changes
}

func (m *summaries) put(id string, one summary) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.list == nil || len(m.list) >= maxSummaries {
		m.list = map[string]summary{}
	}
	m.list[id] = one
}

// AddRecording stores a new recording.
func (s *Store) AddRecording(ctx context.Context, r store.Recording) error {
	ctx, cancel := within(ctx)
	defer cancel()
	row := rowOf(&r, s.process())
	if _, err := s.catalog.create(ctx, keyRecording+r.ID, pack(row), row); err != nil {
		if err == errTaken {
			return store.ErrSpent
		}
		return fmt.Errorf("store recording %s: %w", r.ID, err)
	}
	return nil
}

// changeRecording replaces a recording's row.
func (s *Store) changeRecording(ctx context.Context, id string, change func(row *recordingRow)) error {
	ctx, cancel := within(ctx)
	defer cancel()
	return s.catalog.change(ctx, keyRecording+id, func(r row) ([]byte, any, error) {
		was, ok := r.read.(*recordingRow)
		if !ok || was.Deleted {
			return nil, nil, store.ErrNotFound
		}
		next := *was
		change(&next)
		return pack(&next), &next, nil
	})
}

// Imported notes that a file has come to its end.
func (s *Store) Imported(ctx context.Context, id string) error {
	return s.changeRecording(ctx, id, func(row *recordingRow) { row.Importer = "" })
}

// CutOff returns nothing: who reads a file is known, and what a service that is gone has not finished is deleted while others
// run.
func (s *Store) CutOff() []store.Recording { return nil }

// Recording returns the one that name means.
func (s *Store) Recording(ctx context.Context, name string) (store.Recording, error) {
	if err := ctx.Err(); err != nil {
		return store.Recording{}, err
	}
	name = strings.ToLower(name)
	if name == "" {
		return store.Recording{}, store.ErrNotFound
	}
	if name == "latest" {
		list := s.recordings()
		if len(list) == 0 {
			return store.Recording{}, store.ErrNotFound
		}
		return s.stored(list[0].id, list[0].row), nil
	}
	if row := s.recording(name); row != nil && !row.Deleted {
		return s.stored(name, row), nil
	}
	var found []listed
	s.catalog.each(keyRecording+name, func(key string, r row) {
		if row, ok := r.read.(*recordingRow); ok && !row.Deleted {
			found = append(found, listed{strings.TrimPrefix(key, keyRecording), row})
		}
	})
	switch len(found) {
	case 0:
		return store.Recording{}, store.ErrNotFound
	case 1:
		return s.stored(found[0].id, found[0].row), nil
	}
	return store.Recording{}, store.ErrAmbiguous
}

type listed struct {
	id  string
	row *recordingRow
}

// recordings lists them, newest first.
func (s *Store) recordings() (list []listed) {
	s.catalog.each(keyRecording, func(key string, r row) {
		if row, ok := r.read.(*recordingRow); ok && !row.Deleted {
			list = append(list, listed{strings.TrimPrefix(key, keyRecording), row})
		}
	})
	slices.SortFunc(list, func(a, b listed) int {
		return cmp.Or(cmp.Compare(b.row.CreatedNS, a.row.CreatedNS), cmp.Compare(b.id, a.id))
	})
	return list
}

// Recordings returns a page of them.
func (s *Store) Recordings(ctx context.Context, limit, offset int) ([]store.Recording, int, error) {
	if err := ctx.Err(); err != nil {
		return nil, 0, err
	}
	list := s.recordings()
	page := make([]store.Recording, 0, min(limit, len(list)))
	for _, one := range list[min(offset, len(list)):min(offset+limit, len(list))] {
		page = append(page, s.stored(one.id, one.row))
	}
	return page, len(list), nil
}

// SetHousekeeping replaces what people said of a recording.
func (s *Store) SetHousekeeping(ctx context.Context, rec store.Recording) error {
	return s.changeRecording(ctx, rec.ID, func(row *recordingRow) {
		row.Name, row.Pinned, row.Labels = rec.Name, rec.Pinned, rec.Labels
	})
}

// SetSummary keeps what a list shows of a recording until it changes.
func (s *Store) SetSummary(ctx context.Context, id string, changes int64, body []byte) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	s.known.mu.Lock()
	now := s.known.changes[id]
	s.known.mu.Unlock()
	if now == changes {
		s.summaries.put(id, summary{changes, body})
	}
	return nil
}

// DeleteRecording removes a recording with all that was kept of it. What is left where it breaks off is removed later, by the service that
// holds the first partition.
func (s *Store) DeleteRecording(ctx context.Context, id string) error {
	if err := s.changeRecording(ctx, id, func(row *recordingRow) { *row = recordingRow{Deleted: true} }); err != nil {
		return err
	}
	s.AskAll(ctx, store.AskDrop, pack(id)) // services that do not answer find their streams gone
	return s.purge(ctx, id)
}

// purge removes the streams of a recording that was deleted.
func (s *Store) purge(ctx context.Context, recording string) error {
	for _, token := range s.tokensOf(recording) {
		if err := s.purgeStream(ctx, token); err != nil {
			return fmt.Errorf("delete recording %s: %w", recording, err)
		}
	}
	return nil
}

// tokensOf lists a recording's streams in the order in which they began.
func (s *Store) tokensOf(recording string) []string {
	s.known.mu.Lock()
	list := slices.Collect(maps.Keys(s.known.of[recording]))
	s.known.mu.Unlock()
	ids := make(map[string]int64, len(list))
	for _, token := range list {
		if row := s.streamRow(token); row != nil {
			ids[token] = row.ID
		}
	}
	slices.SortFunc(list, func(a, b string) int { return cmp.Compare(ids[a], ids[b]) })
	return list
}

// Sizes returns how much each recording takes, the oldest first.
func (s *Store) Sizes(ctx context.Context) ([]store.Size, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	list := s.recordings()
	slices.Reverse(list)
	sizes := make([]store.Size, 0, len(list))
	for _, one := range list {
		size := store.Size{ID: one.id, CreatedNS: one.row.CreatedNS, LastNS: one.row.CreatedNS, Pinned: one.row.Pinned}
		for _, token := range s.tokensOf(one.id) {
			e := s.nearEnd(token)
			size.Bytes += e.Bytes
			size.LastNS = max(size.LastNS, e.ReceivedNS)
		}
		sizes = append(sizes, size)
	}
	return sizes, nil
}

// LiveStream returns the stream that comes in batches under this name.
func (s *Store) LiveStream(ctx context.Context, name string) (store.Stream, error) {
	return s.liveStream(ctx, name, s.recent)
}

// SureStream returns it as the log's leader has it.
func (s *Store) SureStream(ctx context.Context, name string) (store.Stream, error) {
	return s.liveStream(ctx, name, s.latest)
}

func (s *Store) liveStream(ctx context.Context, name string, ask func(context.Context, string) (*jetstream.RawStreamMsg, error)) (store.Stream, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	token := tokenOf(name)
	if s.streamRow(token) == nil {
		if err := s.discover(ctx, token); err != nil {
			return store.Stream{}, err
		}
	}
	// A request by name is about to work on it, and needs the current state.
	row := s.streamRow(token)
	if row == nil {
		return store.Stream{}, cmp.Or(ctx.Err(), error(store.ErrNotFound))
	}
	e, err := s.readEnd(ctx, token, row, ask)
	if err != nil {
		return store.Stream{}, err
	}
	s.saw(token, e)
	return s.stream(ctx, token)
}

// StreamByID returns a stream as it is stored now.
func (s *Store) StreamByID(ctx context.Context, id int64) (store.Stream, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	token, ok := s.token(id)
	if !ok {
		return store.Stream{}, cmp.Or(ctx.Err(), error(store.ErrNotFound))
	}
	return s.stream(ctx, token)
}

// token returns that of a stream by its id.
func (s *Store) token(id int64) (string, bool) {
	s.known.mu.Lock()
	defer s.known.mu.Unlock()
	token, ok := s.known.byID[id]
	return token, ok
}

// stream puts together what is known of a stream.
func (s *Store) stream(ctx context.Context, token string) (store.Stream, error) {
	row := s.streamRow(token)
	if row == nil {
		return store.Stream{}, cmp.Or(ctx.Err(), error(store.ErrNotFound))
	}
	st := store.Stream{ID: row.ID, Recording: row.Recording, Name: row.Name, Live: row.Live, Owner: row.Owner}
	d := s.derivedRow(token)
	if d != nil {
		st.Analysed, st.Ended, st.BrokenBy, st.DerivedBy = d.Analysed, d.Ended, d.BrokenBy, d.Key
	}
	e, err := s.end(ctx, token, row, d)
	if err != nil {
		return store.Stream{}, err
	}
	st.Batches, st.Lines, st.ReceivedNS = e.Batches, e.Lines, e.ReceivedNS
	return st, nil
}

// Streams returns those of a recording.
func (s *Store) Streams(ctx context.Context, recording string) ([]store.Stream, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	tokens := s.tokensOf(recording)
	list := make([]store.Stream, len(tokens))
	var all errgroup.Group
	all.SetLimit(16)
	for n, token := range tokens {
		all.Go(func() (err error) {
			list[n], err = s.stream(ctx, token)
			if err == store.ErrNotFound {
				err = nil // it was deleted meanwhile
			}
			return err
		})
	}
	if err := cmp.Or(all.Wait(), ctx.Err()); err != nil {
		return nil, fmt.Errorf("list the streams of recording %s: %w", recording, err)
	}
	return slices.DeleteFunc(list, func(st store.Stream) bool { return st.ID == 0 }), nil
}

// StreamCount returns how many streams a recording has.
func (s *Store) StreamCount(ctx context.Context, recording string) (int, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	s.known.mu.Lock()
	defer s.known.mu.Unlock()
	return len(s.known.of[recording]), nil
}

// SeenNS returns when a service last said that it was working here, 0 if none ever did.
func (s *Store) SeenNS(ctx context.Context) (ns int64, err error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	r, ok := s.catalog.get(keySeen)
	if ok {
		_ = json.Unmarshal(r.value, &ns) // it is our own
	}
	return ns, nil
}

// Seen says it.
func (s *Store) Seen(ctx context.Context, ns int64) error {
	ctx, cancel := within(ctx)
	defer cancel()
	_, err := s.catalog.put(ctx, keySeen, pack(ns), nil)
	return err
}

// abandonedImports lists the recordings whose files services are reading that run no more.
func (s *Store) abandonedImports() (ids []string) {
	s.catalog.each(keyRecording, func(key string, r row) {
		if row, ok := r.read.(*recordingRow); ok && row.Importer != "" && !row.Deleted && !s.runs(row.Importer) {
			ids = append(ids, strings.TrimPrefix(key, keyRecording))
		}
	})
	return ids
}

// since is for how long this store has been open.
func (s *Store) since() time.Duration { return time.Since(s.began) }
