//go:build linux

package cli_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// On a read-only disk and on a full one, what was recorded is still shown, and what
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
	assert.Contains(t, out, "The ledger can be read, but not written")
	assert.Contains(t, out, "The ledger is intact: 3 entries")
	assert.Contains(t, out, "cannot be written")

	out, err = run(`mkdir full; mount -t tmpfs -o size=400k tmpfs full
cp -a disk/hill full/; mkdir -p full/shelf; export CATENA_SHELF=full/shelf
dd if=/dev/zero of=full/filler bs=1k 2>/dev/null || true
$P -C full/hill list; $P -C full/hill ledger check`)
	require.NoError(t, err, out)
	assert.Contains(t, out, "The ledger is intact: 3 entries")
}

// fullDisk plays a job whose ledger lies on a disk of its own that fills up while the first
// device is being sent its image.
const fullDisk = `
cp -a .catena kept
mount -t tmpfs -o size=3m tmpfs .catena
cp -a kept/. .catena
catena flash --all --yes --parallel 1 --no-pilot --patience proving=300ms --patience grace=1s > said 2>&1 &
until grep -q 'cam-11 *sending' said; do sleep 0.05; done
cat /dev/zero > .catena/rubbish 2>/dev/null || true
code=0; wait $! || code=$?
echo "exit $code" >> said
ls .catena > files
cat /dev/zero > .catena/more 2>/dev/null || true
truncate -s -300k .catena/more
catena retry j1 --yes --patience proving=300ms --patience grace=1s > refused 2>&1 || echo "exit $?" >> refused
rm .catena/rubbish .catena/more
catena track j1 --once > after 2>&1 || true
catena resume --patience proving=300ms --patience grace=1s > again 2>&1 || echo "exit $?" >> again
catena ledger check > checked 2>&1
`

// TestADiskThatFillsUp shows that a job has the space for its record reserved: it finishes the
// devices in progress, starts no more, and says so. The next one does not start before there is
// space again.
func TestADiskThatFillsUp(t *testing.T) {
	if out, err := exec.Command("unshare", "-m", "true").CombinedOutput(); err != nil {
		t.Skipf("no mount namespace can be made here: %s", out)
	}
	t.Parallel()
	dir, stop := patientSite(t, patient)
	cmd := command(dir, "flash")
	sh := exec.Command("unshare", "-m", "sh", "-ec", fullDisk)
	sh.Dir, sh.Env = cmd.Dir, cmd.Env
	out, err := sh.CombinedOutput()
	read := func(name string) string {
		raw, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return string(raw)
	}
	require.NoError(t, err, "%s", out)
	assert.Contains(t, read("said"), "The disk of the site folder became full: devices in progress "+
		"were finished, and no more were started.")
	assert.Contains(t, read("said"), "Job j1 at Locks: 1 done, 2 skipped")
	assert.Contains(t, read("said"), "exit 3")
	assert.NotContains(t, read("files"), "reserve-")
	assert.Contains(t, read("refused"), "the disk is full")
	assert.Contains(t, read("refused"), "exit 1")
	assert.Contains(t, read("after"), "cam-11  3.1.0 → 3.2.1  done")
	assert.Contains(t, read("refused"), "a job needs 1024 KiB")
	assert.Contains(t, read("refused"), "continue: catena resume j2")
	assert.Contains(t, read("again"), "1 done, 1 returned")
	assert.Contains(t, read("checked"), "The ledger is intact")
	assert.Contains(t, stop(), "Writes interrupted: 0.")
}

// fullPlace keeps settings while the second place has no room, and again when it has.
const fullPlace = `
mkdir second; mount -t tmpfs -o size=16k tmpfs second
cat /dev/zero > second/rubbish 2>/dev/null || true
echo "second_place: $PWD/second" >> site.yaml
echo quoin-and-sluice | catena login add --user keeper --password-stdin
catena settings save cam-11 > full 2>&1 || echo "exit $?" >> full
ls settings/d*/*.age
find second -type f > left
rm second/rubbish
catena settings save cam-11 > room 2>&1
find second -name '*.age' >> room
`

// TestASecondPlaceThatIsFull shows that the save itself is kept, that the failed copy is told, that
// nothing half is left there, and that it is made up when there is room.
func TestASecondPlaceThatIsFull(t *testing.T) {
	if out, err := exec.Command("unshare", "-m", "true").CombinedOutput(); err != nil {
		t.Skipf("no mount namespace can be made here: %s", out)
	}
	t.Parallel()
	dir, _ := patientSite(t, patient)
	sh := exec.Command("unshare", "-m", "sh", "-ec", fullPlace)
	sh.Dir, sh.Env = dir, command(dir).Env
	out, err := sh.CombinedOutput()
	require.NoError(t, err, "%s", out)
	read := func(name string) string {
		raw, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return string(raw)
	}
	assert.Regexp(t, `cam-11 +3\.1\.0 +\S+_3\.1\.0`, read("full"), "it is kept here")
	assert.Contains(t, read("full"), "no space left on device")
	assert.Equal(t, "second/rubbish\n", read("left"))
	assert.Equal(t, 2, strings.Count(read("room"), ".age\n"), "%s", read("room"))
}

// officeDisk runs an office on a separate disk that fills up, and gets room again.
const officeDisk = `
P=$(which catena)
$P office init office --name 'Canal Works' --address 127.0.0.1:$PORT >/dev/null
sed -i 's/0\.0\.0\.0/127.0.0.1/' office/office.yaml
mkdir office/data; mount -t tmpfs -o size=3m tmpfs office/data
$P office add marrow-hill -C office
$P office serve -C office > served 2>&1 &
S=$!
for i in $(seq 200); do grep -q listens served && break; sleep 0.1; done
$P new 'Marrow Hill' -C hill --range 127.44.251.1
$P sync marrow-hill.office -C hill
cat /dev/zero > office/data/rubbish 2>/dev/null || true
echo 'engineer: A. Fenwright' >> hill/site.yaml
$P sync marrow-hill.office -C hill > full 2>&1 || echo "exit $?" >> full
rm office/data/rubbish
$P sync marrow-hill.office -C hill > room 2>&1
kill -INT $S; wait $S
$P ledger check -C hill
`

// An office whose disk is full says so on both sides, and loses nothing.
func TestAnOfficeWhoseDiskIsFull(t *testing.T) {
	if out, err := exec.Command("unshare", "-m", "true").CombinedOutput(); err != nil {
		t.Skipf("no mount namespace can be made here: %s", out)
	}
	t.Parallel()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := free.Addr().(*net.TCPAddr).Port
	_ = free.Close()
	work := t.TempDir()
	sh := exec.Command("unshare", "-m", "sh", "-ec", officeDisk)
	sh.Dir = work
	sh.Env = append(os.Environ(), "XDG_DATA_HOME="+work, "CATENA_SHELF="+work+"/shelf",
		fmt.Sprintf("PORT=%d", port))
	out, err := sh.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "The ledger is intact")
	for name, says := range map[string]string{
		"full":   "the disk of the office is full; make room there",
		"room":   "Sent 2 entries",
		"served": "the disk is full: sites cannot sync until there is room",
	} {
		raw, err := os.ReadFile(filepath.Join(work, name))
		require.NoError(t, err)
		assert.Contains(t, string(raw), says, name)
	}
}
