// Package text makes foreign text harmless: what a device, a file or a neighbour says
// is cleaned where it comes in, before anything keeps or prints it. It is pure.
package text

import "strings"

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
		switch {
		case r == '\t' || r == '\n':
			return r
		case r == '\r':
			return ' '
		case r < 0x20, r >= 0x7f && r < 0xa0, // C0, DEL, C1
			r >= 0x200b && r <= 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2060 &&
				r <= 0x206f, r == 0xfeff:
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, ""))
}
