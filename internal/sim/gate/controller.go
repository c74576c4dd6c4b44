package gate

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strconv"

	"catena/internal/sim/standin"
)

// controller is a Tollgarth signal controller: a gate controller's brother, with units behind it
// that only it reaches. It keeps the images for them until it restarts, and has two of them take
// one at a time.
//
//	GET  /tg/v1/units                 the units: place, serial number, version, what they do
//	PUT  /tg/v1/images/{digest}       an image for units, kept until a restart
//	GET  /tg/v1/images                those that are kept
//	POST /tg/v1/units/{place}/install {"image": digest}: 404 it is not kept, 409 not now
type controller struct {
	*gate
	units *standin.Units
}

// NewController makes the stand-in a signal controller with units behind it.
func NewController(s *standin.StandIn, of []standin.Device) error {
	g, mux, err := makeGate(s, of)
	if err != nil {
		return err
	}
	c := controller{g, standin.NewUnits(s, "Tollgarth", 2)}
	mux.HandleFunc("GET /tg/v1/units", g.inside(c.list))
	mux.HandleFunc("GET /tg/v1/images", g.inside(c.images))
	mux.HandleFunc("PUT /tg/v1/images/{digest}", g.inside(c.keep))
	mux.HandleFunc("POST /tg/v1/units/{place}/install", g.inside(c.install))
	return nil
}

func (c controller) list(w http.ResponseWriter, _ *http.Request) {
	out := []map[string]any{}
	c.units.Each(func(place int, u *standin.Unit, state string, percent int) {
		faults := []string{}
		if !u.Well() {
			faults = append(faults, "lamp does not light")
		}
		out = append(out, map[string]any{"place": place, "name": u.Name, "model": u.Model,
			"serial":   u.Serial,
			"firmware": u.Runs, "state": state, "percent": percent, "next": u.Next, "faults": faults})
	})
	standin.Answer(w, http.StatusOK, map[string]any{"units": out})
}

func (c controller) images(w http.ResponseWriter, _ *http.Request) {
	standin.Answer(w, http.StatusOK, map[string]any{"images": c.units.Kept()})
}

func (c controller) keep(w http.ResponseWriter, r *http.Request) {
	h := sha256.New()
	models := map[string]bool{}
	for _, u := range c.units.All {
		models[u.Model] = true
	}
	ended := c.Receives()
	defer ended()
	head, body, err := standin.PeekHeader(r.Body)
	model := ""
	for _, m := range head.Models {
		if models[m] {
			model = m
		}
	}
	version := ""
	if err == nil {
		version, err = standin.Receive(body, "Tollgarth", model, "", h)
	}
	if err == nil && hex.EncodeToString(h.Sum(nil)) != r.PathValue("digest") {
		err = standin.ErrChecksum
	}
	if err != nil {
		_, _ = io.Copy(io.Discard, r.Body)
		problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	c.units.Keep(r.PathValue("digest"), model, version)
	standin.Answer(w, http.StatusCreated, map[string]any{"version": version})
}

func (c controller) install(w http.ResponseWriter, r *http.Request) {
	var in struct{ Image string }
	if json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in) != nil {
		problem(w, http.StatusBadRequest, "say which image")
		return
	}
	place, _ := strconv.Atoi(r.PathValue("place"))
	switch err := c.units.Install(place, in.Image); {
	case err == nil:
		standin.Answer(w, http.StatusAccepted, map[string]any{"state": "installing"})
	case errors.Is(err, standin.ErrNotKept), errors.Is(err, standin.ErrNoUnit):
		problem(w, http.StatusNotFound, err.Error())
	default:
		problem(w, http.StatusConflict, err.Error())
	}
}
