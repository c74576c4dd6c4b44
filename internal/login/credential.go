package login

import (
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
)

// Credential is what one login attempt sends: a user and a password, or without a user
// an SNMP community. It shows nothing when it is printed or logged.
type Credential struct {
	ID             string // names it without showing it; empty: given for this run
	User, Password string
	SNMP           SNMP // what SNMPv3 requires besides
	// PlainBasic allows the password to be shown on the wire: HTTP Basic without TLS.
	PlainBasic bool
}

func (c Credential) String() string       { return "login" }
func (c Credential) GoString() string     { return "login" }
func (c Credential) LogValue() slog.Value { return slog.StringValue("login") }

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
		return errors.New("SNMPv3 encrypts only what it authenticates: name the protocol of that, too")
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
