package topics

// Effect is what a command changes, and what it leaves alone whatever happens.
type Effect struct{ Touches, Never string }

const oneFile = "one new file."

// Effects that several commands have.
var (
	readsSite  = Effect{"nothing; it reads the site folder and the shelf.", "any device."}
	readsShelf = Effect{"nothing; it reads the shelf.", "any device."}
	readsFile  = Effect{"nothing; it reads the named files.", "any device."}
	readsJob   = Effect{"nothing; it reads the ledger.", "any device."}
	flashes    = Effect{"the firmware of the named devices, their settings if an image clears " +
		"them, and the ledger.",
		"a device on hold, one that cannot be rolled back (unless you accept that), or one " +
			"whose identity changed; a write that has started."}
)

// Effects are what each command touches, by its name.
var Effects = map[string]Effect{
	"new": {"a new site folder.", "an existing site folder, or any device."},
	"login add": {"logins.age in the site folder, encrypted.",
		"any device; no password is sent."},
	"login list": readsSite,
	"login drop": {"logins.age in the site folder.", "any device."},
	"login test": {"the ledger: which login works where. It logs in to the named devices, once " +
		"with each login; --for-change may set a value to what it is.", "firmware and settings, or a " +
		"device whose identity changed."},
	"login accept": {"the ledger: the changed identity is trusted from now on.",
		"any device."},
	"login rotate": {"the password on the named devices, logins.age and the ledger.",
		"a device whose identity changed, or one after a pilot that failed."},
	"login share":      {"logins.age in the site folder.", "any device, or the passwords."},
	"login unshare":    {"logins.age in the site folder.", "any device; no password is changed."},
	"login passphrase": {"logins.age in the site folder.", "any device; no password is changed."},
	"login unlock": {"a helper process that keeps the passphrase in memory, accessible only to " +
		"you.", "the disk, or any device."},
	"login lock":   {"that helper process.", "the logins themselves."},
	"family list":  readsSite,
	"family show":  readsSite,
	"family check": readsFile,
	"family try": {"the device at the address; with --update its firmware; with --record a new " +
		"file.", "other devices, or the ledger."},
	"family test": readsFile,
	"family draft": {"nothing; it reads what the device shows without a login.",
		"firmware or settings; no password is sent."},
	"address list": {"nothing; it listens and sends discovery requests.", "the settings of a device."},
	"address give": {"the address of one device, by DHCP, until its lease ends; the ledger.",
		"any other device: it gets no answer."},
	"address set": {"the addresses of the named devices; the ledger.",
		"firmware, or other settings."},
	"doctor": {"nothing; it checks this laptop and the site folder.",
		"any device; nothing is sent to devices."},
	"scan": {"the ledger. It contacts every address of the site, and logs in with the login " +
		"that worked last and at most one that has not worked there before.",
		"firmware and settings; no password is sent to a device whose identity changed."},
	"list": readsSite,
	"show": readsSite,
	"name": {"the ledger, and the old name wherever site.yaml and targets.yaml contain it.",
		"the rest of those files, or the device itself."},
	"hold":    {"hold: in site.yaml.", "any device."},
	"note":    {"the ledger, and a picture in photos/.", "any device."},
	"compare": {"nothing; it reads the site folder.", "any device."},
	"device replace": {
		"the ledger, site.yaml and targets.yaml; the login of the old device, and a copy " +
			"of its saved settings.",
		"any device: nothing is sent.",
	},
	"device retire":  {"the ledger.", "any device: nothing is sent."},
	"device retired": readsSite,
	"device spare":   {"inventory.yaml.", "any device: nothing is sent."},
	"report init":    {"new files in report/.", "a file that exists, or any device."},
	"audit": {"the ledger. It logs in to the devices and reads them; with --defaults, it tries one " +
		"more login, once.", "firmware and settings, or a device whose identity changed."},
	"audit accept": {"the ledger.", "any device."},
	"import": {"inventory.yaml, and the names in the ledger, site.yaml and targets.yaml, after you " +
		"confirm.", "any device, or the rest of those files."},
	"export": {oneFile, "any device."},
	"blink": {"the device's lamp, its display, or an output that you name, for a while.",
		"firmware or settings."},
	"shelf add":   {"the shelf.", "the given files, or any device."},
	"shelf list":  readsShelf,
	"shelf notes": readsShelf,
	"shelf mark":  {"the image's advice on the shelf.", "the image itself, or any device."},
	"shelf drop":  {"the shelf: the image is removed.", "any device."},
	"shelf tidy": {"the shelf, after you confirm.",
		"an image that a known device runs, should run or would return to."},
	"shelf export":    {oneFile, "the shelf, or any device."},
	"shelf pull":      {"the shelf; it downloads from the feed.", "any device."},
	"shelf check":     readsShelf,
	"shelf feed make": {"one folder: images and a signed index.", "the shelf, or any device."},
	"shelf feed key":  {"two new files: a key pair.", "any other file."},
	"target set":      {"targets.yaml.", "any device: flash does that."},
	"target list":     readsSite,
	"target drop":     {"targets.yaml.", "any device."},
	"target save":     {oneFile, "the site, or any device."},
	"target load":     {"targets.yaml.", "any device."},
	"match":           readsSite,
	"order new":       {"one new file in orders/.", "any device: flash does that."},
	"station join": {
		"station.yaml and the credentials in the site folder; with --into a new site folder. " +
			"It syncs.",
		"any device.",
	},
	"station run": {
		"what the signed orders for the station say: firmware, settings that an image clears, " +
			"the ledger. It syncs.",
		"a device of an order that no pinned key has signed; a write that has started.",
	},
	"station show":    readsSite,
	"station install": {"a unit of systemd.", "the site folder, or any device; it starts nothing."},
	"office record": {"a database, and copies of the ledgers in record/ of the office's folder.",
		"the records of the sites, or any device."},
	"fleet track":  {"the site folders: it syncs those that have an office.", "any device."},
	"rollout new":  {"one new file in rollouts/.", "any site, or any device."},
	"rollout show": {"nothing; it reads the site folders.", "any device."},
	"rollout run": {"the site folders: orders, signed; it syncs them. Their stations update devices.",
		"a site of a later wave before the one before has ended, soaked and stayed under its limit."},
	"rollout stop":   {"the rollout's file.", "jobs that run, and orders that were released."},
	"rollout resume": {"the rollout's file.", "any device: rollout run continues."},
	"fleet report":   {oneFile, "any site folder, or any device."},
	"order list":     readsSite,
	"order show":     readsSite,
	"order check": {"nothing; with --ask it logs in to the devices of the order, reads them, and " +
		"may set a value to what it is.", "firmware and settings."},
	"order sign": {"a signature beside the order.", "the order itself, or any device."},
	"rehearse": {"nothing; stand-ins on this machine take the place of the devices.",
		"any device, the site's ledger, or the shelf."},
	"notice": {"one file, with --out.", "the order, or any device."},
	"pack":   {oneFile, "the site, or any device."},
	"unpack": {"a new site folder, and the shelf.",
		"a site folder that exists, or any device."},
	"sync": {"the place; the ledger, the shared files and settings/ of the site folder, the shelf; " +
		"with --into a new site folder.",
		"any device, logins, or a file that you have changed since the last sync without a merge."},
	"office init": {"a new folder.", "anything else."},
	"office serve": {
		"the folder of the office; it listens at the address in office.yaml.",
		"a site folder, or any device.",
	},
	"office add": {
		"the list of sites in the folder of the office, and one new file.",
		"a site folder, or any device.",
	},
	"office list": {"nothing.", "any device."},
	"office remove": {
		"the list of sites in the folder of the office.",
		"the record of the site, or any device.",
	},
	"fleet list":  {"nothing; it reads the site folders and the shelf.", "any device."},
	"fleet match": {"nothing; it reads the site folders and the shelf.", "any device."},
	"fleet jobs":  {"nothing; it reads the site folders.", "any device."},
	"sync choose": {"that file, and the ledger.", "any device, or the place."},
	"flash":       flashes,
	"track": {"nothing; with --done and --skip your answer to the job.",
		"any device: closing the view stops nothing."},
	"stop": {"the job: it starts no more devices, or not the named ones.",
		"a device that is being written: it finishes, verified or rolled back."},
	"resume": flashes,
	"retry":  flashes,
	"finish": {"the parked devices: they restart and are verified; the ledger.",
		"other devices, or the image that was already sent."},
	"rollback": flashes,
	"prove": {"the ledger; it reads each device and checks its health, unless you record what you " +
		"found.",
		"firmware or settings."},
	"jobs":   readsJob,
	"report": {"one file, or two for the customer, in reports/ or as given by --out.", "any device."},
	"tell": {"the recipients in site.yaml (tell:), who get a test; with --allow, your list of " +
		"allowed commands.", "any device."},
	"settings save": {"settings/ in the site folder, encrypted; it reads the devices.",
		"firmware or settings."},
	"settings list": readsSite,
	"settings show": readsSite,
	"settings diff": {"nothing; it reads the device.", "firmware or settings."},
	"settings restore": {"the settings of the named device; the ledger.",
		"its firmware, or other devices."},
	"ledger check": readsJob,
	"ledger writer": {"with a name: the name in your data folder.",
		"the key, or any device."},
	"ledger export": {oneFile, "the ledger, or any device."},
	"schema":        {"nothing.", "any device."},
	"docs man":      {"a folder of manual pages.", "anything else."},
	"docs md":       {"a folder of Markdown pages.", "anything else."},
	"completion":    {"nothing; it prints a script for your shell.", "your shell's files."},
	"sim": {"stand-ins on loopback, and the folders that you name for images and families.",
		"any network: nothing leaves this machine."},
	"demo": {"a temporary folder, removed at the end, or the folder of --keep.",
		"any network, your sites or your shelf."},
	"version": {"nothing.", "any device."},
}
