// Package version puts the version strings of device makers in order.
//
// Makers write versions as they please: 2.08, V7.0-p3, K42, 2024.10b2. The
// natural order reads such a string as a row of numbers and words and compares
// the rows from the left, so that 1.9 comes before 1.10, a beta before its
// release, and a fix pack after it. It is a total order on what is read:
// strings that read the same (V2.08, 2.08, 2.08.0) are equal. A maker who sorts
// otherwise has an Order of another rule.
//
// The package is pure: it takes strings and returns answers.
package version

import (
	"fmt"
	"strings"
	"unicode"
)

// MaxLength is the longest version string, in bytes, that is looked at. Devices
// report their versions themselves; what is longer than this is not a version.
const MaxLength = 128

// Compare returns -1, 0 or +1 as a comes before, equals or comes after b in the
// natural order.
func Compare(a, b string) int { return Order{}.Compare(a, b) }

// Equal tells whether a and b read as the same version.
func Equal(a, b string) bool { return Compare(a, b) == 0 }

// Valid returns an error when s cannot be a version: empty, too long, without
// any digit or letter, or with control characters in it.
func Valid(s string) error {
	switch {
	case strings.TrimSpace(s) == "":
		return fmt.Errorf("a version must not be empty")
	case len(s) > MaxLength:
		return fmt.Errorf("a version of %d bytes is longer than %d", len(s), MaxLength)
	case strings.ContainsFunc(s, unicode.IsControl):
		return fmt.Errorf("version %q has control characters in it", s)
	case !strings.ContainsFunc(s, func(r rune) bool { return isDigit(r) || unicode.IsLetter(r) }):
		return fmt.Errorf("version %q has neither a digit nor a letter", s)
	}
	return nil
}

// rank says where a token stands against tokens of another kind in the same
// place. The end of a version lies between its betas and its fix packs:
// 1.0b2 < 1.0 < 1.0-p1 < 1.0.1.
type rank int

const (
	early  rank = iota // a word that names something before the release
	end                // nothing more
	word               // any other word
	number             // digits
)

// token is one number or word of a version. Numbers keep their digits, without
// leading zeros, so that no number is too large.
type token struct {
	rank rank
	text string
}

func (t token) compare(u token) int {
	switch {
	case t.rank != u.rank:
		return sign(int(t.rank) - int(u.rank))
	case t.rank == number && len(t.text) != len(u.text):
		return sign(len(t.text) - len(u.text))
	default:
		return strings.Compare(t.text, u.text)
	}
}

func at(tokens []token, i int) token {
	if i < len(tokens) {
		return tokens[i]
	}
	return token{rank: end}
}

// earlyWords are the words by which the trade marks what comes before a release.
var earlyWords = map[string]bool{
	"alpha": true, "beta": true, "rc": true, "pre": true, "preview": true,
	"dev": true, "snapshot": true, "cr": true, "test": true, "trial": true,
}

// read splits a version into tokens. Everything but digits and letters only
// separates; upper and lower case are the same; a leading "v" or "version" says
// nothing; zeros at the end of a row of numbers say nothing either.
func read(s string) []token {
	if len(s) > MaxLength {
		s = s[:MaxLength]
	}
	runes := []rune(strings.ToLower(s))
	var out []token
	for i := 0; i < len(runes); {
		start := i
		switch {
		case isDigit(runes[i]):
			for i < len(runes) && isDigit(runes[i]) {
				i++
			}
			digits := strings.TrimLeft(string(runes[start:i]), "0")
			out = append(out, token{number, digits})
		case unicode.IsLetter(runes[i]):
			for i < len(runes) && unicode.IsLetter(runes[i]) {
				i++
			}
			text := string(runes[start:i])
			if len(out) == 0 && (text == "v" || text == "ver" || text == "version") {
				continue
			}
			out = append(dropZeros(out), token{wordRank(text, runes, start, i), text})
		default:
			i++
		}
	}
	return dropZeros(out)
}

// wordRank tells a beta from a fix pack. A single a or b is early only where it
// stands between two digits, as in 2024.10b2; a letter at the end, as in 1.2a,
// is a later revision.
func wordRank(text string, runes []rune, start, end int) rank {
	between := start > 0 && isDigit(runes[start-1]) && end < len(runes) && isDigit(runes[end])
	if earlyWords[text] || between && (text == "a" || text == "b") {
		return early
	}
	return word
}

// dropZeros removes the zeros that end the last row of numbers: 1.0.0 is 1.
func dropZeros(tokens []token) []token {
	for len(tokens) > 0 && tokens[len(tokens)-1] == (token{rank: number}) {
		tokens = tokens[:len(tokens)-1]
	}
	return tokens
}

func isDigit(r rune) bool { return r >= '0' && r <= '9' }

func sign(n int) int {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}
