package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/cli/topics"
	"catena/internal/words"
	"catena/internal/workspace"
)

// rootHelp is the whole of the first help.
func rootHelp(root *cobra.Command) string {
	var b strings.Builder
	b.WriteString(`Catena updates the firmware of a site's devices: it finds them, chooses the
image for each, updates many at once, verifies each after its restart, and rolls
back those that failed.

A night's work:
  catena new "Marrow Hill Locks" --range 10.20.4.0/24  make a site folder
  cd marrow-hill-locks
  catena login add --user keeper                       store a login
  catena scan                                          find and read devices
  catena shelf add ~/Downloads/firmware.zip            fill the shelf
  catena match                                         list what to update
  catena order new night-1 --all                       make an order
  catena rehearse night-1                              rehearse the order
  catena flash night-1                                 update and verify
  catena track                                         watch the job
  catena resume                                        continue after a crash
  catena report                                        write the report

All commands:
`)
	for _, g := range root.Groups() {
		var names []string
		for _, c := range inGroup(root, g) {
			names = append(names, c.Name())
		}
		fmt.Fprintf(&b, "  %-20s%s\n", g.Title, strings.Join(names, ", "))
	}
	b.WriteString(`
Often used flags:
  -C DIR              the site folder (default: the nearest one upwards)
  --format FORM       table, json or csv
  -q, -v              print less, or more; all flags: catena help flags

catena CMD --help   one command, with examples and what it touches
catena help TOPIC   ` + strings.Join(topicNames(), ", ") + `
catena demo --walk  a night at a simulated site, step by step
`)
	return b.String()
}

func topicNames() (out []string) {
	for _, t := range topics.All {
		out = append(out, t.Name)
	}
	return out
}

// fieldsHelp are the fields of a device, with what each is about.
func fieldsHelp() string {
	var b strings.Builder
	for i, name := range workspace.Columns {
		fmt.Fprintf(&b, "  %-12s %s\n", name, workspace.Abouts[i])
	}
	return b.String()
}

// commandsHelp are all commands by phase.
func commandsHelp(root *cobra.Command) string {
	var b strings.Builder
	for _, g := range root.Groups() {
		fmt.Fprintf(&b, "%s:\n", g.Title)
		for _, c := range inGroup(root, g) {
			fmt.Fprintf(&b, "  %-12s %s\n", c.Name(), c.Short)
		}
		b.WriteString("\n")
	}
	return b.String()
}

// inGroup returns the commands of a group, in the order in which they were added.
func inGroup(root *cobra.Command, g *cobra.Group) (out []*cobra.Command) {
	for _, c := range root.Commands() {
		if c.GroupID == g.ID {
			out = append(out, c)
		}
	}
	return out
}

// addTopics adds what is not a command to what catena help tells. Their texts are made when someone
// asks.
func addTopics(root *cobra.Command) {
	for _, t := range topics.All {
		root.AddCommand(&cobra.Command{Use: t.Name, Short: t.Short, Hidden: t.Name == "commands"})
	}
}

// topicText is what a topic tells.
func topicText(root *cobra.Command, name string) string {
	text := ""
	for _, t := range topics.All {
		if t.Name == name {
			text = t.Text
		}
	}
	switch name {
	case "commands":
		text = commandsHelp(root)
	case "flags":
		text = root.PersistentFlags().FlagUsagesWrapped(helpWide)
	case "trouble":
		text = troubleHelp()
	case "where":
		text += fieldsHelp()
	}
	return refill(strings.TrimRight(text, "\n"))
}

