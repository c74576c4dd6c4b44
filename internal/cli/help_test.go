package cli

import (
	"catena/internal/cli/topics"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// allCommands are the commands with what they suggest.
func allCommands() *cobra.Command {
	a := &app{in: strings.NewReader(""), out: os.Stdout, err: os.Stderr, getenv: os.Getenv,
		now: time.Now}
	root := a.root()
	root.InitDefaultCompletionCmd()
	a.completions(root)
	return root
}

// Every command has its place among the phases, says what it touches and what it never does, and
// has examples that are right: their commands and flags exist. Help is not wider than a terminal,
// but for its examples.
func TestHelp(t *testing.T) {
	root := allCommands()
	assert.LessOrEqual(t, strings.Count(rootHelp(root), "\n"), 40, "the first help fits a screen")
	for _, line := range strings.Split(rootHelp(root), "\n") {
		assert.LessOrEqual(t, len([]rune(line)), helpWide, line)
	}
	used := map[string]bool{}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		path := strings.TrimPrefix(c.CommandPath(), "catena ")
		word, _, _ := strings.Cut(path, " ")
		if c.Runnable() && c != root && !c.Hidden {
			assert.Regexp(t, `(?m)^  \w.* \b`+regexp.QuoteMeta(word)+`\b`, rootHelp(root),
				"%s is in the first help", path)
		}
		_, does := topics.Effects[path] // some have commands below them besides
		if c.Runnable() && (does || !c.HasSubCommands()) && word != "completion" && word != "help" &&
			!c.Hidden {
			used[path] = true
			assert.Contains(t, topics.Effects, path)
			examples := exampleLine.FindAllString(c.Example, -1)
			assert.GreaterOrEqual(t, len(examples), 2, "examples of %s", path)
			for _, e := range examples {
				assert.NoError(t, understands(e), e)
			}
		}
		if c != root && word != "completion" {
			var text strings.Builder
			c.SetOut(&text)
			require.NoError(t, c.Help())
			before, _, _ := strings.Cut(text.String(), "Usage:")
			_, flags, _ := strings.Cut(text.String(), "\nFlags:")
			for _, line := range strings.Split(before+flags, "\n") {
				assert.LessOrEqual(t, len([]rune(line)), helpWide, "%s: %s", path, line)
			}
		}
		for _, s := range c.Commands() {
			walk(s)
		}
	}
	walk(root)
	for path := range wordSuggestions {
		c, _, err := root.Find(strings.Fields(path))
		require.NoError(t, err)
		assert.Equal(t, "catena "+path, c.CommandPath(), "it suggests words")
	}
	for path := range topics.Effects {
		assert.True(t, used[path] || path == "completion", "%s is a command", path)
	}
}

// Every command in README and in the documents is one that there is, with flags that it has.
func TestDocumentsAreUnderstood(t *testing.T) {
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	seen := 0
	for _, page := range append(pages, "../../README.md", "../../CONTRIBUTING.md",
		"../../SECURITY.md") {
		raw, err := os.ReadFile(page)
		require.NoError(t, err)
		if page != "../../README.md" {
			_, rest, _ := strings.Cut(string(raw), "\n\n")
			first := strings.Join(strings.Split(rest, "\n")[:5], " ")
			assert.Regexp(t, `\?.*[.:]`, first, "%s answers a question in its first five lines",
				page)
		}
		for _, m := range regexp.MustCompile(`\]\(([^)#:]+)(?:#[^)]*)?\)`).FindAllStringSubmatch(
			string(raw), -1) {
			assert.FileExists(t, filepath.Join(filepath.Dir(page), m[1]), page)
		}
		for n, line := range strings.Split(string(raw), "\n") {
			command, is := strings.CutPrefix(strings.TrimPrefix(strings.TrimPrefix(line, "    "),
				"$ "), "catena ")
			inline := regexp.MustCompile("`catena ([a-z][^`…]*)`").FindAllStringSubmatch(line, -1)
			if is && strings.HasPrefix(line, "    ") && !strings.Contains(command, " … ") {
				inline = append(inline, []string{"", command})
			}
			for _, m := range inline {
				seen++
				assert.NoError(t, understands("catena "+m[1]), "%s:%d: %s", page, n+1, m[1])
			}
		}
	}
	assert.Greater(t, seen, 150)
}

// exampleLine is one command of an example, with what a backslash has on the next line.
var exampleLine = regexp.MustCompile(`(?m)^ *catena(?:.*\\\n)*.*`)

// understands tells whether a line is a command that there is, with flags that it has.
func understands(line string) error {
	words, err := shellWords(strings.ReplaceAll(line, "\\\n", " "))
	if err != nil {
		return err
	}
	root := allCommands()
	c, rest, err := root.Find(words[1:])
	if err != nil {
		return err
	}
	if c == root && len(rest) > 0 && !strings.HasPrefix(rest[0], "-") {
		return fmt.Errorf("no command %q", rest[0])
	}
	return c.ParseFlags(rest)
}

// shellWords are the words of a line as a shell has them, up to a comment, a pipe or a redirection.
func shellWords(line string) (out []string, err error) {
	for _, m := range shellWord.FindAllString(line, -1) {
		switch {
		case strings.HasPrefix(m, "#"), m == ">", m == "|", m == ">>", m == "<", m == "&",
			m == "&&":
			return out, nil
		}
		out = append(out, strings.NewReplacer(`'`, "", `"`, "").Replace(m))
	}
	return out, nil
}

var shellWord = regexp.MustCompile(`(?:[^\s'"]|'[^']*'|"(?:\\.|[^"\\])*")+`)
