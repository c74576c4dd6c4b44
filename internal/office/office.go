// Package office keeps the folder of an office: the place where the laptops and stations of many
// sites exchange what they have, on a NATS server with JetStream. It makes the credentials by which
// each site reaches its own record there, and nothing else.
//
// Its central type is Office. The server itself is in the package server; this one starts nothing.
package office

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/jwt/v2"
	"github.com/nats-io/nkeys"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/yamldoc"
)

// Files of the folder of an office.
const (
	File       = "office.yaml"
	sitesFile  = "sites.json"
	keysFolder = "keys"
	DataFolder = "data" // of the server
)

// Port is the usual one of the server.
const Port = "4222"

// Office is an open folder of an office.
type Office struct {
	Dir      string
	Settings Settings
	operator nkeys.KeyPair
	account  nkeys.KeyPair // of the sites
	system   nkeys.KeyPair // the account of the server itself, which no one uses
}

// Settings are what office.yaml has.
type Settings struct {
	Office string `yaml:"office"` // its name
	// Address is the host:port by which sites reach it; of several machines all, with commas.
	Address string   `yaml:"address"`
	Listen  string   `yaml:"listen"` // the address at which the server listens
	Routes  []string `yaml:"routes"` // of several machines: the host:port of each, for the others
}

// Site is a site that may reach the office.
type Site struct {
	Name    string    `json:"name"`
	Key     string    `json:"key"` // the public NKey of its credentials
	Added   time.Time `json:"added"`
	Expires time.Time `json:"expires,omitzero"` // of the credentials; zero: never
	Removed time.Time `json:"removed,omitzero"` // zero: it was not removed
}

// isName tells whether a site may be called so at the office: its name is part of the subjects of
// its messages.
func isName(name string) bool {
	return name != "" && len(name) < 64 && name[0] != '-' &&
		strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}

// NameError is returned for a name that a site cannot have at the office.
type NameError struct{ Name string }

func (e *NameError) Error() string {
	return fmt.Sprintf(
		"%q cannot be the name of a site at the office: write small letters, digits and -",
		e.Name,
	)
}

// UnknownError is returned for a site that the office does not have.
type UnknownError struct{ Name string }

func (e *UnknownError) Error() string { return "the office has no site " + e.Name }

// ErrThere is returned by Add for a site that the office has, and by Init for a folder that has
// one.
var ErrThere = errors.New("there is one already")

// Init makes the folder of an office. Its keys are made there and never leave it. address is how
// sites reach it; of several machines all, with commas.
func Init(dir, name, address string) error {
	if _, err := os.Stat(filepath.Join(dir, File)); err == nil {
		return fmt.Errorf("%s: %w", dir, ErrThere)
	}
	s := Settings{Office: name}
	addresses := Addresses(address)
	if err := checkMachines(len(addresses)); err != nil {
		return err
	}
	for i, a := range addresses {
		host, port, err := net.SplitHostPort(a)
		if err != nil {
			host, port = a, Port
		}
		if host == "" {
			return errors.New("the address by which sites reach the office is missing")
		}
		addresses[i] = net.JoinHostPort(host, port)
		s.Routes = append(s.Routes, net.JoinHostPort(host, RoutePort))
		s.Listen = net.JoinHostPort("0.0.0.0", port)
	}
	s.Address = strings.Join(addresses, ",")
	if err := os.MkdirAll(filepath.Join(dir, keysFolder), 0o700); err != nil {
		return err
	}
	for kind, make := range map[string]func() (nkeys.KeyPair, error){
		"operator": nkeys.CreateOperator, "account": nkeys.CreateAccount, "system": nkeys.CreateAccount,
	} {
		pair, err := make()
		if err != nil {
			return err
		}
		seed, err := pair.Seed()
		if err == nil {
			err = atomicfile.Replace(filepath.Join(dir, keysFolder, kind+".nk"), seed, 0o600)
		}
		if err != nil {
			return err
		}
	}
	host, _, _ := net.SplitHostPort(addresses[0]) // joined above
	if err := makeCertificate(filepath.Join(dir, keysFolder), host); err != nil {
		return err
	}
	text := fmt.Sprintf("office: %q\n\n# How sites reach it: a name or an address, and a port.\n"+
		"address: %q\n\n# Where the server listens.\nlisten: %q\n", name, s.Address, s.Listen)
	if len(addresses) > 1 {
		text += fmt.Sprintf("\n# How the machines of the office reach each other, in the order of their "+
			"addresses.\nroutes: [\"%s\"]\n", strings.Join(s.Routes, `", "`))
	}
	return atomicfile.Replace(filepath.Join(dir, File), []byte(text), 0o644) // last: then it is one
}

// certificateFor is how long the certificate of an office is valid: sites know it by its digest.
const certificateFor = 20 * 365 * 24 * time.Hour

