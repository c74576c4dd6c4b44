//go:build linux

package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// On a read-only disk and on a full one, what was recorded is shown all the same, and what
// is wrong is said in words. The disks are mounted in a namespace of this test's own.
func TestReadOnlyAndFullDisk(t *testing.T) {
	if out, err := exec.Command("unshare", "-m", "true").CombinedOutput(); err != nil {
		t.Skipf("no mount namespace can be made here: %s", out)
	}
	program, err := exec.LookPath("catena") // this test's own, as for the scripts
	if err != nil {
		t.Skip("the program is not on the path")
	}
	work := t.TempDir()
	run := func(script string) (string, error) {
		c := exec.Command("unshare", "-m", "sh", "-ec", script)
		c.Dir = work
		c.Env = append(os.Environ(), "P="+program, "HOME="+work,
			"CATENA_SHELF="+filepath.Join(work, "disk", "shelf"), "CATENA_LOGIN=a:b")
		out, err := c.CombinedOutput()
		return string(out), err
	}
	require.NoError(t, os.Mkdir(filepath.Join(work, "disk"), 0o755))
	out, err := run(`$P new 'Marrow Hill Locks' -C disk/hill --range 127.44.250.1
$P -C disk/hill scan --via sweep --patience 100ms
mount --bind disk disk; mount -o remount,ro,bind disk
$P -C disk/hill list; $P -C disk/hill ledger check; $P -C disk/hill match
$P -C disk/hill scan --via sweep --patience 100ms`)
	assert.Error(t, err, "a scan that cannot be kept is a failure")
	assert.Contains(t, out, "The ledger can be read and not written to")
	assert.Contains(t, out, "The ledger is whole: 2 entries")
	assert.Contains(t, out, "cannot be written")

	out, err = run(`mkdir full; mount -t tmpfs -o size=400k tmpfs full
cp -a disk/hill full/; mkdir -p full/shelf; export CATENA_SHELF=full/shelf
dd if=/dev/zero of=full/filler bs=1k 2>/dev/null || true
$P -C full/hill list; $P -C full/hill ledger check`)
	require.NoError(t, err, out)
	assert.Contains(t, out, "The ledger is whole: 2 entries")
}
