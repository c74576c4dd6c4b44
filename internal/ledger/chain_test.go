package ledger_test

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/ledger"
)

// writer is a laptop with a key of its own.
func writer(t *testing.T, name string) ledger.Writer {
	file := filepath.Join(t.TempDir(), "writer.key")
	require.NoError(t, ledger.Rename(file, name))
	w, err := ledger.ReadWriter(file)
	require.NoError(t, err)
	require.Equal(t, name, w.Name)
	again, err := ledger.ReadWriter(file)
	require.NoError(t, err)
	require.Equal(t, w.ID(), again.ID(), "it keeps its key")
	return w
}

// laptop is a ledger, with a clock that runs wrong by a time.
func laptop(t *testing.T, dir string, by ledger.Writer, wrong time.Duration) *ledger.Ledger {
	l, err := ledger.Create(dir, func() time.Time { return time.Now().Add(wrong) }, by)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// give passes the chain of from's writer to another ledger.
func give(t *testing.T, from, to *ledger.Ledger) (int, error) {
	require.NoError(t, from.Seal())
	var b bytes.Buffer
	_, err := from.WriteChain(&b, from.Writer().ID(), 0, 1<<40)
	require.NoError(t, err)
	return to.Take(from.Writer().ID(), &b)
}

func bodies(t *testing.T, l *ledger.Ledger, f ledger.Filter) (out []string) {
	entries, err := l.Entries(f)
	require.NoError(t, err)
	for _, e := range entries {
		out = append(out, string(e.Body))
	}
	return out
}

// Two ledgers that have exchanged their chains read the same entries in the same order, whatever
// their clocks say, and what was written with knowledge of another entry comes after it.
func TestTwoWritersReadTheSame(t *testing.T) {
	anna := laptop(t, t.TempDir(), writer(t, "anna"), 0)
	bea := laptop(t, t.TempDir(), writer(t, "bea"), -2*time.Hour)
	require.NoError(t, anna.Append(step, "j1", "d1", "anna 1"))
	require.NoError(t, bea.Append(step, "j1", "d1", "bea 1"))
	taken, err := give(t, anna, bea)
	require.NoError(t, err)
	assert.Equal(t, 3, taken, "who she is, the entry, the signature")
	require.NoError(t, bea.Append(step, "j1", "d1", "bea knows anna 1"))
	_, err = give(t, bea, anna)
	require.NoError(t, err)
	require.NoError(t, anna.Append(step, "j2", "d1", "anna knows bea"))
	taken, err = give(t, anna, bea)
	require.NoError(t, err)
	assert.Equal(t, 2, taken, "what is there is not taken again")

	want := []string{`"bea 1"`, `"anna 1"`, `"bea knows anna 1"`, `"anna knows bea"`}
	for _, l := range []*ledger.Ledger{anna, bea} {
		assert.Equal(t, want, bodies(t, l, ledger.Filter{Kind: step}))
		assert.Equal(t, want[3:], bodies(t, l, ledger.Filter{Kind: step, Device: "d1", Newest: true}))
		assert.Equal(t, want[3:], bodies(t, l, ledger.Filter{Kind: step, Newest: true}))
		assert.Equal(t, want[2:], bodies(t, l, ledger.Filter{Kind: step, Last: 2}))
		_, _, err := l.Check()
		require.NoError(t, err)
	}
	assert.Equal(
		t,
		[]string{`"bea 1"`, `"bea knows anna 1"`},
		bodies(t, bea, ledger.Filter{Job: "j1"}),
	)
	assert.Equal(t, []string{`"anna 1"`}, bodies(t, bea, ledger.Filter{Job: "anna/j1"}))
	assert.Equal(t, []string{`"anna 1"`}, bodies(t, anna, ledger.Filter{Job: "j1"}))
	assert.Equal(t, []string{`"anna 1"`, `"anna knows bea"`},
		bodies(t, anna, ledger.Filter{Kind: step, Mine: true}))
	entries, err := anna.Entries(ledger.Filter{Job: "bea/j1"})
	require.NoError(t, err)
	require.Len(t, entries, 2)
	assert.Equal(t, "bea/j1", entries[0].Job)
	assert.Equal(t, "entry 3 of bea", entries[1].String()[:14])
}

// Two writers of one name are told apart.
func TestTwoWritersOfOneName(t *testing.T) {
	l := laptop(t, t.TempDir(), writer(t, "anna"), 0)
	for range 2 {
		_, err := give(t, laptop(t, t.TempDir(), writer(t, "anna"), 0), l)
		require.NoError(t, err, "a ledger without entries has nothing to give")
		other := laptop(t, t.TempDir(), writer(t, "anna"), 0)
		require.NoError(t, other.Append(started, "j1", "", 1))
		_, err = give(t, other, l)
		require.NoError(t, err)
		entries, err := l.Entries(ledger.Filter{Kind: started, Last: 1})
		require.NoError(t, err)
		assert.Regexp(t, "^anna-[a-z2-7]{4}/j1$", entries[0].Job)
		assert.Len(t, bodies(t, l, ledger.Filter{Job: entries[0].Job}), 1)
	}
}

// A folder that was copied and continued twice by one writer shows, whichever way it is met.
func TestAForkShows(t *testing.T) {
	by := writer(t, "anna")
	dir := t.TempDir()
	l := laptop(t, dir, by, 0)
	require.NoError(t, l.Append(step, "j1", "d1", 1))
	require.NoError(t, l.Close())
	second := filepath.Join(t.TempDir(), "copy")
	require.NoError(t, os.CopyFS(second, os.DirFS(dir)))
	one, two := laptop(t, dir, by, 0), laptop(t, second, by, 0)
	require.NoError(t, one.Append(step, "j1", "d1", "one"))
	require.NoError(t, two.Append(step, "j1", "d1", "two"))
	bea := laptop(t, t.TempDir(), writer(t, "bea"), 0)
	_, err := give(t, one, bea)
	require.NoError(t, err)
	_, err = give(t, two, bea)
	var fork *ledger.ForkError
	require.ErrorAs(t, err, &fork)
	assert.Equal(t, ledger.ForkError{Writer: "anna", N: 3}, *fork)
	assert.Equal(
		t,
		[]string{`1`, `"one"`},
		bodies(t, bea, ledger.Filter{Kind: step}),
		"nothing of it was taken",
	)
}

// A chain that was altered, cut, or made up is not taken, and nothing of it stays.
func TestAHostileChain(t *testing.T) {
	anna := laptop(t, t.TempDir(), writer(t, "anna"), 0)
	for i := range 4 {
		require.NoError(t, anna.Append(step, "j1", "d1", map[string]int{"n": i}))
	}
	require.NoError(t, anna.Seal())
	var b strings.Builder
	_, err := anna.WriteChain(&b, anna.Writer().ID(), 0, 1<<40)
	require.NoError(t, err)
	lines := strings.SplitAfter(b.String(), "\n")
	lines = lines[:len(lines)-1]
	require.Len(t, lines, 6)
	other := laptop(t, t.TempDir(), writer(t, "rogue"), 0)
	require.NoError(t, other.Append(step, "j1", "d1", 1))
	require.NoError(t, other.Seal())
	var rogue strings.Builder
	_, err = other.WriteChain(&rogue, other.Writer().ID(), 0, 1<<40)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		chain string
		says  string
	}{
		"a body was changed":    {strings.Replace(b.String(), `{"n":2}`, `{"n":7}`, 1), "entry 4 (step of"},
		"an entry is missing":   {lines[0] + lines[1] + strings.Join(lines[3:], ""), "entry 3 is missing"},
		"the end is not signed": {strings.Join(lines[:5], ""), "has not signed its last entries"},
		"the start is missing":  {strings.Join(lines[1:], ""), "entry 1 is missing"},
		"another one's chain":   {rogue.String(), "entries of another writer"},
		"another one's chain under this name": {strings.ReplaceAll(rogue.String(), other.Writer().ID(),
			anna.Writer().ID()), "was changed"},
		"white space that would not be passed on": {strings.Replace(b.String(), `{"n":2}`, `{"n": 2}`, 1),
			"was changed"},
		"no JSON":          {"catena\n", "is not an entry"},
		"a line too long":  {strings.Repeat(" ", 33<<20), "more than"},
		"nothing":          {"", ""},
		"cut in an entry":  {b.String()[:len(b.String())-40], "is not an entry"},
		"a signature lost": {strings.Join(lines[:5], "") + strings.Replace(lines[5], "SSH SIGNATURE", "XXX SIGNATURE", 1), "was changed"},
	} {
		t.Run(name, func(t *testing.T) {
			l := laptop(t, t.TempDir(), writer(t, "bea"), 0)
			require.NoError(t, l.Append(started, "", "", 1))
			taken, err := l.Take(anna.Writer().ID(), strings.NewReader(c.chain))
			if c.says != "" {
				require.ErrorContains(t, err, c.says)
			}
			assert.Zero(t, taken)
			assert.Empty(t, bodies(t, l, ledger.Filter{Kind: step}))
			count, _, err := l.Check()
			require.NoError(t, err)
			assert.Equal(t, 2, count)
		})
	}
	t.Run("one's own", func(t *testing.T) {
		taken, err := anna.Take(anna.Writer().ID(), strings.NewReader(b.String()))
		require.NoError(t, err)
		assert.Zero(t, taken, "all of it is there")
	})
}