func makeCertificate(dir, host string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	c := x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: host},
		NotBefore: time.Now().Add(-24 * time.Hour), NotAfter: time.Now().Add(certificateFor),
		KeyUsage:    x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if ip := net.ParseIP(host); ip != nil {
		c.IPAddresses = []net.IP{ip}
	} else {
		c.DNSNames = []string{host}
	}
	der, err := x509.CreateCertificate(rand.Reader, &c, &c, &key.PublicKey, key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	return errors.Join(
		atomicfile.Replace(filepath.Join(dir, "tls.key"), pem.EncodeToMemory(&pem.Block{
			Type: "PRIVATE KEY", Bytes: private}), 0o600),
		atomicfile.Replace(filepath.Join(dir, "tls.pem"), pem.EncodeToMemory(&pem.Block{
			Type: "CERTIFICATE", Bytes: der}), 0o644))
}

// Certificate returns the files of the TLS certificate and its key.
func (o *Office) Certificate() (certificate, key string) {
	return filepath.Join(o.Dir, keysFolder, "tls.pem"), filepath.Join(o.Dir, keysFolder, "tls.key")
}

// NoOfficeError is returned where a folder was looked for and is not one of an office.
type NoOfficeError struct{ Dir string }

func (e *NoOfficeError) Error() string { return e.Dir + " is not the folder of an office" }

// Open opens the folder of an office.
func Open(dir string) (*Office, error) {
	path := filepath.Join(dir, File)
	raw, err := files.Read(path, files.Site)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &NoOfficeError{dir}
	}
	if err != nil {
		return nil, err
	}
	o := &Office{Dir: dir}
	doc, err := yamldoc.Decode(path, raw, &o.Settings)
	if err != nil {
		return nil, err
	}
	if key, err := o.Settings.check(); err != nil {
		return nil, doc.Errorf("$."+key, "%v", err)
	}
	for kind, into := range map[string]*nkeys.KeyPair{"operator": &o.operator, "account": &o.account,
		"system": &o.system} {
		at := filepath.Join(dir, keysFolder, kind+".nk")
		seed, err := files.Read(at, files.Key)
		if err == nil {
			*into, err = nkeys.FromSeed(seed)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w; without it the office cannot be opened, restore it from a "+
				"backup", at, err)
		}
	}
	return o, nil
}

// Sites returns all sites that the office has or had, in the order in which they were added.
func (o *Office) Sites() (out []Site, err error) {
	raw, err := files.Read(filepath.Join(o.Dir, sitesFile), files.Order)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &out)
	}
	return out, err
}

// change rewrites the list of sites.
func (o *Office) change(do func([]Site) ([]Site, error)) error {
	return atomicfile.Transform(filepath.Join(o.Dir, sitesFile), 0o600,
		func(old []byte) (raw []byte, err error) {
			var all []Site
			if old != nil {
				if err := json.Unmarshal(old, &all); err != nil {
					return nil, fmt.Errorf("%s cannot be read: %w", sitesFile, err)
				}
			}
			if all, err = do(all); err != nil {
				return nil, err
			}
			return json.MarshalIndent(all, "", "  ")
		})
}

// Active reports whether a site may reach the office.
func (s Site) Active() bool { return s.Removed.IsZero() }

// Add makes the credentials of a site: it can write to its own record and read it, and reach
// nothing else. They are nowhere but in what Add returns. valid is for how long; 0: until the site
// is removed. Its errors are a NameError, ErrThere, and those of the folder.
func (o *Office) Add(name string, valid time.Duration, now time.Time) (c Credentials, err error) {
	if !isName(name) {
		return c, &NameError{name}
	}
	user, err := nkeys.CreateUser()
	if err != nil {
		return c, err
	}
	key, err := user.PublicKey()
	if err != nil {
		return c, err
	}
	s := Site{Name: name, Key: key, Added: now.UTC().Truncate(time.Second)}
	if valid > 0 {
		s.Expires = s.Added.Add(valid)
	}
	if c, err = o.credentials(s, user); err != nil {
		return c, err
	}
	return c, o.change(func(all []Site) ([]Site, error) {
		if slices.ContainsFunc(all, func(s Site) bool { return s.Name == name && s.Active() }) {
			return nil, fmt.Errorf("the site %s: %w", name, ErrThere)
		}
		return append(all, s), nil
	})
}

// Remove revokes the credentials of a site. Its record stays.
func (o *Office) Remove(name string, now time.Time) error {
	return o.change(func(all []Site) ([]Site, error) {
		for i := range all {
			if all[i].Name == name && all[i].Active() {
				all[i].Removed = now.UTC().Truncate(time.Second)
				return all, nil
			}
		}
		return nil, &UnknownError{name}
	})
}

// Stream and Subjects name the record of a site on the server.
func Stream(site string) string { return "SITE_" + site }

// Subject is the start of the subjects of a site's messages.
func Subject(site string) string { return "site." + site }

