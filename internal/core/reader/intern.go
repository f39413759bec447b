package reader

import "encoding/binary"

// interned is a direct-mapped cache of strings: the same few thousand names come back in every line, and a name that
// is in the cache costs no allocation. It is bounded by being overwritten, so that a trace whose names never repeat
// costs what its strings cost and nothing more.
type interned struct {
	slots [1 << 12]string
}

// longestInterned keeps rare long texts from pushing names out and from staying in memory.
const longestInterned = 256

func (c *interned) text(b []byte) string {
	h, rest := hashStart, b
	for len(rest) >= 8 {
		h = hashOnEight(h, binary.LittleEndian.Uint64(rest))
		rest = rest[8:]
	}
	for _, x := range rest {
		h = hashOn(h, x)
	}
	return c.hashed(b, h)
}

// hashed is text for a caller who has looked at every byte already.
func (c *interned) hashed(b []byte, h uint64) string {
	if len(b) == 0 {
		return ""
	}
	if len(b) > longestInterned {
		return string(b)
	}
	slot := &c.slots[(h^h>>15^h>>40)&(1<<12-1)]
	if *slot != string(b) {
		*slot = string(b)
	}
	return *slot
}

// The hash of a text is FNV-1a, of 64 bits, but for eight bytes being taken at once where there are as many.
const (
	hashStart uint64 = 14695981039346656037
	hashPrime uint64 = 1099511628211
)

func hashOn(h uint64, b byte) uint64 { return (h ^ uint64(b)) * hashPrime }

func hashOnEight(h, eight uint64) uint64 {
	h = (h ^ eight) * hashPrime
	return h ^ h>>32 // or the first bytes would never reach the last bits
}
