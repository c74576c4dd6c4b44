package family

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"time"

	"catena/internal/settings"
)

// Program is what a family file says of how its devices are talked to. It was checked as a
// whole when the file was read: every expression and pattern is compiled, every name is one
// that some step takes. Who runs it is not said here.
type Program struct {
	Protocol   string   // http, ssh, snmp, bacnet
	Ports      []uint16 // where such devices usually answer
	Wire       []Field  // headers that go with every request
	Secrets    []Secret // of the login, besides user and password
	ByPart     bool     // its steps ask which component is updated
	Password   []*Step  // change the password of the login to $new.password
	Permission []*Step  // succeed only for a login that may update the device
	imageName  Template // see ImageName
	Sums       bool     // it uses checksums of an image besides SHA-256

	Terminal *Terminal // its commands are typed into one shell; nil: each is sent separately

	Recognise []*Step // without a login
	Login     []*Step // how a session starts; none: the protocol's own login is enough
	Logout    []*Step
	Enter     Entry // around all that is done there
	Read      []*Step

	Busy    *Expr // bool: it writes, and must be left alone
	Away    *Expr // bool: it is starting, and tells no more than that
	Pending *Expr // text: a version that is written and not running yet; empty: none
	Idle    *Expr // text: the version in the main component's other slot; nil: it has one slot
	Uptime  *Expr // number: seconds since its last start
	Well    *Expr // bool
	Why     Template

	Part                     // of the main component, and of those that say nothing of their own
	Parts    map[string]Part // of components that do, by name
	Revert   []*Step         // the switch to the other slot; none: it has one
	Settings *Settings       // nil: it cannot tell them
	// values that are preserved over an update, in the order in which they are written
	Carry        []Carry
	Address      []*Step // which give it another address; none: it cannot be moved
	AddressNames bool    // they give it a name, too
	Blink        []*Step
	Shows        string       // what it does when it blinks, in words
	ParentRoute  *ParentRoute // of a family of children; nil: its devices are reached themselves
	names        map[string]Type
}

// ParentRoute is how children are reached: every step goes to their parent, in a session that they
// share.
type ParentRoute struct {
	Parent   string   // the name of its family
	List     []*Step  // which read those that there are; one that has Each takes the values of each
	Identity []string // the values that tell one of them from all others
	Parallel int      // how many are updated at the same time; 0: any number
	Last     bool     // they go after their parent's own update; else before it
	Store    []*Step  // which leave the image with the parent, once for all; none: each gets it
	Stored   *Expr    // bool: the parent has it already; nil: it does not tell
}

// Terminal is how the shell of a device looks that accepts no single commands.
type Terminal struct {
	Prompt *regexp.Regexp // the end of the output while it waits for a command
	Pages  []Page
}

// Page is the end of a page of a long answer, and the key for the next one.
type Page struct {
	Question *regexp.Regexp
	Key      string
}

// Secret is a value of the login that the family asks for by its name.
type Secret struct {
	Name    string
	Writing bool // it goes out only for what changes something
}

// Entry is what is done before a device is worked on, and undone after it, whatever the end.
type Entry struct {
	Reads  bool // reading requires it, too
	Steps  []*Step
	Leave  []*Step
	Undone *Expr // bool, on what read takes after it: that it was undone; nil: not looked at
}

// Settings are how a device tells its settings, and takes them back.
type Settings struct {
	Format  settings.Format
	Save    []*Step // which take settings
	Restore []*Step // which send $settings; none: they are only kept
	// Renamed are settings that are called otherwise in other versions, by path.
	Renamed map[string]string
}

// Carry is a single value that an update may lose, such as a counter: it is read before, and
// written after, where it is another one then.
type Carry struct {
	Name  string
	Read  []*Step // which take it
	Write []*Step // which send it
}

// Part is how one component is updated.
type Part struct {
	Update     []*Step
	Restart    []*Step // none: it restarts automatically once it has the image
	Restarts   int     // how often, until it runs the image; 0: once
	Interlocks []Interlock
}

// Of is how a component is updated: its own steps, where it has some, else the device's. The
// device's interlocks hold for every component.
func (p *Program) Of(component string) Part {
	part, own := p.Parts[component]
	if !own {
		return p.Part
	}
	if len(part.Update) == 0 {
		part.Update = p.Update
	} else if part.Restart == nil {
		part.Restart = p.Restart
	}
	part.Restarts = cmp.Or(part.Restarts, p.Restarts)
	part.Interlocks = slices.Concat(p.Interlocks, part.Interlocks)
	return part
}

// Interlock is what must hold before an image is sent.
type Interlock struct {
	Holds *Expr // bool
	Else  string
}

// Kind says what a step does.
type Kind string

const (
	Request Kind = "request" // get, put, post, patch, delete; SSH: run; SNMP: get, set
	Upload  Kind = "upload"  // send the image
	Offer   Kind = "offer"   // the device fetches the image from Catena
	Poll    Kind = "poll"    // ask again until
	Wait    Kind = "wait"
	Ask     Kind = "ask" // a person does something, and says so
)