// What was changed in the chain of another writer shows, and so does an end that was cut off with
// the head.
func TestCheckFollowsAllChains(t *testing.T) {
	for name, c := range map[string]struct{ how, says string }{
		"changed": {`UPDATE entries SET device = 'd2' WHERE kind = 'step' AND n = 3`,
			"in the chain of anna: entry 3 (step of"},
		"cut": {`DELETE FROM entries WHERE kind = 'sealed'`, "in the chain of anna: its last entries are not signed"},
	} {
		t.Run(name, func(t *testing.T) {
			anna := laptop(t, t.TempDir(), writer(t, "anna"), 0)
			require.NoError(t, anna.Append(step, "j1", "d1", 1))
			require.NoError(t, anna.Append(step, "j1", "d1", 2))
			dir := t.TempDir()
			bea := laptop(t, dir, writer(t, "bea"), 0)
			_, err := give(t, anna, bea)
			require.NoError(t, err)
			_, _, err = bea.Check()
			require.NoError(t, err)
			db, err := sql.Open("sqlite", filepath.Join(dir, ledger.Folder, "ledger.db"))
			require.NoError(t, err)
			_, err = db.Exec(`DROP TRIGGER entries_stay; DROP TRIGGER entries_remain; ` + c.how)
			require.NoError(t, errors.Join(err, db.Close()))
			require.NoError(t, os.Remove(filepath.Join(dir, ledger.Head)))
			_, _, err = bea.Check()
			if name == "cut" {
				require.ErrorContains(t, err, ".catena-head")
				seq, err := bea.Last()
				require.NoError(t, err)
				digest, err := bea.DigestAt(anna.Writer().ID(), 3)
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(filepath.Join(dir, ledger.Head),
					fmt.Appendf(nil, "%016d %s\n", seq, digest), 0o600))
				_, _, err = bea.Check()
				require.ErrorContains(t, err, c.says)
				return
			}
			require.ErrorContains(t, err, c.says)
		})
	}
}