// Bucket is the key-value bucket in which the machines of a site say what they work on.
func Bucket(site string) string { return "work-" + site }

// Inbox is the prefix of the subjects at which a site gets answers.
func Inbox(site string) string { return "_INBOX_" + site }

// credentials are those of a site: what it may publish and subscribe to is in its JWT, which the
// office's account signs.
func (o *Office) credentials(s Site, user nkeys.KeyPair) (c Credentials, err error) {
	claims := jwt.NewUserClaims(s.Key)
	claims.Name = s.Name
	if !s.Expires.IsZero() {
		claims.Expires = s.Expires.Unix()
	}
	stream := Stream(s.Name)
	claims.Pub.Allow.Add(Subject(s.Name)+".>", "$JS.API.STREAM.INFO."+stream,
		"$JS.API.DIRECT.GET."+stream, "$JS.API.DIRECT.GET."+stream+".>", "$JS.API.STREAM.MSG.GET."+stream)
	work := "KV_" + Bucket(s.Name)
	claims.Pub.Allow.Add("$KV."+Bucket(s.Name)+".>", "$JS.API.STREAM.INFO."+work,
		"$JS.API.DIRECT.GET."+work, "$JS.API.DIRECT.GET."+work+".>", "$JS.API.STREAM.MSG.GET."+work)
	claims.Sub.Allow.Add(Inbox(s.Name) + ".>")
	token, err := claims.Encode(o.account)
	if err != nil {
		return c, err
	}
	seed, err := user.Seed()
	if err != nil {
		return c, err
	}
	certificate, _ := o.Certificate()
	digest, err := fingerprint(certificate)
	return Credentials{Office: o.Settings.Office, Address: o.Settings.Address, Site: s.Name,
		Certificate: digest, Token: token, Seed: string(seed)}, err
}

func fingerprint(file string) (string, error) {
	raw, err := files.Read(file, files.Key)
	if err != nil {
		return "", err
	}
	block, _ := pem.Decode(raw)
	if block == nil {
		return "", fmt.Errorf("%s is not a certificate", file)
	}
	return Fingerprint(block.Bytes), nil
}

// Fingerprint is the digest by which sites know the certificate of an office.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return "SHA256:" + strings.TrimRight(base64.StdEncoding.EncodeToString(sum[:]), "=")
}

// Keeper returns the credentials of the office itself, for its own server: they are not written
// anywhere, and reach the records of all sites.
func (o *Office) Keeper() (c Credentials, err error) {
	user, err := nkeys.CreateUser()
	if err != nil {
		return c, err
	}
	key, err := user.PublicKey()
	if err != nil {
		return c, err
	}
	claims := jwt.NewUserClaims(key)
	claims.Name, claims.Expires = "office", time.Now().Add(365*24*time.Hour).Unix()
	if c.Token, err = claims.Encode(o.account); err != nil {
		return c, err
	}
	seed, err := user.Seed()
	c.Seed, c.Address, c.Office = string(seed), o.Settings.Address, o.Settings.Office
	if err == nil {
		certificate, _ := o.Certificate()
		c.Certificate, err = fingerprint(certificate)
	}
	return c, err
}

// Claims are what the server trusts.
type Claims struct {
	Operator *jwt.OperatorClaims
	Key      string // the public key of the account of the sites
	Account  string // its JWT, in which the keys of removed sites are revoked
	System   string // the public key of the server's own account
	SystemIs string // its JWT
}

// Claims returns what the server trusts now.
func (o *Office) Claims() (c Claims, err error) {
	operator, err1 := o.operator.PublicKey()
	account, err2 := o.account.PublicKey()
	system, err3 := o.system.PublicKey()
	sites, err4 := o.Sites()
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		return c, err
	}
	c = Claims{Operator: jwt.NewOperatorClaims(operator), Key: account, System: system}
	own := jwt.NewAccountClaims(system)
	own.Name = "server"
	if c.SystemIs, err = own.Encode(o.operator); err != nil {
		return c, err
	}
	claims := jwt.NewAccountClaims(account)
	claims.Name = "sites"
	claims.Limits.JetStreamLimits = jwt.JetStreamLimits{MemoryStorage: jwt.NoLimit,
		DiskStorage: jwt.NoLimit, Streams: jwt.NoLimit, Consumer: jwt.NoLimit}
	for _, s := range sites {
		if !s.Active() {
			claims.RevokeAt(s.Key, s.Removed.Add(time.Minute))
		}
	}
	c.Account, err = claims.Encode(o.operator)
	return c, err
}

// Same reports whether the same sites are revoked: a JWT differs each time that it is made.
func (c Claims) Same(o Claims) bool {
	a, err1 := jwt.DecodeAccountClaims(c.Account)
	b, err2 := jwt.DecodeAccountClaims(o.Account)
	return err1 == nil && err2 == nil && maps.Equal(a.Revocations, b.Revocations)
}
