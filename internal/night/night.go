// Package night is a whole night at Marrow Hill, on its stand-ins: the commands that a person would
// type (Steps), and how each device must end (Expected). It runs none of them.
package night

import (
	"catena/internal/sim"
	"catena/internal/site"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// End is how a device must end.
type End struct{ Name, Status, Version, Why string }

// Silent is the name of the address that answers nothing.
const Silent = "(silent)"

// Expected is how each device must end.
var Expected = []End{
	{"cam-11", "current", "3.2.1", "flashed and verified"},
	{"cam-12", "current", "2.11", "flashed and verified"},
	{"cam-21", "current", "3.2.1", "flashed and verified; its clock is a day off"},
	{"cam-22", "current", "2.11", "flashed and verified"},
	{"cam-31", "no-access", "", "someone changed its password"},
	{"cam-32", "current", "2.11", "was already current"},
	{"cam-41", "behind", "3.1.0", "fell back to its previous version, verified"},
	{"cam-42", "current", "2.11", "was unsafe on 2.09: flashed and verified"},
	{"cam-51", "current", "3.2.1", "was already current"},
	{"cam-52", "current", "3.2.1", "flashed and verified"},
	{"gate-1", "current", "K44", "flashed and verified"},
	{"gate-2", "current", "K44", "flashed and verified"},
	{"gate-3", "current", "K44", "flashed through an intermediate version and verified"},
	{"gate-4", "current", "K44", "was already current"},
	{"gate-5", "held", "K42", "on hold"},
	{"switch-basin", "current", "4.3", "fetched its image by TFTP into its other slot, verified"},
	{"recorder-1", "current", "2.11.0", "flashed by Redfish into its other slot, verified"},
	{"drive-1", "current", "7.5", "flashed by SSH, verified"},
	{"router-1", "current", "1.9", "flashed through its shell, verified"},
	{"panel-1", "current", "2.1", "sent in pieces, after two restarts verified"},
	{"hub-1", "current", "6", "flashed through its web pages, verified"},
	{"handset-1", "current", "1.9", "through its hub, verified"},
	{"handset-2", "current", "1.9", "through its hub, verified"},
	{"handset-3", "current", "1.9", "through its hub, verified"},
	{"handset-4", "current", "1.9", "put on its base by hand, verified"},
	{"signals-1", "current", "3.1", "after its downstream lamps, verified"},
	{"lamp-1a", "current", "1.5", "through its controller, verified"},
	{"lamp-1b", "current", "1.5", "through its controller, verified"},
	{"lamp-1c", "current", "1.5", "through its controller, verified"},
	{"lamp-2a", "current", "1.5", "through its controller, verified"},
	{"lamp-2b", "current", "1.5", "through its controller, verified"},
	{"lamp-2c", "current", "1.5", "through its controller, verified"},
	{"lamp-3a", "current", "1.5", "through its controller, verified"},
	{"lamp-3b", "behind", "1.4", "did not light with its new image: rolled back"},
	{"lamp-3c", "current", "1.5", "through its controller, verified"},
	{"lamp-4a", "current", "1.5", "through its controller, verified"},
	{"lamp-4b", "current", "1.5", "through its controller, verified"},
	{"lamp-4c", "current", "1.5", "was already current"},
	{"gateway-1", "current", "2.5", "flashed once its modem carried no link, verified"},
	{Silent, "away", "", "an address that does not answer"},
}

// Step is one command of the night.
type Step struct {
	What   string
	Args   []string
	Stdin  string
	Exit   int                                // the exit code that is expected
	Before func(tell func(text string)) error // what happens before it; may be nil
	// KillAt runs it as a separate process, which is killed when it prints this; nil: it
	// runs to its end
	KillAt *regexp.Regexp
}

// Night is where a night is played.
type Night struct {
	Dir      string // the site folder
	Images   string // the folder of the images
	Scenario sim.Scenario
	Place    *sim.Site // its stand-ins
}

// Steps returns the commands of the night.
func (d Night) Steps() []Step {
	scenario := d.Scenario
	return []Step{
		{What: "Make a site folder",
			Args: append([]string{"new", scenario.Site, "--adapter", d.Place.Adapter},
				strings.Fields(RangeFlags(d.Place))...)},
		{What: "Store the login, encrypted with a passphrase",
			Args:   []string{"login", "add", "--user", scenario.Login.User, "--password-stdin"},
			Stdin:  scenario.Login.Password,
			Before: d.write},
		{What: "A drive shows only its greeting, so it gets only a login for its model, with " +
			"the code of its service mode",
			Args: []string{"login", "add", "--model", "HD-7", "--user", scenario.Login.User, "--secret",
				"service",
				"--password-stdin"},
			Stdin: scenario.Login.Password + "\n" + sim.ServiceCode},
		{What: "The same for the gateway", Args: []string{"login", "add", "--model", "HD-G4", "--user",
			scenario.Login.User,
			"--password-stdin"}, Stdin: scenario.Login.Password},
		{What: "The router has only a shell, with a second password for changes",
			Args: []string{"login", "add", "--model", "OR-4", "--user", scenario.Login.User, "--secret",
				"full", "--password-stdin"},
			Stdin: scenario.Login.Password + "\n" + sim.SecondPassword},
		{What: "And the community with which the switches accept changes",
			Args:  []string{"login", "add", "--model", "OS-8", "--community", "--password-stdin"},
			Stdin: scenario.Login.Password},
		{What: "Find the devices", Args: []string{"scan"}},
		{What: "Show the uplinks",
			Args: []string{"scan", "--uplinks", "--at", "switch-basin", "--quiet"}},
		{What: "Fill the shelf", Args: []string{"shelf", "add", d.Images}},
		{What: "Read its release notes", Args: []string{"shelf", "notes", "wx40_3.2.1.bin"}},
		{What: "Show what should be flashed", Args: []string{"match"}},
		{What: "Make an order for the night",
			Args: []string{"order", "new", "night-1", "--all", "--note",
				"before the winter stoppage"}},
		{What: "Show its forecast: the end of the chain first, one camera of a view at a time",
			Args: []string{"order", "show", "night-1"}},
		{What: "Flash it. The laptop's battery dies in the middle",
			Args: []string{"flash", "night-1", "--yes", "--accept", "gate-blocked", "--accept",
				"pump-stops", "--accept", "no-rollback", "--accept", "link-drops", "--wait-for", "2m",
				"--patience", "proving=3s", "--patience", "grace=2s"},
			KillAt: regexp.MustCompile(`gate-2 +sending`)},
		{What: "Show the open job", Args: []string{"list", "--where", `status == "interrupted"`}},
		{What: "Continue, verify, and roll back what fails",
			Args: []string{"resume", "--patience", "proving=3s", "--patience", "grace=2s"},
			Exit: 3},
		{What: "Look again", Args: []string{"scan"}, Before: func(tell func(string)) error {
			// another address would be another port, outside what the site names
			if d.Place.OneHost {
				return nil
			}
			tell("\nNow cam-51 has another address.\n")
			return d.Place.Move("cam-51", 53)
		}},
		{What: "What runs now", Args: []string{"list"}},
		{What: "The drive's image clears its settings, and renames one",
			Args: []string{"settings", "save", "drive-1"}},
		{What: "The operator's settings are back",
			Args: []string{"settings", "show", "drive-1"}},
		{What: "Count the devices by model and version", Args: []string{"match", "--by", "model"}},
	}
}

// write writes into the site folder what a person would write with an editor.
func (d Night) write(tell func(string)) error {
	f, err := os.OpenFile(filepath.Join(d.Dir, site.File), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	text := "hold:\n  - {device: gate-5, because: not before the winter stoppage}\nnames: {" +
		d.drive() + ": drive-1}\n" +
		"uplinks:\n  - {through: switch-basin, reach: [cam-11, cam-12, cam-21, gate-1]}\n  - " +
		"{through: gate-1, reach: [gate-2]}\n  - {through: gate-2, reach: [gate-3]}\n" +
		"cover: [{name: chamber 2 view, keep: 1, of: [cam-21, cam-22]}]\nlockstep: [{name: radio, of: " +
		"[hub-1, \"handset-*\"]}]\n"
	tell(fmt.Sprintf("\nIn its %s, a person writes:\n%s", site.File, text))
	_, err = f.WriteString(text)
	err = errors.Join(err, f.Close())
	if err != nil {
		return err
	}
	tell(fmt.Sprintf("\nIts makers' devices are described in families/: %s.\n",
		strings.Join(slices.Sorted(maps.Keys(sim.Families())), ", ")))
	return sim.WriteFamilies(filepath.Join(d.Dir, "families"))
}

// drive is where the drive is, which tells no one its name.
func (d Night) drive() string {
	for _, in := range d.Place.StandIns() {
		if in.Name == "drive-1" {
			if host, _, ok := strings.Cut(in.Address, ":"); ok && !d.Place.OneHost {
				return host
			}
			return strconv.Quote(in.Address)
		}
	}
	return ""
}

// RangeFlags returns the flags of catena new that name the networks of a site of stand-ins.
func RangeFlags(s *sim.Site) string {
	var b strings.Builder
	for _, r := range s.Ranges() {
		fmt.Fprintf(&b, " --range %s", r)
	}
	if ports := s.Ports(); len(ports) > 0 {
		fmt.Fprintf(&b, " --port %s", strings.Join(ports, ","))
	}
	return b.String()
}
