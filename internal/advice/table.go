package advice

import (
	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/order"
	"time"
)

// Meaning is what a finding means, and what to do about it: first, second, third.
type Meaning struct {
	Means string
	Steps []string
}

// deviceMeanings are what the kinds of device.Cause mean. Their first step may be told by Remedy,
// too, which knows the device.
var deviceMeanings = map[device.Problem]Meaning{
	device.NoAnswer: {"The device did not respond in time. It, or something on the path to it, is " +
		"off, restarting or unplugged.",
		[]string{"check its power and its network",
			"if it is only slow: catena scan --patience 5s",
			"check whether its uplink responds: catena list"}},
	device.BadLogin: {"The device rejected the user or the password. Each login is tried once, so " +
		"that no account is locked.",
		[]string{"catena login add --device DEVICE", "catena login test DEVICE",
			"if no one knows the password: reset the device as its maker describes"}},
	device.NoLogin: {"No stored login applies to this device.",
		[]string{"catena login add --device DEVICE, or --model", "catena login test DEVICE"}},
	device.RefusedBefore: {"The device rejected logins in an earlier scan. They are not tried " +
		"again automatically, so that no account is locked.",
		[]string{"add the right one: catena login add --device DEVICE",
			"or try the same one again: catena login test DEVICE"}},
	device.Changed: {"The certificate, host key or serial number differs from that of the first " +
		"contact: the device was replaced or reset, or another machine intercepts the connection. " +
		"Nothing was sent to it.",
		[]string{"find out what happened to it, on site or by telephone",
			"if the change was intended: catena login accept ADDRESS",
			"if it was not: leave it alone, and inform the operator of the network"}},
	device.MissedLastScan: {"The device is known, and the last scan did not find it.",
		[]string{"catena scan", "check its power and its network"}},
	device.Mute: {"The address accepts connections and sends no answer: the device is very slow, or " +
		"has partly failed.",
		[]string{"catena scan --patience 5s", "switch it off and on"}},
	device.NotRecognised: {"The device matches no standard that Catena speaks and no family file.",
		[]string{"catena family draft ADDRESS > families/new.yaml", "see docs/families.md",
			"or skip it: except: in site.yaml"}},
	device.OnlyAnnounced: {"The device announced itself by multicast, and accepts no connection " +
		"from this laptop.",
		[]string{"check whether this laptop has an address in its network: catena doctor",
			"check for a firewall between the two"}},
	device.PlainLogin: {"The device offers no TLS, and accepts the password only in the clear. No " +
		"password was sent.",
		[]string{"enable TLS on the device", "or allow it for its family: plain_basic: true"}},
	device.NewPassword: {"The login is right. The device demands a new password before anything else.",
		[]string{"set one on the device", "catena login add --device DEVICE"}},
	device.NoRight: {"The login is right, and its user lacks the permission.",
		[]string{"add an administrator's: catena login add --device DEVICE"}},
	device.NoSecret: {"The family requires a further secret, such as a service code.",
		[]string{"add the login again, with --secret NAME"}},
	device.Refusal: {"The device rejected the request, for the reason that it states.",
		[]string{"read the reason", "check whether someone else is updating it, or a restart is due",
			"catena retry JOB"}},
	device.Malformed: {"The response does not conform to the device's protocol.",
		[]string{"catena scan; it may have been starting",
			"catena family try FILE ADDRESS shows each step", "fix the family file"}},
	device.NotNow: {"An interlock of the family or the image forbids the update now.",
		[]string{"resolve what the interlock reports",
			"catena retry JOB, or flash it with --wait-for 30m"}},
	device.NeedsPerson: {"An operator was asked to do something at the device, and did not in " +
		"time, or skipped it.",
		[]string{"do it", "catena retry JOB"}},
	device.NotLeft: {"A mode that was enabled on the device for the update could not be disabled.",
		[]string{"the next command tries again: catena scan", "or disable it by hand"}},
	device.Unsupported: {"Catena cannot do that with this device.",
		[]string{"use its maker's tool", "docs/families.md shows how a family adds it"}},
	device.NotMine: {"The device at the address speaks another protocol than before.",
		[]string{"catena scan"}},
	device.OwnFault: {"This laptop could not send the request: it lacks a route, a port or memory. " +
		"The device is not the cause.",
		[]string{"catena doctor"}},
}

