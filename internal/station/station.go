// Package station is Catena left at a site: it fetches the orders that people have signed for it,
// carries each of them out once, in a window of the site, and brings the record of it to the
// office. It asks no one, and obeys only keys that were named on the machine itself.
//
// Its central types are Station, what the machine at a site was told, and Runner, which does it.
package station

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/office"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/signature"
	"catena/internal/yamldoc"
)

// File is the file of a site folder that makes it a station's. It is of this machine alone: syncing
// never touches it.
const File = "station.yaml"

// Station is what the machine at a site was told when it joined.
type Station struct {
	Dir    string
	Office string // its name
	Need   int    // how many signatures an order must have
	Keys   []ssh.PublicKey
}

type file struct {
	Office string   `yaml:"office"`
	Need   int      `yaml:"need"`
	Keys   []string `yaml:"keys"`
}

// ErrJoined is returned by Join for a folder that is a station's already.
var ErrJoined = errors.New("this folder is a station's already")

// NotJoinedError is returned where a folder is not a station's.
type NotJoinedError struct{ Dir string }

func (e *NotJoinedError) Error() string { return e.Dir + " is not the folder of a station" }

// Join makes a site folder a station's: it reaches the office with the credentials, and carries out
// orders that have need signatures of the keys. Its error is ErrJoined, or one of the files.
func Join(dir string, c office.Credentials, keys []ssh.PublicKey, need int) error {
	if _, err := os.Stat(filepath.Join(dir, File)); err == nil {
		return ErrJoined
	}
	var text strings.Builder
	fmt.Fprintf(
		&text,
		`# This machine carries out orders that are for the station of this site. They must have as many
# signatures as need says, by these keys. Only this file says so: no sync changes it.
office: %q
need: %d
keys:
`,
		c.Office,
		need,
	)
	for _, k := range keys {
		fmt.Fprintf(&text, "  - %q\n", signature.Line(k))
	}
	if _, err := plan.RememberOffice(dir, c); err != nil {
		return err
	}
	return atomicfile.Replace(filepath.Join(dir, File), []byte(text.String()), 0o600) // then it is one
}

// Read reads what the machine was told. Its error is a NotJoinedError, or one of the file.
func Read(dir string) (*Station, error) {
	path := filepath.Join(dir, File)
	raw, err := files.Read(path, files.Site)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &NotJoinedError{dir}
	}
	if err != nil {
		return nil, err
	}
	var f file
	doc, err := yamldoc.Decode(path, raw, &f)
	if err != nil {
		return nil, err
	}
	s := &Station{Dir: dir, Office: f.Office, Need: f.Need}
	for i, line := range f.Keys {
		key, err := signature.Public(line)
		if err != nil {
			return nil, doc.Errorf(fmt.Sprintf("$.keys[%d]", i), "keys: %v", err)
		}
		s.Keys = append(s.Keys, key)
	}
	if s.Need < 1 || s.Need > len(s.Keys) {
		return nil, doc.Errorf("$.need", "need: must be from 1 to the number of keys, %d", len(s.Keys))
	}
	return s, nil
}

// State is how far an order is that is for a station.
type State string

// The states of an order.
const (
	Waits   State = "waits"   // its time has not come
	Due     State = "due"     // it may start
	Started State = "started" // a job was started for it; the job says how it went
	Expired State = "expired" // it was not started in time
	Refused State = "refused" // something about it is wrong, and Why says what
)

// Errand is an order for the station of the site, as a station sees it.
type Errand struct {
	Order string    `json:"order"` // its name
	State State     `json:"state"`
	Why   string    `json:"why,omitempty"`
	Start time.Time `json:"start,omitzero"` // of one that waits
	Until time.Time `json:"until,omitzero"`
	Job   string    `json:"job,omitempty"` // of one that was started

	order order.Order
}

// Errands returns the orders that are for the station, by name.
func (s *Station) Errands(w *plan.Site, now time.Time) (out []Errand, err error) {
	names, err := w.Orders()
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	for _, name := range names {
		e, is, err := s.errand(w, name, now)
		if err != nil {
			return nil, err
		}
		if is {
			out = append(out, e)
		}
	}
	return out, nil
}

// errand looks at one order; is reports that it is for the station. Its error is the ledger's.
func (s *Station) errand(w *plan.Site, name string, now time.Time) (e Errand, is bool, err error) {
	o, wrong := w.ReadSignedBy(name, "the station", s.Keys, s.Need)
	if o.Station == nil {
		return e, false, nil
	}
	e = Errand{Order: name, Until: o.Station.Until, order: o}
	if e.Job, err = w.JobOfOrder(o.Digest); err != nil {
		return e, true, err
	}
	start := now
	if o.Station.After.After(now) {
		start = o.Station.After
	}
	opens, _, hasWindow := w.Site.Window(start)
	if hasWindow && opens.After(start) {
		start = opens
	}
	open := o.Unaccepted()
	switch {
	case e.Job != "":
		e.State = Started
	case wrong != nil:
		e.State, e.Why = Refused, wrong.Error()
	case o.Name != name:
		e.State, e.Why = Refused, "it was signed as the order "+o.Name
	case len(open) > 0:
		e.State, e.Why = Refused, "no one has accepted its cautions: "+strings.Join(open, ", ")
	case !now.Before(e.Until):
		e.State, e.Why = Expired, "it was to start before "+e.Until.Local().Format("2006-01-02 15:04")
	case !start.Before(e.Until):
		e.State, e.Why = Expired, "no window of the site opens before it ends"
	case start.After(now):
		e.State, e.Start = Waits, start
	default:
		e.State = Due
	}
	return e, true, nil
}
