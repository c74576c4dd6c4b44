package login

import (
	"cmp"
	"crypto/ed25519"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"catena/internal/text"
)

// Credential is what one login attempt sends: a user and a password, or without a user
// an SNMP community. It shows nothing when it is printed or logged.
type Credential struct {
	ID string // names it without showing it; empty: given for this run
	// Mark is what one without an ID is known by in later runs of this user; empty: by nothing.
	Mark           string
	User, Password string
	SNMP           SNMP // what SNMPv3 requires besides
	// Changes is the community for changes, where another one reads; empty: the same.
	Changes string
	More
	// PlainBasic allows the password to be shown on the wire: HTTP Basic without TLS.
	PlainBasic bool
}

// RefusedAs is what a device that refuses it is noted with: its ID, or its mark.
func (c Credential) RefusedAs() string { return cmp.Or(c.ID, c.Mark) }

// String hides what it holds, in every way of printing it.
func (c Credential) String() string { return "login" }

// GoString hides it, too.
func (c Credential) GoString() string { return "login" }

// LogValue hides it, too.
func (c Credential) LogValue() slog.Value { return slog.StringValue("login") }

// More is what a login may have besides a user and a password, each as it was given.
type More struct {
	// Secrets are those that a family asks for by their names, such as a second password.
	Secrets map[string]string `json:"secrets,omitempty"`
	// Key is a private key in PEM, for SSH or of the certificate; it has no passphrase any more.
	Key string `json:"key,omitempty"`
	// Certificate is that of the client and who signed it, in PEM (RFC 8446, 4.4.2).
	Certificate string `json:"certificate,omitempty"`
	Agent       bool   `json:"agent,omitempty"` // the keys of the SSH agent are used
}

// Keyed tells whether it can do without a password.
func (m More) Keyed() bool { return m.Key != "" || m.Agent }

// Unlock takes the passphrase off the private key, if it has one: what is kept is encrypted
// already. ask is asked for it once.
func (m *More) Unlock(ask func() (string, error)) error {
	switch {
	case m.Key == "":
		return nil
	case m.Agent: // it says which of the agent's keys
		_, _, _, _, err := ssh.ParseAuthorizedKey([]byte(m.Key))
		return err
	}
	_, err := ssh.ParseRawPrivateKey([]byte(m.Key))
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		passphrase, failed := ask()
		if failed != nil {
			return failed
		}
		m.Key, err = unlocked(m.Key, passphrase)
	}
	if err == nil && m.Certificate != "" {
		_, err = tls.X509KeyPair([]byte(m.Certificate), []byte(m.Key))
	}
	if err != nil {
		return fmt.Errorf("it contains no usable private key: %w", err)
	}
	return nil
}

// unlocked is a private key without its passphrase, in PKCS #8, which both SSH and TLS read.
func unlocked(locked, passphrase string) (string, error) {
	key, err := ssh.ParseRawPrivateKeyWithPassphrase([]byte(locked), []byte(passphrase))
	if err != nil {
		return "", err
	}
	if own, is := key.(*ed25519.PrivateKey); is {
		key = *own
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})), err
}

// maxKey bounds a key or a certificate, in bytes.
const maxKey = 32 << 10

func (m More) check() error {
	switch {
	case m.Certificate != "" && m.Key == "":
		return errors.New("a certificate requires its private key")
	case len(m.Key) > maxKey || len(m.Certificate) > maxKey:
		return fmt.Errorf("a key or a certificate of more than %d KiB", maxKey>>10)
	}
	for name, secret := range m.Secrets {
		switch {
		case !SecretName().MatchString(name):
			return fmt.Errorf("%q cannot be the name of a secret; use lower-case letters, digits and _",
				name)
		case secret == "" || len(secret) > maxSecret || strings.ContainsAny(secret, "\r\n\x00"):
			return fmt.Errorf("the secret %s is empty, longer than %d bytes, or has a line break in it",
				name, maxSecret)
		}
	}
	return nil
}

// SecretName is how the secrets are called that a family asks for.
var SecretName = text.Later(`^[a-z][a-z0-9_]{0,31}$`)

// SNMP is what a user of SNMPv3 has besides a name and a password (RFC 3414, RFC 3826, RFC
// 7860). Without an Auth the usual ones are tried, with the password for both.
type SNMP struct {
	Auth string `json:"auth,omitempty"` // one of AuthProtocols
	// one of PrivacyProtocols; empty: nothing is encrypted
	Privacy string `json:"privacy,omitempty"`
	// the privacy password; empty: the same as the password
	Secret string `json:"secret,omitempty"`
}

// Protocols of SNMPv3.
var (
	AuthProtocols    = []string{"md5", "sha", "sha224", "sha256", "sha384", "sha512"}
	PrivacyProtocols = []string{"des", "aes", "aes192", "aes256"}
)

// Check tells what is wrong with the protocols named.
func (s SNMP) Check() error {
	switch {
	case s.Auth != "" && !slices.Contains(AuthProtocols, s.Auth):
		return fmt.Errorf("%q is not a protocol of authentication; there are %s", s.Auth,
			strings.Join(AuthProtocols, ", "))
	case s.Privacy != "" && !slices.Contains(PrivacyProtocols, s.Privacy):
		return fmt.Errorf("%q is not a protocol of encryption; there are %s", s.Privacy,
			strings.Join(PrivacyProtocols, ", "))
	case s.Privacy != "" && s.Auth == "":
		return errors.New("SNMPv3 requires authentication for privacy: add --auth")
	}
	return nil
}

// Form is what a protocol requires as a credential.
type Form string

const (
	UserPassword Form = "user and password"
	Community    Form = "community" // SNMP v1 and v2c
)

// Is tells whether the credential has that form.
func (c Credential) Is(f Form) bool { return (f == Community) == (c.User == "") }
