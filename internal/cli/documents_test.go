package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// documented is one command of a document, with what stands there as its output.
type documented struct {
	file    string
	line    int
	command string
	shown   []string
	exit    string // the exit code that the document names; empty: 0, or 3 of a job
}

// sessionsOf are the commands of a document: lines that start with $ in its blocks. One that has <<
// continues to EOF.
func sessionsOf(t *testing.T, file string) (out []documented) {
	raw, err := os.ReadFile(filepath.Join("..", "..", file))
	require.NoError(t, err)
	open := false // a block whose text is an output
	for n, line := range strings.Split(string(raw), "\n") {
		body, indented := strings.CutPrefix(line, "    ")
		last := len(out) - 1
		switch {
		case open && last >= 0 && strings.Contains(out[last].command, "<<'EOF'") &&
			!strings.HasSuffix(out[last].command, "\nEOF"):
			out[last].command += "\n" + body
		case indented && strings.HasPrefix(body, "$ "):
			command, exit := body[2:], ""
			if m := regexp.MustCompile(`^(.*?) +# ends with (\d)$`).FindStringSubmatch(command); m != nil {
				command, exit = m[1], m[2]
			}
			out, open = append(out, documented{file: file, line: n + 1, command: command,
				exit: exit}), true
		case indented && open && !strings.HasPrefix(body, "catena "): // one that is not run
			out[last].shown = append(out[last].shown, body)
		default:
			open = false
		}
	}
	return out
}

// asScript are the commands as a person would type them one after the other: each says its number
// and how it ended. What asks a person is answered; what may not be the same at each run is left to
// the program.
func asScript(all []documented, net string) string {
	var b strings.Builder
	// What keeps the passphrase would outlive the test.
	b.WriteString(`trap "command catena -C '$PWD/marrow-hill-locks' login lock" EXIT
catena() {
  case "$1 $2" in
  "login add") case "$*" in *OR-4*) printf 'quoin-and-sluice\ntowpath-8\n' | command catena "$@" --password-stdin; return ;; esac
    printf 'quoin-and-sluice\nweir-4711\n' | command catena "$@" --password-stdin ;;
  flash*) command catena "$@" --patience proving=3s --patience grace=2s --yes --accept all ;;
  rollback* | retry* | finish*) command catena "$@" --yes --accept all ;;
  "settings restore" | "shelf tidy" | "login accept") command catena "$@" --yes ;;
  *) command catena "$@" ;;
  esac
}
`)
	// What stands in README is for a site of one's own: that is the simulated one, in a folder of
	// its own.
	here := strings.NewReplacer("127.44.1.", net+".", "--range 10.20.4.0/24",
		"--adapter lo --range "+net+".1-"+net+".253 --port 8080,8443",
		"~/Downloads/firmware.zip", "../../firmware")
	for i, d := range all {
		if d.file == "README.md" && all[max(0, i-1)].file != d.file {
			b.WriteString("mkdir ../own && cd ../own\n")
		}
		fmt.Fprintf(&b, "echo '@@ %d'\n%s\necho \"@@ $?\"\n", i, here.Replace(d.command))
	}
	return b.String()
}

// plainly is a text in which numbers, and how far its columns are apart, do not count.
func plainly(text, net string) string {
	text = strings.ReplaceAll(text, net+".", "127.44.1.")
	return strings.Join(strings.Fields(regexp.MustCompile(`\d+`).ReplaceAllString(text, "0")), " ")
}

// The commands of README and of the documents work, in their order, at the simulated site, and
// print what the documents show: each page starts where the one before it has ended.
func TestDocumentsWork(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("the documents are for addresses that only Linux gives to loopback")
	}
	t.Parallel()
	work := t.TempDir()
	s := startSim(func(err error) { require.NoError(t, err) }, work,
		filepath.Join(work, "families"), []string{"--images", "firmware", "--families", "families"})
	t.Cleanup(s.stop)
	var all []documented
	manual, err := os.ReadFile("../../docs/families.md")
	require.NoError(t, err)
	tutorial := ""
	for _, part := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllSubmatch(manual, 4) {
		tutorial += string(part[1])
	}
	require.NoError(t, os.WriteFile(filepath.Join(work, "tutorial.yaml"), []byte(tutorial), 0o600))
	page, err := os.ReadFile("../../docs/family-tutorial.md")
	require.NoError(t, err)
	panel := ""
	for n, part := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllSubmatch(page, -1) {
		panel += string(part[1])
		if n == 2 { // it can be read from here on
			require.NoError(t, os.WriteFile(filepath.Join(work, "panel-read.yaml"), []byte(panel), 0o600))
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(work, "panel.yaml"), []byte(panel), 0o600))
	shipped, err := os.ReadFile("../sim/families/tollgarth-panels.yaml")
	require.NoError(t, err)
	assert.Equal(t, string(shipped), panel, "the page builds the family that the simulated site has")
	for _, file := range []string{"docs/first-site.md", "docs/orders.md", "docs/sync.md",
		"docs/images.md",
		"docs/behind.md", "docs/reading.md",
		"docs/scripting.md", "docs/finding.md", "docs/families.md", "docs/family-tutorial.md", "README.md"} {
		all = append(all, sessionsOf(t, file)...)
	}
	require.Greater(t, len(all), 60)
	cmd := bounded("bash", "-c", asScript(all, s.net))
	cmd.Dir = work
	cmd.Env = append(os.Environ(), "CATENA_SHELF="+filepath.Join(work, "shelf"),
		"CATENA_PASSPHRASE=a swan a day", "CATENA_LOGIN=", "CATENA_KEY_PASSWORD=an otter at noon",
		"HOME="+work, "XDG_RUNTIME_DIR="+t.TempDir())
	raw, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", raw)
	parts := strings.Split("\n"+string(raw), "\n@@ ")[1:]
	require.Len(t, parts, 2*len(all), "%s", raw)
	for i, d := range all {
		said := parts[2*i]
		code, _, _ := strings.Cut(parts[2*i+1], "\n")
		at := fmt.Sprintf("%s:%d: %s\n%s", d.file, d.line, d.command, said)
		if d.exit != "" {
			assert.Equal(t, d.exit, code, at)
		} else {
			assert.Contains(t, []string{"0", "3"}, code, at)
		}
		for _, line := range d.shown {
			for part := range strings.SplitSeq(line, "…") {
				assert.Contains(t, plainly(said, s.net), plainly(part, s.net), at)
			}
		}
	}
}
