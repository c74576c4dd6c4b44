package signature_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/signature"
)

// awaitAtMost is how long something that must come is waited for.
const awaitAtMost = time.Minute

// What Catena signs, ssh-keygen accepts, and the other way round.
func TestWithSSHKeygen(t *testing.T) {
	keygen, err := exec.LookPath("ssh-keygen")
	if err != nil {
		t.Skip("there is no ssh-keygen here (Debian's package openssh-client)")
	}
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	run := func(stdin string, args ...string) (string, error) {
		c := exec.Command(keygen, args...)
		c.Stdin = strings.NewReader(stdin)
		out, err := c.CombinedOutput()
		return string(out), err
	}
	private, public, err := signature.NewKey("a swan a day")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at("ours"), private, 0o600))
	_, err = signature.Signer(private, func() (string, error) { return "a duck", nil }, "")
	assert.ErrorIs(t, err, signature.ErrPassphrase)
	signer, err := signature.Signer(private, func() (string, error) { return "a swan a day", nil },
		"")
	require.NoError(t, err)
	const message = "feed: Wexcombe\n"
	signed, err := signature.Sign(strings.NewReader(message), signer, signature.Feed)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at("message.sig"), signed, 0o600))
	require.NoError(t, os.WriteFile(at("allowed"), []byte("maker "+signature.Line(public)+"\n"),
		0o600))
	out, err := run(message, "-Y", "verify", "-f", at("allowed"), "-I", "maker", "-n",
		signature.Feed, "-s", at("message.sig"))
	require.NoError(t, err, out)

	for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
		out, err := run("", "-q", "-t", kind, "-N", "", "-f", at(kind))
		require.NoError(t, err, out)
		require.NoError(t, os.WriteFile(at("message"), []byte(message), 0o600))
		_ = os.Remove(at("message.sig"))
		out, err = run("", "-Y", "sign", "-q", "-f", at(kind), "-n", signature.Feed, at("message"))
		require.NoError(t, err, out)
		line, err := os.ReadFile(at(kind + ".pub"))
		require.NoError(t, err)
		key, err := signature.Public(string(line))
		require.NoError(t, err)
		assert.NoError(t, signature.VerifyFile(at("message"), key, signature.Feed), kind)
		assert.ErrorIs(t, signature.VerifyFile(at("message"), key, "another"),
			signature.ErrSignature)
		assert.ErrorIs(t, signature.VerifyFile(at("message"), public, signature.Feed),
			signature.ErrSignature)
		raw, err := os.ReadFile(at("message.sig"))
		require.NoError(t, err)
		assert.ErrorIs(t, signature.Verify(strings.NewReader(message+"x"), raw, key,
			signature.Feed), signature.ErrSignature)
		assert.ErrorIs(t, signature.Verify(strings.NewReader(message), []byte("rubbish"), key,
			signature.Feed), signature.ErrSignature)
	}
}

// A key that only an agent holds.
func TestWithAnAgent(t *testing.T) {
	program, err := exec.LookPath("ssh-agent")
	if err != nil {
		t.Skip("there is no ssh-agent here (Debian's package openssh-client)")
	}
	dir := t.TempDir()
	socket := filepath.Join(dir, "s")
	c := exec.Command(program, "-D", "-a", socket)
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	private, public, err := signature.NewKey("")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key"), private, 0o600))
	require.Eventually(t, func() bool {
		add := exec.Command("ssh-add", "-q", filepath.Join(dir, "key"))
		add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
		return add.Run() == nil
	}, awaitAtMost, awaitAtMost/1000)
	signer, err := signature.Signer([]byte(signature.Line(public)), nil, socket)
	require.NoError(t, err)
	signed, err := signature.Sign(strings.NewReader("order"), signer, signature.Feed)
	require.NoError(t, err)
	assert.NoError(t, signature.Verify(strings.NewReader("order"), signed, public, signature.Feed))
	_, err = signature.Signer([]byte(signature.Line(public)), nil, filepath.Join(dir, "none"))
	assert.ErrorIs(t, err, signature.ErrNoAgent)
}
