package cli

import (
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"catena/internal/text"
)

func (a *app) docsCmd() *cobra.Command {
	c := &cobra.Command{Use: "docs", Short: "Write the manual: pages for man, or Markdown",
		Args: onlyCommands, RunE: help}
	for _, form := range []struct {
		use, short, example string
		write               func(root *cobra.Command, dir string) error
	}{
		{"man DIR", "Write a manual page of each command into a folder",
			"  catena docs man man1\n  catena docs man ~/.local/share/man/man1", writeMan},
		{"md DIR", "Write a page of Markdown of each command into a folder",
			"  catena docs md reference\n  catena docs md docs/reference", writeMarkdown},
	} {
		c.AddCommand(&cobra.Command{Use: form.use, Short: form.short, Example: form.example,
			Args: exactly(1, "a folder"),
			RunE: func(c *cobra.Command, args []string) error {
				if err := os.MkdirAll(args[0], 0o755); err != nil {
					return usage("%w", err)
				}
				explainAll(c.Root())
				if err := form.write(c.Root(), args[0]); err != nil {
					return err
				}
				names, err := filepath.Glob(filepath.Join(args[0], "catena*"))
				a.say("Wrote %d pages into %s.", len(names), args[0])
				return err
			}})
	}
	return c
}

// writeMan writes pages that do not change with the day they are made.
func writeMan(root *cobra.Command, dir string) error {
	root.DisableAutoGenTag = true
	date := built().Date
	if date.IsZero() { // it was built of sources without a revision
		date = time.Now()
	}
	return doc.GenManTree(root, &doc.GenManHeader{Title: "CATENA", Section: "1", Source: "Catena",
		Manual: "Catena's manual",
		Date:   &date}, dir)
}

// writeMarkdown writes a page for each command.
func writeMarkdown(root *cobra.Command, dir string) error {
	root.DisableAutoGenTag = true
	fence(root)
	return doc.GenMarkdownTree(root, dir)
}

// setIn are lines that are set in by two spaces: tables and examples.
var setIn = text.Later(`(?m)(^  .*\n?)+`)

// wrapped are the further lines of what a command touches, or never touches.
var wrapped = text.Later(`(?m)^(Touches|Never): .*(\n  .*)+`)

// fence makes blocks of what is set in, in the help of every command: Markdown would make one
// paragraph of it.
func fence(c *cobra.Command) {
	c.Long = wrapped().ReplaceAllStringFunc(c.Long, func(lines string) string {
		return strings.ReplaceAll(lines, "\n  ", " ")
	})
	c.Long = setIn().ReplaceAllStringFunc(c.Long, func(block string) string {
		return "\n```\n" + strings.TrimRight(block, "\n") + "\n```\n"
	})
	for _, sub := range c.Commands() {
		fence(sub)
	}
}