// The signatures in a chain are those of the SSH tools: anyone can verify them without Catena.
func TestASealIsAnSSHSignature(t *testing.T) {
	keygen, err := exec.LookPath("ssh-keygen")
	if err != nil {
		t.Skip("needs ssh-keygen")
	}
	by := writer(t, "anna")
	l := laptop(t, t.TempDir(), by, 0)
	require.NoError(t, l.Append(step, "j1", "d1", 1))
	digest, err := l.DigestAt(by.ID(), 2)
	require.NoError(t, err)
	require.NoError(t, l.Seal())
	require.NoError(t, l.Seal(), "what is signed is not signed again")
	chains, err := l.Chains()
	require.NoError(t, err)
	require.Len(t, chains, 1)
	assert.Equal(
		t,
		ledger.Chain{Writer: by.ID(), Name: "anna", Mine: true, N: 3, Signed: 3, Last: chains[0].Last,
			Fingerprint: by.Fingerprint(), At: chains[0].At},
		chains[0],
	)
	entries, err := l.Entries(ledger.Filter{})
	require.NoError(t, err)
	dir := t.TempDir()
	var body struct{ Key, Signature string }
	require.NoError(t, json.Unmarshal(entries[0].Body, &body))
	require.NoError(t, os.WriteFile(dir+"/allowed", []byte("anna "+body.Key+"\n"), 0o600))
	require.NoError(t, json.Unmarshal(entries[2].Body, &body))
	require.NoError(t, os.WriteFile(dir+"/sig", []byte(body.Signature), 0o600))
	c := exec.Command(
		keygen,
		"-Y",
		"verify",
		"-f",
		dir+"/allowed",
		"-I",
		"anna",
		"-n",
		"catena-ledger",
		"-s",
		dir+"/sig",
	)
	c.Stdin = strings.NewReader(fmt.Sprintf("catena ledger %s 2 %s\n", by.ID(), digest))
	out, err := c.CombinedOutput()
	assert.NoError(t, err, "%s", out)
}
