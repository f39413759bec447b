// Package ids writes ids: letters and digits that are hard to mistake for each other.
package ids

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
)

var letters = base32.NewEncoding("abcdefghjkmnpqrstuvwxyz234567890").WithPadding(base32.NoPadding)

// Text writes bytes as an id, eight characters for each five of them.
func Text(b []byte) string { return letters.EncodeToString(b) }

// Fingerprint returns twelve letters and digits that are the same for the same text.
func Fingerprint(text []byte) string {
	sum := sha256.Sum256(text)
	return Text(sum[:8])[:12]
}

// Random returns an id of so many random bytes.
func Random(bytes int) string {
	b := make([]byte, bytes)
	rand.Read(b) // never fails, see crypto/rand
	return Text(b)
}