// jobMeanings are what the kinds of job.Reason mean.
var jobMeanings = map[job.Why]Meaning{
	job.WrongVersion: {"The device accepted the image and restarted, and does not run the new " +
		"version: it fell back to the previous one, or never left it.",
		[]string{"read the image's notes: catena shelf notes IMAGE", "ask its maker",
			"try once more, by name: catena flash DEVICE"}},
	job.Unhealthy: {"The device runs the new version and reports a fault that it did not report " +
		"before.",
		[]string{"read the fault; inspect the device", "catena show DEVICE",
			"only then, by name: catena flash DEVICE"}},
	job.NotSettled: {"The device was healthy after its restart, and did not stay healthy.",
		[]string{"catena show DEVICE", "give it longer: patience: {settling: 5m}"}},
	job.DidNotReturn: {"The device restarted and did not respond again in time.",
		[]string{"catena scan: it may only be slow", "switch it off and on",
			"visit it: catena report has the list, with places"}},
	job.StillAway: {"The device has not responded since.", []string{"catena scan", "visit it"}},
	job.NotRestarted: {"The device should have restarted, and no restart was observed. If it " +
		"cannot report its progress, it may still be writing: nothing else was sent to it.",
		[]string{"leave it powered, and scan it later: catena scan",
			"restart it by hand, then catena prove JOB",
			"if its kind must be asked to restart, say when: patience: {grace: 5m}"}},
	job.StillWriting: {"The device has been writing the image for much longer than its patience. " +
		"It was left alone: nothing else was sent to it.",
		[]string{"leave it powered", "catena scan shows its version",
			"next time, more patience: patience: {writing: 40m}"}},
	job.MayWrite: {"The device does not run the new version. It did not respond for a moment, " +
		"which may have been a restart or a lost connection, and it cannot report whether it is still " +
		"writing. Nothing is sent to it for a while.",
		[]string{"wait", "if its kind writes faster, specify it: patience: {grace: 1m}"}},
	job.Forbidden: {"An interlock forbids one component; the other components were updated.",
		[]string{"resolve what the interlock reports", "catena retry JOB"}},
	job.CutOff: {"The device came back, and a downstream device did not.",
		[]string{"see which: catena list", "check its ports and its configuration",
			"catena rollback DEVICE"}},
	job.DeviceSaid: {"A step failed; the reason that the device states follows.",
		[]string{"see the table above", "catena retry JOB"}},
	job.NoRollback: {"The shelf had no image for the rollback.",
		[]string{"obtain it: catena match --missing", "catena shelf add FILE",
			"catena rollback --to VERSION DEVICE"}},
	job.RollbackFailed: {"The rollback failed as well.",
		[]string{"catena scan shows its version", "catena rollback DEVICE, once more",
			"visit it"}},
	job.StillRuns: {"The device runs its previous version: nothing is lost.",
		[]string{"catena retry JOB"}},
	job.SettingsChanged: {"The device's settings changed during the update.",
		[]string{"catena settings diff DEVICE", "catena settings restore DEVICE"}},
	job.SettingsLost: {"The saved settings could not be restored.",
		[]string{"catena settings restore DEVICE --other-version --edit",
			"they are stored: catena settings list DEVICE"}},
	job.SettingsLeft: {"The new version has no place for some settings.",
		[]string{"catena settings diff DEVICE",
			"or: catena settings restore DEVICE --other-version --edit"}},
	job.SettingsNotKept: {"The image alters settings, and they could not be saved first. The " +
		"device was not touched.",
		[]string{"catena settings save DEVICE shows why", "catena retry JOB"}},
	job.NotCarried: {"A value that the family preserves across the update could not be read or " +
		"written.",
		[]string{"see it: catena show DEVICE", "set it by hand"}},
	job.NotTaken: {"A value was written, and the device reports another one.",
		[]string{"set it by hand", "catena settings diff DEVICE"}},
	job.NotLeft: {"A mode that the update enabled on the device is still enabled.",
		[]string{"catena scan tries again", "or disable it by hand"}},
	job.ChangedSince: {"The device's version changed between the match and the start.",
		[]string{"catena scan", "catena match", "catena flash DEVICE"}},
	job.ThereAlready: {"The device already runs its target version.", []string{"nothing"}},
	job.NotTogether: {"A lockstep set is updated as a whole or not at all, and one member was not " +
		"ready.",
		[]string{"resolve that one", "catena retry JOB"}},
	job.ImageChanged: {"Someone or a faulty disk changed the image on the shelf during the " +
		"transfer. No changed byte was " +
		"sent, and the device did not get the end of the image. The changed file is set aside.",
		[]string{"find out who writes to the shelf: catena shelf list --aside",
			"add the image again from its source: catena shelf add", "catena retry JOB"}},
	job.ImageGone: {"The image was removed from the shelf after the order was created.",
		[]string{"catena shelf add FILE", "catena retry JOB"}},
	job.CannotStage: {"The device restarts automatically when it has a new image, so it cannot be " +
		"parked.",
		[]string{"flash it without --stage, in a window"}},
	job.CannotUpdate: {"Catena can read this device and cannot update it.",
		[]string{"use its maker's tool",
			"or by_hand: in site.yaml, and the job asks an operator"}},
	job.NoLogin: {"No stored login applies to this device.",
		[]string{"catena login add --device DEVICE", "catena retry JOB"}},
	job.NotBegun: {"A rule of the order, a stop or a hold kept the device from starting; the " +
		"reason follows.",
		[]string{"catena retry JOB"}},
	job.Abandoned: {"Ctrl-C was pressed twice: the device was abandoned before anything was sent.",
		[]string{"catena retry JOB"}},
	job.GaveUp: {"An operator gave the job up. The device's current version is not verified.",
		[]string{"catena scan", "catena match"}},
	job.VerifiedAnyway: {"A step failed, and the device was verified on its target despite that.",
		[]string{"nothing"}},
	job.PersonsWord: {"The device's version cannot be read: an operator confirmed it.",
		[]string{"if in doubt, inspect the device"}},
}

