package atomicfile

import (
	"strings"

	"catena/internal/text"
)

// Word returns a word as a part of a file's name that every system takes: at most 40 bytes of
// ASCII.
func Word(s string) string {
	word := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|`, r) || r <= ' ' || r >= 0x7f { // one byte each
			return '-'
		}
		return r
	}, text.Clean(s))
	return word[:min(len(word), 40)]
}
