package cli

import (
	"fmt"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/order"
)

// meaning is what a finding means, and what to do about it: first, second, third.
type meaning struct {
	means string
	steps []string
}

// deviceMeanings are what the kinds of device.Cause mean. Their first step may be told by remedy,
// too, which knows the device.
var deviceMeanings = map[device.Problem]meaning{
	device.NoAnswer: {"Nothing came back in time: it is off, restarting, unplugged, or something on the way is.",
		[]string{"look whether it has power and network",
			"catena scan; with --patience 5s if it is only slow",
			"look whether what it is reached through answers: catena list"}},
	device.BadLogin: {"User or password are wrong for it. Each login is tried once, so that nothing locks up.",
		[]string{"catena login add --device DEVICE", "catena login test DEVICE",
			"if nobody knows it: reset it by its maker's manual"}},
	device.NoLogin: {"No login that is kept is for it.",
		[]string{"catena login add --device DEVICE, or --model", "catena login test DEVICE"}},
	device.RefusedBefore: {"It refused logins in an earlier scan. They are not tried again unasked, so that it does not lock up.",
		[]string{"add the right one: catena login add --device DEVICE",
			"or try the same again: catena login test DEVICE"}},
	device.Changed: {"The certificate, host key or serial number is not the one of the first contact: it was exchanged or reset, or somebody is in between. Nothing was sent to it.",
		[]string{"find out what happened to it, on site or by telephone",
			"if it was on purpose: catena login accept ADDRESS",
			"if nobody knows: leave it, and tell who looks after the network"}},
	device.MissedLastScan: {"It was known, and the last scan did not see it.",
		[]string{"catena scan", "look whether it has power and network"}},
	device.Mute: {"Its address takes connections and says nothing: it is very slow, or half dead.", []string{"catena scan --patience 5s", "switch it off and on"}},
	device.NotRecognised: {"No standard that Catena speaks and no family file fits it.",
		[]string{"catena family draft ADDRESS > families/new.yaml", "see docs/families.md",
			"or leave it out: except: in site.yaml"}},
	device.OnlyAnnounced: {"Multicast told of it, and it takes no connection from here.",
		[]string{"look whether this machine's address is in its network: catena doctor",
			"look for a firewall in between"}},
	device.PlainLogin:  {"It offers no TLS, and takes the password only as it is. None was sent.", []string{"switch TLS on at the device", "or allow it for its family: plain_basic: true"}},
	device.NewPassword: {"The login is right, and the device demands a new password before anything else.", []string{"set one on the device", "catena login add --device DEVICE"}},
	device.NoRight: {"The login is right, and its user may not do that.",
		[]string{"add an administrator's: catena login add --device DEVICE"}},
	device.NoSecret: {"Its family requires one more secret, such as a service code.",
		[]string{"add the login once more with --secret NAME"}},
	device.Refusal: {"It answered, and said no, in its own words.",
		[]string{"read its words", "see whether somebody else works on it, or a restart is due",
			"catena retry JOB"}},
	device.Malformed: {"Its answer is not what its protocol allows.",
		[]string{"catena scan; it may have been starting",
			"catena family try FILE ADDRESS shows each step", "mend the family file"}},
	device.NotNow: {"An interlock of its family or image forbids the update now.",
		[]string{"see to what it says", "catena retry JOB, or flash it with --wait-for 30m"}},
	device.NeedsPerson: {"Somebody was asked to do something at the device, and did not in time, or it was skipped.", []string{"do it", "catena retry JOB"}},
	device.NotLeft:     {"What was switched on at the device for the update (a service mode) could not be switched off.", []string{"the next command tries once more: catena scan", "or switch it off by hand"}},
	device.Unsupported: {"Catena cannot do that with it.",
		[]string{"use its maker's own means", "docs/families.md says what a family can add"}},
	device.NotMine: {"What is at the address speaks something else than before.",
		[]string{"catena scan"}},
	device.OwnFault: {"This laptop could not ask: no route, no port, no memory. It says nothing of the device.", []string{"catena doctor"}},
}

