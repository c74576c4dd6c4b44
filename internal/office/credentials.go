package office

import (
	"bytes"
	"fmt"
	"strings"

	"catena/internal/files"
	"catena/internal/yamldoc"
)

// Ending is what the names of files with credentials end with.
const Ending = ".office"

// Credentials are what a site needs to reach its record at an office.
type Credentials struct {
	Office      string `yaml:"office"`      // its name
	Address     string `yaml:"address"`     // host:port; of several machines all, with commas
	Certificate string `yaml:"certificate"` // the SHA-256 of the server's certificate
	Site        string `yaml:"site"`        // its name at the office
	Token       string `yaml:"token"`       // a JWT that the office has signed: what the site may do
	Seed        string `yaml:"seed"`        // the private NKey
}

// Text is the file of credentials.
func (c Credentials) Text() []byte {
	return fmt.Appendf(
		nil,
		`# What the site %s needs to reach the office. Whoever has this file can write to the site's
# record, and read it. catena office remove %[1]s revokes it.
office: %q
address: %q
certificate: %q
site: %q
token: %q
seed: %q
`,
		c.Site,
		c.Office,
		c.Address,
		c.Certificate,
		c.Site,
		c.Token,
		c.Seed,
	)
}

// IsCredentials tells whether a path names a file with credentials.
func IsCredentials(path string) bool { return strings.HasSuffix(path, Ending) }

// ReadCredentials reads a file with credentials.
func ReadCredentials(path string) (c Credentials, err error) {
	raw, err := files.Read(path, files.Key)
	if err != nil {
		return c, err
	}
	doc, err := yamldoc.Decode(path, bytes.TrimSpace(raw), &c)
	if err != nil {
		return c, err
	}
	for key, value := range map[string]string{"address": c.Address, "certificate": c.Certificate,
		"token": c.Token, "seed": c.Seed} {
		if value == "" {
			return c, doc.Errorf("$."+key, "%s is missing", key)
		}
	}
	if !isName(c.Site) {
		return c, doc.Errorf("$.site", "%v", &NameError{c.Site})
	}
	return c, nil
}
