package site

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// A site file is a person's: holds are added and dropped as lines, so that comments and
// everything else stay as they are. What comes out is parsed before it is returned.
var (
	holdKey = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^hold:\s*(#.*)?$`)
	})
	holdItem = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^(\s*)- \{(?:device|group): *(.+?)(, *because: .*)?\}\s*(#.*)?$`)
	})
)

// AddHold adds a hold to a site file; name is what errors call it. It refuses a file in
// which the list is written in another form than one line for each hold.
func AddHold(name string, data []byte, h Hold) ([]byte, error) {
	key, until := "device", ""
	if h.Group != "" {
		key = "group"
	}
	if h.Until != "" {
		until = ", until: " + h.Until
	}
	line := fmt.Sprintf("- {%s: %s, because: %s%s}", key, strconv.Quote(h.Of()),
		strconv.Quote(h.Because), until)
	lines := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	at := slices.IndexFunc(lines, holdKey().MatchString)
	switch {
	case at < 0 && slices.ContainsFunc(lines,
		func(l string) bool { return strings.HasPrefix(l, "hold:") }):
		return nil, fmt.Errorf("%s: its hold: is not a list with one line for each device; add the "+
			"line there yourself:\n  %s", name, line)
	case at < 0:
		lines = append(lines, "", "hold:", "  "+line)
	default:
		indent := "  "
		if m := holdItem().FindStringSubmatch(firstLine(lines[at+1:])); m != nil {
			indent = m[1]
		}
		lines = slices.Insert(lines, at+1, indent+line)
	}
	return checked(name, lines)
}

// DropHold drops the hold whose device or group is written as pattern.
func DropHold(name string, data []byte, pattern string) ([]byte, error) {
	lines := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	key := slices.IndexFunc(lines, holdKey().MatchString)
	at := -1
	for i := key + 1; key >= 0 && i < len(lines) && !topLevel(lines[i]); i++ {
		if m := holdItem().FindStringSubmatch(lines[i]); m != nil {
			text, err := strconv.Unquote(m[2])
			if err == nil && text == pattern || m[2] == pattern {
				at = i
				break
			}
		}
	}
	if at < 0 {
		return nil, fmt.Errorf("%s: the hold for %s is not on its own line; remove it there yourself",
			name, pattern)
	}
	lines = slices.Delete(lines, at, at+1)
	if !strings.HasPrefix(strings.TrimSpace(firstLine(lines[key+1:])), "-") { // it was the only one
		lines = slices.Delete(lines, key, key+1)
	}
	return checked(name, lines)
}

// topLevel reports whether a line starts another key of the file.
func topLevel(l string) bool { return l != "" && !strings.ContainsAny(l[:1], " \t#-\r") }

// firstLine is the first line that is no comment; empty: there is none.
func firstLine(lines []string) string {
	for _, l := range lines {
		if t := strings.TrimSpace(l); t != "" && !strings.HasPrefix(t, "#") {
			return l
		}
	}
	return ""
}

func checked(name string, lines []string) ([]byte, error) {
	out := []byte(strings.Join(lines, "\n") + "\n")
	_, err := Parse(name, out)
	return out, err
}