// jobMeanings are what the kinds of job.Reason mean.
var jobMeanings = map[job.Why]meaning{
	job.WrongVersion: {"It took the image, restarted, and does not run it: the earlier version is back, or was never left.",
		[]string{"read the image's notes: catena shelf notes IMAGE", "ask its maker",
			"once only, by name: catena flash DEVICE"}},
	job.Unhealthy: {"It runs the new version and reports a fault, which it did not before.",
		[]string{"read the fault; look at the device", "catena show DEVICE",
			"only then, by name: catena flash DEVICE"}},
	job.NotSettled: {"It was well after its restart, and did not stay so.",
		[]string{"catena show DEVICE", "give it longer: patience: {settling: 5m}"}},
	job.DidNotReturn: {"It went to restart and did not answer again in its time.",
		[]string{"catena scan: it may only be slow", "switch it off and on",
			"go there: catena report has the list, with places"}},
	job.StillAway: {"It has not answered since.", []string{"catena scan", "go there"}},
	job.NotRestarted: {"It should have restarted, and no restart was observed. One that cannot report how far its writing is may still be writing: nothing else was sent to it.",
		[]string{"leave it powered, and scan it later: catena scan", "restart it by hand, then catena prove JOB",
			"if its kind must be asked to restart, say when: patience: {grace: 5m}"}},
	job.StillWriting: {"It has been writing the image for much longer than its patience. It was left alone: nothing else was sent to it.",
		[]string{"leave it powered", "catena scan shows what it runs",
			"next time, more patience: patience: {writing: 40m}"}},
	job.MayWrite: {"It does not run the new version. It did not answer for a moment; whether it restarted then is not certain, and it cannot report whether it still writes. So nothing is sent to it for a while.",
		[]string{"wait", "if its kind writes faster, say so: patience: {grace: 1m}"}},
	job.Forbidden: {"An interlock forbids one of its components; the others were updated.",
		[]string{"see to what the interlock says", "catena retry JOB"}},
	job.CutOff: {"It came back, and something behind it did not.",
		[]string{"see which: catena list", "look at its ports and its configuration",
			"catena rollback DEVICE"}},
	job.DeviceSaid: {"A step failed; the device's own words follow.",
		[]string{"see the table above", "catena retry JOB"}},
	job.NoRollback: {"There was no image to return it by.",
		[]string{"obtain it: catena match --missing", "catena shelf add FILE",
			"catena rollback --to VERSION DEVICE"}},
	job.RollbackFailed: {"The way back failed, too.",
		[]string{"catena scan says what it runs now", "catena rollback DEVICE once more",
			"go there"}},
	job.StillRuns: {"It runs what it ran before: nothing is lost.",
		[]string{"catena retry JOB"}},
	job.SettingsChanged: {"After the update its settings are others than before.",
		[]string{"catena settings diff DEVICE", "catena settings restore DEVICE"}},
	job.SettingsLost: {"The saved settings could not be given back.",
		[]string{"catena settings restore DEVICE --other-version --edit",
			"the save is kept: catena settings list DEVICE"}},
	job.SettingsLeft: {"Some settings have no place in the new version.",
		[]string{"catena settings diff DEVICE",
			"settle them: catena settings restore DEVICE --other-version --edit"}},
	job.SettingsNotKept: {"The image alters settings, and they could not be saved before. It was not touched.", []string{"catena settings save DEVICE says why", "catena retry JOB"}},
	job.NotCarried:      {"A value that its family carries over the update could not be read or written.", []string{"see it: catena show DEVICE", "set it by hand"}},
	job.NotTaken: {"A value was written, and the device has another one.",
		[]string{"set it by hand", "catena settings diff DEVICE"}},
	job.NotLeft: {"Something that the update switched on there is still on.",
		[]string{"catena scan tries once more", "or switch it off by hand"}},
	job.ChangedSince: {"Between the match and the start it came to run something else.",
		[]string{"catena scan", "catena match", "catena flash DEVICE"}},
	job.ThereAlready: {"It runs the target: there was nothing to do.", []string{"nothing"}},
	job.NotTogether:  {"Its lockstep set moves together or not at all, and one of it was not ready.", []string{"see to that one", "catena retry JOB"}},
	job.ImageGone: {"The image left the shelf between order and start.",
		[]string{"catena shelf add FILE", "catena retry JOB"}},
	job.CannotStage: {"It restarts by itself with a new image, so it cannot wait with one.",
		[]string{"flash it without --stage, in a window"}},
	job.CannotUpdate: {"It can be read and not flashed from here.",
		[]string{"use its maker's own means",
			"or by_hand: in site.yaml, and the job asks a person"}},
	job.NoLogin: {"No login that is kept is for it.",
		[]string{"catena login add --device DEVICE", "catena retry JOB"}},
	job.NotBegun: {"A rule of the order, a stop or a hold kept it from starting: what follows says which.",
		[]string{"catena retry JOB"}},
	job.Abandoned: {"Ctrl-C twice: it was let go before anything was sent.",
		[]string{"catena retry JOB"}},
	job.GaveUp: {"A person gave the job up. What the device runs is not proven.",
		[]string{"catena scan", "catena match"}},
	job.VerifiedAnyway: {"A step failed, and the device was verified on its target despite that.",
		[]string{"nothing"}},
	job.PersonsWord: {"Nobody can read what it runs: a person said so.",
		[]string{"look at it, if in doubt"}},
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

// eachTrouble calls back with every kind: what Catena says, what that means, and what to do.
func eachTrouble(devices, jobs func(says string, m meaning)) {
	for _, p := range device.Problems {
		devices(sampleCause(p), deviceMeanings[p])
	}
	for _, w := range job.Whys {
		jobs(sampleReason(w), jobMeanings[w])
	}
}

// troubleHelp is the topic for a person at night.
func troubleHelp() string {
	var b strings.Builder
	b.WriteString("What Catena says, what it means, and what to do: first, second, third.\nDEVICE and JOB are yours; catena report and catena show DEVICE have what happened.\n\nOf a device:\n\n")
	tell := func(says string, m meaning) {
		fmt.Fprintf(&b, "  %s\n", strings.ReplaceAll(fill(says, "  ", helpWide-4), "\n", "\n  "))
		fmt.Fprintf(&b, "    %s\n", strings.ReplaceAll(fill(m.means, "", helpWide-6), "\n",
			"\n    "))
		for i, s := range m.steps {
			fmt.Fprintf(&b, "    %d. %s\n", i+1, s)
		}
		b.WriteString("\n")
	}
	headed := false
	eachTrouble(tell, func(says string, m meaning) {
		if !headed {
			b.WriteString("Of a job:\n\n")
			headed = true
		}
		tell(says, m)
	})
	return b.String()
}

// troubleTables are the same for docs/trouble.md.
func troubleTables() string {
	var of, in strings.Builder
	row := func(b *strings.Builder) func(string, meaning) {
		b.WriteString("| Catena says | it means | what to do |\n|---|---|---|\n")
		return func(says string, m meaning) {
			fmt.Fprintf(b, "| %s | %s | %s |\n", says, m.means,
				strings.Join(numbered(m.steps), " "))
		}
	}
	eachTrouble(row(&of), row(&in))
	return "### Of a device\n\n" + of.String() + "\n### Of a device in a job\n\n" + in.String()
}

func numbered(steps []string) (out []string) {
	for i, s := range steps {
		out = append(out, fmt.Sprintf("%d. %s.", i+1, s))
	}
	return out
}
