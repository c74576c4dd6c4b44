package standin

import (
	"time"
)

// Login is a login that a stand-in accepts.
type Login struct {
	User     string `yaml:"user"`
	Password string `yaml:"password"`
}

// Pace is how long a stand-in takes for things.
type Pace struct {
	Answer  time.Duration `yaml:"answer"`  // before each answer
	Write   time.Duration `yaml:"write"`   // to write a received image
	Restart time.Duration `yaml:"restart"` // from going away to coming back
	Settle  time.Duration `yaml:"settle"`  // from coming back to being well
	Delay   time.Duration `yaml:"delay"`   // the delay that a camera requires before an upload
}

// Device is one stand-in.
type Device struct {
	Name string `yaml:"name"`
	// camera, gate, controller, switch, recorder, nvr, drive, gateway, hub, io, or silent
	Kind     string `yaml:"kind"`
	Model    string `yaml:"model"`
	Hardware string `yaml:"hardware"`
	Serial   string `yaml:"serial"`
	Version  string `yaml:"version"`
	// versions of parts that have firmware of their own; gates only
	Parts map[string]string `yaml:"parts"`
	Host  int               `yaml:"host"` // last number of its address, 1 to 253
	// cameras: token (default), digest, or mixed: digest for the upload alone;
	// gates: digest (default), or json: the password in the clear
	Auth string `yaml:"auth"`
	// cameras: an older one, with GetCapabilities and UpgradeSystemFirmware (MTOM) alone
	Older    bool          `yaml:"older"`
	TLS      bool          `yaml:"tls"`       // gates: they answer over TLS
	Restarts string        `yaml:"restarts"`  // cameras: alone (default), asked
	ClockOff time.Duration `yaml:"clock_off"` // how far the device's clock is off
	Faults   Faults        `yaml:"faults"`
	// drives, cameras: what a person has set, besides what they come with
	Settings map[string]string `yaml:"settings"`
	// drives, cameras: another version calls settings so; empty: it has given one up
	Renames map[string]string `yaml:"renames"`
	Clears  bool              `yaml:"clears"` // drives, cameras: another image clears the settings

	Hours int `yaml:"hours"` // drives: what their counter shows
	// gateways: which link is in use, wired (default) or modem; and how long, until it is wired again
	Link      string        `yaml:"link"`
	LinkFor   time.Duration `yaml:"link_for"`
	LinkUntil string        `yaml:"link_until"` // or until this file is there
	Children  []ChildDevice `yaml:"children"`   // controllers, hubs, nvrs: the devices behind them

	MAC string `yaml:"mac"` // switches: their MAC address
	// switches: the devices at their ports, the first at port 1
	Sees       []string `yaml:"sees"`
	Downstream []string `yaml:"behind"` // gates: those that hang behind it
	// switches: the community for reading (default public); that for changes is the login's
	// password
	Community string `yaml:"community"`
	// recorders: the number of wrong logins after which an account is locked until a restart; 0: never
	Lockout int `yaml:"lockout"`
	// gates, controllers: the number of sessions that they have at once; 0: any number
	Seats     int      `yaml:"seats"`
	Idle      string   `yaml:"idle"`      // switches, recorders: the version in the other slot
	Auxiliary []string `yaml:"auxiliary"` // cameras: auxiliary commands, such as tt:IRLamp|On
	Relays    []string `yaml:"relays"`    // cameras: tokens of relay outputs
}

// Faults are the switches of one stand-in.
type Faults struct {
	OtherPassword string `yaml:"other_password"` // the login has this password instead
	// gates: a login only leads to wanting a new password
	NewPassword  bool  `yaml:"new_password"`
	NoRight      bool  `yaml:"no_right"`      // gates: the login may not read the version
	ReadsOnly    bool  `yaml:"reads_only"`    // the login may read, and change nothing
	Silent       bool  `yaml:"silent"`        // takes connections, never answers
	DropAfter    int64 `yaml:"drop_after"`    // cuts a connection after this number of bytes
	KeepsVersion bool  `yaml:"keeps_version"` // takes an image, comes back as before
	NeverReturns bool  `yaml:"never_returns"` // does not come back on another image
	// takes a new password, and keeps the old one
	ForgetsPassword bool `yaml:"forgets_password"`
	// takes a new password, and answers no more until it is switched off and on
	MutePassword bool  `yaml:"mute_password"`
	Sick         bool  `yaml:"sick"`    // comes back on another image, but not well
	Rate         int64 `yaml:"rate"`    // bytes per second that its link carries
	Flaps        bool  `yaml:"flaps"`   // cuts one connection of six off
	NewKey       bool  `yaml:"new_key"` // has another certificate or host key after a restart
}
