package record

// Noted returns how many notes wait to be written down, for tests.
func (r *Recorder) Noted() (n int) {
	for k := range r.shards {
		s := &r.shards[k]
		s.mu.Lock()
		n += len(s.uses) + len(s.rest)
		s.mu.Unlock()
	}
	return n
}
