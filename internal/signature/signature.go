// Package signature signs files and checks signatures: SSHSIG (OpenSSH, PROTOCOL.sshsig),
// with the SSH keys that engineers have already, from a file or from an agent. What it
// writes, ssh-keygen -Y verify accepts, and the other way round.
//
// A signature belongs to a namespace: one made for one purpose counts for no other.
package signature

import (
	"catena/internal/files"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// Ending is what a file's name gets for that of its signature.
const Ending = ".sig"

// MaxSize is the largest signature that is read, in bytes.
const MaxSize = 16 << 10

// Feed is the namespace of feeds and of bundles for colleagues.
const Feed = "catena-feed"

// What can be wrong; callers test with errors.Is.
var (
	ErrSignature  = errors.New("the signature is not by that key")
	ErrPassphrase = errors.New("the passphrase does not open the key")
	ErrNoAgent    = errors.New("no SSH agent with that key answers")
)

// Sign signs what r holds.
func Sign(r io.Reader, key ssh.Signer, namespace string) ([]byte, error) {
	s, err := sshsig.Sign(r, key, sshsig.HashSHA512, namespace)
	if err != nil {
		return nil, err
	}
	return sshsig.Armor(s), nil
}

// Verify checks the signature of what r holds. Its error is ErrSignature, or that of r.
func Verify(r io.Reader, armored []byte, key ssh.PublicKey, namespace string) error {
	s, err := sshsig.Unarmor(armored)
	if err != nil {
		return fmt.Errorf("%w: it is not an SSH signature", ErrSignature)
	}
	read := &watched{r: r}
	err = sshsig.Verify(read, s, key, s.HashAlgorithm, namespace)
	switch {
	case read.err != nil:
		return read.err
	case err != nil:
		return ErrSignature
	}
	return nil
}

// watched keeps the error of a reader apart from that of what reads it.
type watched struct {
	r   io.Reader
	err error
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.r.Read(p)
	if err != nil && err != io.EOF {
		w.err = err
	}
	return n, err
}

// Public reads a public key: one line, as in a .pub file.
func Public(text string) (ssh.PublicKey, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
	if err != nil {
		return nil, errors.New("it is not an SSH public key")
	}
	return key, nil
}

// Line is how a public key is written: without a comment.
func Line(key ssh.PublicKey) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
}

// Signer opens a key to sign with: a private key's file, whose passphrase is asked for where
// it has one, or a public key's, for which an agent signs. The socket is the agent's
// (SSH_AUTH_SOCK).
func Signer(file []byte, passphrase func() (string, error), socket string) (ssh.Signer, error) {
	if public, err := Public(string(file)); err == nil {
		return fromAgent(public, socket)
	}
	key, err := ssh.ParsePrivateKey(file)
	var locked *ssh.PassphraseMissingError
	if !errors.As(err, &locked) {
		return key, err
	}
	text, err := passphrase()
	if err != nil {
		return nil, err
	}
	key, err = ssh.ParsePrivateKeyWithPassphrase(file, []byte(text))
	if err != nil {
		return nil, ErrPassphrase
	}
	return key, nil
}

// fromAgent finds the key among those that an agent holds. The connection lives as long as
// the process: the signer uses it.
func fromAgent(public ssh.PublicKey, socket string) (ssh.Signer, error) {
	c, err := net.Dial("unix", socket)
	if err != nil {
		return nil, ErrNoAgent
	}
	signers, err := agent.NewClient(c).Signers()
	for _, s := range signers {
		if string(s.PublicKey().Marshal()) == string(public.Marshal()) {
			return s, nil
		}
	}
	return nil, errors.Join(ErrNoAgent, err, c.Close())
}

// NewKey makes an Ed25519 key pair, the private one encrypted where there is a passphrase.
func NewKey(passphrase string) (private []byte, public ssh.PublicKey, err error) {
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	public, err = ssh.NewPublicKey(pub)
	if err != nil {
		return nil, nil, err
	}
	var block *pem.Block
	if passphrase == "" {
		block, err = ssh.MarshalPrivateKey(key, "")
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte(passphrase))
	}
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(block), public, nil
}

// VerifyFile checks the signature that lies beside a file.
func VerifyFile(path string, key ssh.PublicKey, namespace string) error {
	armored, err := files.Read(path+Ending, files.Key)
	if err != nil {
		return fmt.Errorf("%s: %w: %w", path, ErrSignature, err)
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	if err := Verify(f, armored[:min(len(armored), MaxSize)], key, namespace); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}
