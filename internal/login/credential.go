package login

import "log/slog"

// Credential is what one login attempt sends: a user and a password, or without a user
// an SNMP community. It shows nothing when it is printed or logged.
type Credential struct {
	ID             string // names it without showing it; empty: given for this run
	User, Password string
	// PlainBasic allows the password to be shown on the wire: HTTP Basic without TLS.
	PlainBasic bool
}

func (c Credential) String() string       { return "login" }
func (c Credential) GoString() string     { return "login" }
func (c Credential) LogValue() slog.Value { return slog.StringValue("login") }

// Form is what a protocol requires as a credential.
type Form string

const (
	UserPassword Form = "user and password"
	Community    Form = "community" // SNMP v1 and v2c
)

// Is tells whether the credential has that form.
func (c Credential) Is(f Form) bool { return (f == Community) == (c.User == "") }
