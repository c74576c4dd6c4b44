// Package words writes numbers as an operator reads them: sizes, durations, and counts with their
// nouns.
package words

import (
	"fmt"
	"strings"
	"time"
)

// Bytes writes a size for a person: 1.2 MiB.
func Bytes(n float64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	i := 0
	for n >= 1023.5 && i < len(units)-1 {
		n, i = n/1024, i+1
	}
	if i == 0 || n >= 100 {
		return fmt.Sprintf("%.0f %s", n, units[i])
	}
	return fmt.Sprintf("%.1f %s", n, units[i])
}

// Clock writes a duration as minutes and seconds: 3:07, or 1:02:33 with hours.
func Clock(d time.Duration) string {
	s := max(0, int(d.Round(time.Second).Seconds())) // a clock may have been put back
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}

// Plural writes a number and its noun: 1 device, 3 devices.
func Plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if stem, ok := strings.CutSuffix(noun, "y"); ok {
		return fmt.Sprintf("%d %sies", n, stem)
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Few lists up to four names, and counts the rest.
func Few(names []string) string { return FewOf(names, 4) }

// FewOf lists at most n names, and counts the rest.
func FewOf(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// Fill breaks a text into lines, of which those after the first start with indent.
func Fill(text, indent string, width int) string {
	var b strings.Builder
	at := 0
	for _, word := range strings.Fields(text) {
		switch n := len([]rune(word)); {
		case at == 0:
			at = n
		case at+1+n > width:
			b.WriteString("\n" + indent)
			at = len(indent) + n
		default:
			b.WriteString(" ")
			at += 1 + n
		}
		b.WriteString(word)
	}
	return b.String()
}

// An puts the article before a word.
func An(word string) string {
	if word != "" && strings.ContainsRune("AEIOUaeiou", rune(word[0])) {
		return "an " + word
	}
	return "a " + word
}
