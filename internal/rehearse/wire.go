package rehearse

import (
	"bytes"
	"crypto/rand"
	"io"
	"log/slog"
	"slices"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/login"
	"catena/internal/order"
	"catena/internal/sim"
	"catena/internal/sim/standin"
)

// Devices that speak an open standard are played by stand-ins that speak it: the image goes over
// the wire, on this machine, by the same dialects as ever.

// kinds are the stand-ins of dialects, and whose images they take.
var kinds = map[string]struct{ kind, maker string }{
	"onvif":   {"camera", "Wexcombe"},
	"redfish": {"recorder", "Brackwell"},
}

// mostSent bounds an image that is sent to a stand-in, in bytes: a rehearsal should not take a
// night.
const mostSent = 2 << 20

// played is the dialect of devices that only take their time.
const played = "played"

// stand starts the stand-ins. Their images are made up, as large as the real ones or smaller; the
// order is given their sizes. A machine without loopback addresses of its own has none.
func (s *Stage) stand(o *order.Order, longest time.Duration) error {
	scenario := sim.Scenario{Site: o.Site,
		Login: sim.Login{User: "rehearsal", Password: rand.Text()[:16]},
		Pace:  sim.Pace{Write: longest / 3, Restart: longest / 3}}
	s.as = login.Credential{User: scenario.Login.User, Password: scenario.Login.Password}
	var ids []string
	makers := map[string]string{} // by digest
	models := map[string][]string{}
	for _, d := range o.Devices {
		a := s.all[d.ID]
		k, speaks := kinds[a.known.Dialect]
		if !speaks || len(ids) >= mostStandIns ||
			slices.ContainsFunc(d.Path, func(h order.Hop) bool { return h.Component != "main" }) {
			continue
		}
		in := sim.Device{Name: d.ID, Kind: k.kind, Model: a.known.Model, Hardware: a.known.Hardware,
			Serial:  a.known.Serial,
			Version: a.known.Version, Idle: a.known.Idle["main"], Host: len(ids) + 1,
			Faults: sim.Faults{NeverReturns: a.fault == NeverReturns,
				KeepsVersion: a.fault == KeepsVersion, Sick: a.fault == Sick}}
		largest := int64(0)
		for _, i := range imagesOf(d) {
			makers[i.SHA256] = k.maker
			if !slices.Contains(models[i.SHA256], a.known.Model) {
				models[i.SHA256] = append(models[i.SHA256], a.known.Model)
			}
			largest = max(largest, min(i.Size, mostSent))
		}
		in.Faults.Rate = max(1<<16, int64(float64(largest)/(longest/3).Seconds()))
		scenario.Devices = append(scenario.Devices, in)
		ids = append(ids, d.ID)
	}
	if len(ids) == 0 {
		return nil
	}
	site, err := sim.Start(scenario, "", slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	s.site = site
	for i, in := range site.StandIns() {
		at := device.Endpoint{Address: in.Address, Dialect: s.all[ids[i]].known.Dialect}
		if in.Kind == "recorder" {
			at.Scheme = "https"
		}
		s.wire[ids[i]] = at
	}
	return s.imagineAll(o, makers, models)
}

// imagineAll makes up the images of the devices that stand-ins play.
func (s *Stage) imagineAll(o *order.Order, makers map[string]string,
	models map[string][]string) error {
	for n := range o.Devices {
		d := &o.Devices[n]
		if _, stands := s.wire[d.ID]; !stands {
			continue
		}
		d.Path = slices.Clone(d.Path)
		for h := range d.Path {
			if err := s.imagine(&d.Path[h].Image, d.Path[h].To, makers, models); err != nil {
				return err
			}
			if b := d.Path[h].Back; b != nil {
				back := *b
				d.Path[h].Back = &back
				if err := s.imagine(&back, d.Path[h].From, makers, models); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// mostStandIns is how many there can be on one loopback network.
const mostStandIns = 250

func imagesOf(d order.Device) (out []order.Image) {
	for _, h := range d.Path {
		if h.Image.SHA256 != "" {
			out = append(out, h.Image)
		}
		if h.Back != nil && h.Back.SHA256 != "" {
			out = append(out, *h.Back)
		}
	}
	return out
}

// imagine makes the content of an image that a stand-in takes, once.
func (s *Stage) imagine(i *order.Image, version string, makers map[string]string,
	models map[string][]string) error {
	if i.SHA256 == "" {
		return nil
	}
	if s.images[i.SHA256] == nil {
		var b bytes.Buffer
		if err := standin.Image(&b, makers[i.SHA256], models[i.SHA256], "", version,
			min(i.Size, mostSent)); err != nil {
			return err
		}
		s.images[i.SHA256] = b.Bytes()
	}
	i.Size = int64(len(s.images[i.SHA256]))
	return nil
}

// Close ends the stand-ins.
func (s *Stage) Close() {
	if s.site != nil {
		s.site.Stop()
	}
}

// Device is a device as it is on the stage.
func (s *Stage) Device(d device.Device) device.Device {
	at, stands := s.wire[d.ID]
	if !stands {
		at = device.Endpoint{Dialect: played, Address: d.ID}
	}
	d.Endpoint = at
	return d
}

// Players are the names of those that are played over the wire, of those that take the steps of
// their family with a recording, and of those that only take their time.
func (s *Stage) Players(o order.Order) (wire, recorded, timed []string) {
	for _, d := range o.Devices {
		_, stands := s.wire[d.ID]
		switch {
		case stands:
			wire = append(wire, d.Name)
		case s.all[d.ID].by != nil:
			recorded = append(recorded, d.Name)
		default:
			timed = append(timed, d.Name)
		}
	}
	return wire, recorded, timed
}

// ContactOfJob returns how a device of the stage is reached.
func (s *Stage) ContactOfJob(d device.Device) (dialect.At, login.Credential, bool) {
	return dialect.At{Endpoint: s.Device(d).Endpoint}, s.as, true
}

// File is the content of an image on the stage: what a stand-in takes, or nothing.
type File struct{ io.ReaderAt }

// Close has nothing to end.
func (File) Close() error { return nil }

// nothing is an image that no one reads.
type nothing struct{}

func (nothing) ReadAt(p []byte, _ int64) (int, error) { clear(p); return len(p), nil }

// Open is the image of a digest.
func (s *Stage) Open(i order.Image) File {
	if raw := s.images[i.SHA256]; raw != nil {
		return File{bytes.NewReader(raw)}
	}
	return File{nothing{}}
}