// Step is one thing that is done with a device. It runs so: when → its fields are filled in → it
// is sent → the outcome is found → values are taken → what is expected is checked.
type Step struct {
	Place
	Kind     Kind
	Word     string   // as the file has it: get, put, run, …
	Protocol string   // http, https, ssh, snmp, bacnet, tftp
	Port     uint16   // 0: where the device was found
	On       string   // the name of another device, which it is sent to; empty: this one
	Logins   []string // the values of the login in it
	Method   string   // of HTTP
	Path     Template // of HTTP; the command line of SSH; the remote path of an upload; what is asked
	Objects  []Object // of SNMP
	Query    []Field
	Header   []Field
	Body     *Body
	Chunk    int64    // bytes of one request of an upload; 0: all of it is one request
	Each     *Extract // of a list of children: one of them; what is taken is taken of each
	From     *Expr    // int, of an upload: the bytes that the device has already; nil: none
	Reply    []Reply
	By       string  // of offer: http, tftp
	Steps    []*Step // of offer: what makes the device fetch
	Pause    time.Duration

	When     *Expr // bool; nil: always
	Take     []Take
	Outcomes []Outcome
	Expect   *Expr // bool

	Until   *Expr // bool, of a poll; of an ask: how the device itself shows that it was done
	Fail    *Expr // bool, of a poll
	Percent *Expr // int, of a poll
	// Progress finds the percent in the output of a command that runs for long; nil: it has none.
	Progress *regexp.Regexp

	Shows    string        // what is seen at the device from then on
	Within   time.Duration // how long it may take, with all repeats; 0: as usual
	Occupies bool          // of ask: device and parent are busy while it waits
	Gone     bool          // that the device goes away is a good end
	Reads    bool          // it changes nothing: a GET, and all steps that recognise and read
	Repeat   bool          // it may be sent once more when its answer was lost
	Writes   bool          // from here on the device may be writing
	typed    bool          // it is typed into a terminal: no status tells how it went
	says     *Extract      // where the device says why it refuses
	uses     []use         // the values in it
	Shell    string        // posix: values of a command line are quoted; none: they must be plain
}

// Place is where a step stands in its file, from 1.
type Place struct{ Line, Column int }

// Field is a name and a value; one whose value is not set is left out.
type Field struct {
	Name  string
	Value Template
}

// Body is what a request carries.
type Body struct {
	Kind   string // json, form, xml, text, ini, raw, multipart
	JSON   *Tree
	Fields []Field // of a form, or of multipart; one that is $image is the image
	Text   Template
}

// Object is an object of SNMP, or a property of BACnet: it is read into a name, or set.
type Object struct {
	Name  string         // of a value that is taken; empty: it is set
	OID   string         // 1.3.6.1…; of BACnet file,1/file-size, or file,1: all of the file
	Type  string         // of what is set: int, text, address, hex; of BACnet see ParseValue there
	Value Template       // of what is set
	As    Type           // of what is taken
	Match *regexp.Regexp // the part of the value that counts: its first group, or all; nil: all of it
	// all objects below the OID are read, into a map by the rest of their OIDs; of BACnet the elements
	// of an array or a list, by their places from 1
	Tail bool
}

// Reply answers a prompt of an interactive shell.
type Reply struct {
	Prompt *regexp.Regexp
	Text   Template
}

// Whole reports whether an object is a file of BACnet, of which all bytes are read as they are.
func (o Object) Whole() bool {
	return strings.Contains(o.OID, ",") && !strings.Contains(o.OID, "/")
}

// Outcome says what an answer means, where its condition holds.
type Outcome struct {
	Place
	Low, High int   // of the status; 0: the condition decides
	If        *Expr // bool
	Word      Word
	Says      string // a sentence for the person; empty: the device's own
}

// Word is what an answer means.
type Word string

const (
	OK    Word = "ok"
	Done  Word = "done"  // it is so already
	Again Word = "again" // not now: it is asked again after a while
	// the parent has not the image any more: it is stored, and once more
	NoImage     Word = "image"
	LoginLost   Word = "login"        // the session is lost: log in, and once more
	Credential  Word = "credential"   // the login is wrong: it is not tried again
	Locked      Word = "locked"       // it takes no login for now
	NewPassword Word = "new-password" // it requires a new password first
	NoRight     Word = "no-right"     // this login may not do that
	Refused     Word = "refused"
	Changed     Word = "changed" // it is another device
	Away        Word = "away"
)

// Words are all of them.
var Words = []Word{OK, Done, Again, NoImage, LoginLost, Credential, Locked, NewPassword, NoRight,
	Refused,
	Changed, Away}

// Type is that of a value.
type Type string

const (
	Text   Type = "text"
	Int    Type = "int"
	Number Type = "number"
	Bool   Type = "bool"
	List   Type = "list" // of text
	Map    Type = "map"  // of text, by text
)

// zero is the value of a type that is not set.
func (t Type) zero() any {
	switch t {
	case Int:
		return 0
	case Number:
		return 0.0
	case Bool:
		return false
	case List:
		return []string{}
	case Map:
		return map[string]string{}
	}
	return ""
}
