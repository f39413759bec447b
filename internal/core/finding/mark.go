package finding

const (
	markConsonants = "bdfgklmnprstvz"
	markVowels     = "aeiou"
)

// Mark returns an instance's mark: a short word that is easy to compare by eye and to pronounce, the same wherever the
// instance is the same within a stream. Two syllables name the first 4,900 ids, three the next 343,000, and so on. Ids
// that follow each other differ from the first letter on, since they stand side by side.
func Mark(id uint64) string {
	const syllables = uint64(len(markConsonants) * len(markVowels))
	n, span, count := id, syllables*syllables, 2
	for n >= span {
		n -= span
		span *= syllables
		count++
	}
	// Multiplying by a number prime to the span only reorders the words of one length.
	const step = 2741
	if span < 1<<40 {
		n = n * step % span
	}
	word := make([]byte, 0, 2*count)
	for range count {
		s := n % syllables
		n /= syllables
		word = append(word, markConsonants[s/uint64(len(markVowels))], markVowels[s%uint64(len(markVowels))])
	}
	return string(word)
}
