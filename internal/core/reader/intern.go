package reader

// interned is a direct-mapped cache of strings: the same few thousand names come back in every line, and a name that
// is in the cache costs no allocation. It is bounded by being overwritten, so that a trace whose names never repeat
// costs what its strings cost and nothing more.
type interned struct {
	slots [1 << 12]string
}

// longestInterned keeps rare long texts from pushing names out and from staying in memory.
const longestInterned = 256

func (c *interned) text(b []byte) string {
	h := hashStart
	for _, x := range b {
		h = hashOn(h, x)
	}
	return c.hashed(b, h)
}

// hashed is text for a caller who has looked at every byte already.
func (c *interned) hashed(b []byte, h uint32) string {
	if len(b) == 0 {
		return ""
	}
	if len(b) > longestInterned {
		return string(b)
	}
	slot := &c.slots[(h^h>>15)&(1<<12-1)]
	if *slot != string(b) {
		*slot = string(b)
	}
	return *slot
}

// FNV-1a, of 32 bits.
const hashStart uint32 = 2166136261

func hashOn(h uint32, b byte) uint32 { return (h ^ uint32(b)) * 16777619 }
