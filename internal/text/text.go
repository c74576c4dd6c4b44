// Package text makes foreign text harmless: what a device, a file or a neighbour says
// is cleaned where it comes in, before anything keeps or prints it. It is pure.
package text

import (
	"regexp"
	"strings"
	"sync"
	"unicode"

	"github.com/agnivade/levenshtein"
)

// Later returns a regular expression that is compiled when it is needed first. Those of a package
// would otherwise be compiled at each start of the program, which takes as long as all the rest of
// it.
func Later(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}

// Max is the longest text, in bytes, that is kept of anything a device says about itself.
const Max = 128

// Clean makes a text from a device harmless and short: it is Harmless, on one line,
// with single spaces, and at most Max bytes long.
func Clean(s string) string {
	if len(s) > 4*Max {
		s = s[:4*Max]
	}
	s = strings.Join(strings.Fields(Harmless(s)), " ")
	if len(s) > Max {
		s = strings.TrimSpace(strings.ToValidUTF8(s[:Max], ""))
	}
	return s
}

// Harmless removes what a terminal would act on, and what hides or turns other
// characters: control characters except tabs and newlines, invisible characters, and
// those that change the direction of writing.
func Harmless(s string) string {
	return strings.Map(func(r rune) rune {
		switch r {
		case '\t', '\n':
			return r
		case '\r':
			return ' '
		}
		for _, bad := range harmful {
			if r >= bad.from && r <= bad.to {
				return -1
			}
		}
		return r
	}, strings.ToValidUTF8(s, ""))
}

// harmful are the characters that Harmless removes besides.
var harmful = []struct{ from, to rune }{
	{0x00, 0x1f}, {0x7f, 0x9f}, // C0, DEL, C1
	{0xad, 0xad},                       // soft hyphen
	{0x61c, 0x61c},                     // Arabic letter mark
	{0x115f, 0x1160},                   // Hangul fillers
	{0x180e, 0x180e},                   // Mongolian vowel separator
	{0x200b, 0x200f}, {0x202a, 0x202e}, // zero width, directions
	{0x2060, 0x206f}, {0xfeff, 0xfeff}, // word joiners, isolates, byte-order mark
	{0x3164, 0x3164}, {0xffa0, 0xffa0}, // Hangul fillers
	{0xe0000, 0xe007f}, // tags
}

// Nearest is the candidate that is most like word, where one is near enough that a person
// may have meant it; empty: none is.
func Nearest(word string, candidates []string) string {
	best, least := "", len(word)/3+1
	for _, c := range candidates {
		if d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(c)); d <= least {
			best, least = c, d-1
		}
	}
	return best
}

// Name reduces what a device calls itself to what can be typed as one word, in every shell and in
// every file: letters, digits, and the signs . _ - within. Empty: nothing is left.
func Name(s string) string {
	var b strings.Builder
	for _, r := range Clean(s) {
		switch {
		case inName(r):
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	return strings.TrimRight(strings.TrimLeft(b.String(), "-.~"), "-.")
}

// IsName reports whether a word is a name: Name leaves it as it is.
func IsName(s string) bool { return s != "" && Name(s) == s }

// inName reports whether a sign may be in a name. A ~ within one tells devices of one name apart:
// cam-11~2.
func inName(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r) ||
		strings.ContainsRune("._-~", r)
}