// sampleCause and sampleReason are how Catena says it.
func sampleCause(p device.Problem) string {
	c := device.Cause{Problem: p}
	switch p {
	case device.Changed:
		c.Key, c.Was, c.Now = device.KeyTLS, "SHA256:7f…", "SHA256:c0…"
	case device.RefusedBefore:
		c.Count = 1
	case device.NoSecret:
		c.Detail = "service"
	}
	return c.Error()
}

func sampleReason(w job.Why) string {
	r := job.Reason{Why: w, Is: "K42", Want: "K44", Within: 10 * time.Minute,
		Device: &device.Cause{Problem: device.Refusal, Detail: "limit switch does not answer"},
		Order:  &order.Reason{}}
	switch w {
	case job.NotBegun:
		return "would not finish before the window closes"
	case job.GaveUp:
		r.Step = job.Writing
	case job.DeviceSaid:
		r.Step = job.Sending
	case job.CutOff, job.NotTogether:
		r.Want = "gate-2"
	case job.SettingsLeft, job.NotCarried:
		r.Want = "ramp_s"
	case job.WrongVersion, job.Unhealthy:
		r.Step = job.Proving
	case job.NotLeft:
		r.Device = &device.Cause{Problem: device.NotLeft}
	}
	return r.Error()
}

// Each calls back with every kind: what Catena says, what that means, and what to do.
func Each(devices, jobs func(says string, m Meaning)) {
	for _, p := range device.Problems {
		devices(sampleCause(p), deviceMeanings[p])
	}
	for _, w := range job.Whys {
		jobs(sampleReason(w), jobMeanings[w])
	}
}