// helpCmd is catena help.
func helpCmd() *cobra.Command {
	return &cobra.Command{
		Use: "help [COMMAND | TOPIC]", Short: "Help about a command or a topic",
		RunE: func(c *cobra.Command, args []string) error {
			of, rest, err := c.Root().Find(args)
			if err != nil || of == nil || len(rest) > 0 || len(args) > 0 && of == c.Root() {
				return usage("there is no help for %q; see: catena help", strings.Join(args, " "))
			}
			return of.Help()
		},
		ValidArgsFunction: func(c *cobra.Command, args []string, _ string) (out []string,
			_ cobra.ShellCompDirective) {
			if of, _, err := c.Root().Find(args); err == nil {
				for _, s := range of.Commands() {
					out = append(out, s.Name()+"\t"+s.Short)
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
	}
}

// helpWide is how wide help is, in columns.
const helpWide = 80

// usageText is the part of a command's help after what it does.
const usageText = `Usage:
  {{.UseLine}}{{if .HasAvailableSubCommands}}

Commands:{{range .Commands}}{{if .IsAvailableCommand}}
  {{rpad .Name .NamePadding}} {{.Short}}{{end}}{{end}}{{end}}{{if .HasExample}}

Examples:
{{.Example}}{{end}}{{if .HasAvailableLocalFlags}}

Flags:
{{.LocalFlags.FlagUsagesWrapped 80 | trimTrailingWhitespaces}}{{end}}{{if .HasParent}}

Flags of every command: -C, --format, --shelf, -q, -v …; see: catena help flags{{end}}
`

// decorate gives all commands their help. Most of it is made when someone asks: a program starts
// without it.
func decorate(root *cobra.Command) {
	root.SetUsageTemplate(usageText)
	plain := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		switch {
		case c == root:
			fmt.Fprint(c.OutOrStdout(), rootHelp(root))
		case !c.Runnable() && !c.HasSubCommands():
			fmt.Fprintln(c.OutOrStdout(), topicText(root, c.Name()))
		default:
			explain(c)
			plain(c, args)
		}
	})
	addTopics(root)
}

// explain says of a command, once, what it touches, in lines that fit a terminal.
func explain(c *cobra.Command) {
	e, has := topics.Effects[strings.TrimPrefix(c.CommandPath(), "catena ")]
	if c.Annotations["explained"] != "" || c.Parent() == nil || c.Parent().Name() == "completion" {
		return
	}
	c.Annotations = map[string]string{"explained": "yes"}
	if has && c.Long == "" {
		c.Long = c.Short + "."
	}
	c.Long = refill(c.Long)
	if has {
		c.Long += "\n\n" + effectText(e)
	}
}

// explainAll is explain for all commands below one.
func explainAll(c *cobra.Command) {
	explain(c)
	for _, s := range c.Commands() {
		explainAll(s)
	}
}

func effectText(e topics.Effect) string {
	return words.Fill("Touches: "+e.Touches, "  ", helpWide) + "\n\n" +
		words.Fill("Never: "+e.Never, "  ", helpWide)
}

// refill breaks the paragraphs of a text again; lines that are set in stay as they are.
func refill(text string) string {
	var out []string
	for _, paragraph := range strings.Split(text, "\n\n") {
		lines := strings.Split(paragraph, "\n")
		from := 0
		flush := func(to int) {
			if from < to {
				out[len(out)-1] += words.Fill(strings.Join(lines[from:to], " "), "", helpWide) + "\n"
			}
		}
		out = append(out, "")
		for i, line := range lines {
			if strings.HasPrefix(line, " ") {
				flush(i)
				out[len(out)-1] += line + "\n"
				from = i + 1
			}
		}
		flush(len(lines))
	}
	return strings.TrimSuffix(strings.Join(out, "\n"), "\n")
}

// troubleHelp is the topic for a person at night.
func troubleHelp() string {
	var b strings.Builder
	b.WriteString("What Catena reports, what it means, and what to do: first, second, " +
		"third.\nReplace DEVICE and JOB; for the history see catena report and catena show " +
		"DEVICE.\n\nOf a device:\n\n")
	tell := func(says string, m advice.Meaning) {
		fmt.Fprintf(&b, "  %s\n", strings.ReplaceAll(words.Fill(says, "  ", helpWide-4), "\n", "\n  "))
		fmt.Fprintf(&b, "    %s\n", strings.ReplaceAll(words.Fill(m.Means, "", helpWide-6), "\n",
			"\n    "))
		for i, s := range m.Steps {
			fmt.Fprintf(&b, "    %d. %s\n", i+1, s)
		}
		b.WriteString("\n")
	}
	headed := false
	advice.Each(tell, func(says string, m advice.Meaning) {
		if !headed {
			b.WriteString("Of a job:\n\n")
			headed = true
		}
		tell(says, m)
	})
	return b.String()
}

// troubleTables are the same for docs/trouble.md.
func troubleTables() string {
	var of, in strings.Builder
	row := func(b *strings.Builder) func(string, advice.Meaning) {
		b.WriteString("| Catena reports | it means | what to do |\n|---|---|---|\n")
		return func(says string, m advice.Meaning) {
			fmt.Fprintf(b, "| %s | %s | %s |\n", says, m.Means,
				strings.Join(numbered(m.Steps), " "))
		}
	}
	advice.Each(row(&of), row(&in))
	return "### Of a device\n\n" + of.String() + "\n### Of a device in a job\n\n" + in.String()
}

func numbered(steps []string) (out []string) {
	for i, s := range steps {
		out = append(out, fmt.Sprintf("%d. %s.", i+1, s))
	}
	return out
}
