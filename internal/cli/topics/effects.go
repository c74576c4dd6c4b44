package topics

// Effect is what a command changes, and what it leaves alone whatever happens.
type Effect struct{ Touches, Never string }

// Effects that several commands have.
var (
	readsSite  = Effect{"nothing; it reads the site folder and the shelf.", "any device."}
	readsShelf = Effect{"nothing; it reads the shelf.", "any device."}
	readsFile  = Effect{"nothing; it reads the files named.", "any device."}
	readsJob   = Effect{"nothing; it reads the ledger.", "any device."}
	flashes    = Effect{"the firmware of the devices named, and the ledger; saved settings, where " +
		"an image clears them.",
		"a device that is held, that cannot be rolled back unless you accept that, or that is not the " +
			"one " +
			"it was; a write that has started."}
)

// Effects are what each command touches, by its name.
var Effects = map[string]Effect{
	"new": {"a new site folder.", "a folder that is a site already, or any device."},
	"login add": {"logins.age in the site folder, encrypted.",
		"any device; a password is sent to no one here."},
	"login list": readsSite,
	"login drop": {"logins.age in the site folder.", "any device."},
	"login test": {"the ledger: which login works where. It logs in to the devices named, once " +
		"with each login.", "what a device has set or runs, or a device that is not the one it was."},
	"login accept": {"the ledger: the changed key or number counts from now on.",
		"any device."},
	"login unlock": {"a helper program that keeps the passphrase in its memory, reachable by you " +
		"alone.", "the disk, or any device."},
	"login lock":   {"that helper program.", "the logins themselves."},
	"family list":  readsSite,
	"family show":  readsSite,
	"family check": readsFile,
	"family try": {"the device at the address, with --update also its firmware; with --record a " +
		"new file.", "other devices, or the ledger."},
	"family test": readsFile,
	"family draft": {"nothing; it asks the device what it shows without a login.",
		"a device's firmware or settings; no password is sent."},
	"address list": {"nothing; it listens, and asks who is there.", "what a device has set."},
	"address give": {"one device's address, by DHCP, for as long as it runs; the ledger.",
		"any other device: others get no answer."},
	"address set": {"the addresses of the devices named; the ledger.",
		"what a device runs, or its other settings."},
	"doctor": {"nothing; it looks at this laptop and the site folder.",
		"any device; nothing is sent to one."},
	"scan": {"the ledger: what was found and read. It asks every address of the site, and logs in " +
		"with the login that worked last, and at most one that has not worked there before.",
		"what a device has set or runs; no password goes to a device that is not the one it was."},
	"list": readsSite,
	"show": readsSite,
	"name": {"the ledger, and every place in site.yaml and targets.yaml that has the old name.",
		"the rest of those files, or any device: it does not learn its name."},
	"hold": {"hold: in site.yaml.", "any device."},
	"blink": {"the device's lamp, display or an output that you name, for a while.",
		"what it has set or runs."},
	"shelf add":   {"the shelf.", "the files given, or any device."},
	"shelf list":  readsShelf,
	"shelf notes": readsShelf,
	"shelf mark":  {"the image's advice on the shelf.", "the image itself, or any device."},
	"shelf drop":  {"the shelf: the image is gone.", "any device."},
	"shelf tidy": {"the shelf, after it was asked.",
		"an image that a known device runs, should run or would return to."},
	"shelf export":    {"one new file.", "the shelf, or any device."},
	"shelf pull":      {"the shelf; it fetches from the feed.", "any device."},
	"shelf check":     readsShelf,
	"shelf feed make": {"one folder: images and a signed index.", "the shelf, or any device."},
	"shelf feed key":  {"two new files: a key pair.", "any other file."},
	"target set":      {"targets.yaml.", "any device: flash does that."},
	"target list":     readsSite,
	"target drop":     {"targets.yaml.", "any device."},
	"target save":     {"one new file.", "the site, or any device."},
	"target load":     {"targets.yaml.", "any device."},
	"match":           readsSite,
	"order new":       {"one new file in orders/.", "any device: flash does that."},
	"order list":      readsSite,
	"order show":      readsSite,
	"order check":     readsSite,
	"order sign":      {"a signature beside the order.", "the order itself, or any device."},
	"rehearse": {"nothing; stand-ins on this machine play the devices.",
		"any device, the site's ledger, or the shelf."},
	"pack": {"one new file.", "the site, or any device."},
	"unpack": {"a new site folder, and the shelf.",
		"a site folder that exists, or any device."},
	"flash": flashes,
	"track": {"nothing; with --done and --skip the answer to what a job asks.",
		"any device: leaving the view stops nothing."},
	"stop": {"the job: it starts no more devices, or not those that are named.",
		"a device that is being written to: it finishes, verified or returned."},
	"resume": flashes,
	"retry":  flashes,
	"finish": {"the devices that are parked: they restart and are proven; the ledger.",
		"other devices, or the image that is sent already."},
	"rollback": flashes,
	"prove": {"the ledger; it reads each device and looks whether it is well.",
		"what a device has set or runs."},
	"jobs":   readsJob,
	"report": {"one file, in reports/ or where --out says.", "any device."},
	"tell": {"those whom site.yaml names under tell: they are told of a test; with --allow, this " +
		"user's list " +
		"of allowed commands.", "any device."},
	"settings save": {"settings/ in the site folder, encrypted; it reads the devices.",
		"what a device has set or runs."},
	"settings list": readsSite,
	"settings show": readsSite,
	"settings diff": {"nothing; it reads the device.", "what a device has set or runs."},
	"settings restore": {"the settings of the device named; the ledger.",
		"its firmware, or other devices."},
	"ledger check":  readsJob,
	"ledger export": {"one new file.", "the ledger, or any device."},
	"schema":        {"nothing.", "any device."},
	"docs man":      {"a folder of manual pages.", "anything else."},
	"docs md":       {"a folder of pages in Markdown.", "anything else."},
	"completion":    {"nothing; it prints a script for your shell.", "your shell's files."},
	"sim": {"stand-ins on loopback, and the folders that you name for images and families.",
		"any network: nothing leaves the machine."},
	"demo": {"a temporary folder, which is removed, or the one of --keep.",
		"any network, your sites or your shelf."},
	"version": {"nothing.", "any device."},
}
