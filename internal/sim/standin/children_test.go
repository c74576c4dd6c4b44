package standin

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// A child runs what it took only after its restart; a sick one is well until then, and one that
// keeps its version stays on it.
func TestUnits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(Device{Children: []ChildDevice{
			{Name: "good", Model: "M", Version: "1.0"},
			{Name: "sick", Model: "M", Version: "1.0", Faults: Faults{Sick: true}},
			{Name: "keeps", Model: "M", Version: "1.0", Faults: Faults{KeepsVersion: true}},
			{Name: "lost", Model: "M", Version: "1.0", Faults: Faults{NeverReturns: true}},
			{Name: "held", Model: "M", Version: "1.0", Hand: time.Minute},
		}}, Pace{Write: time.Minute, Restart: time.Minute}, Login{}, nil)
		u := NewUnits(s, "Tollgarth", 4)
		u.Keep("digest", "M", "2.0")
		for place := 1; place <= 4; place++ {
			assert.NoError(t, u.Install(place, "digest"))
		}
		assert.ErrorIs(t, u.Install(5, "digest"), errBusy, "four at a time")
		now := func() (out []string) {
			u.Each(func(_ int, c *Unit, state string, _ int) {
				well := map[bool]string{true: "well", false: "sick"}[c.Well()]
				out = append(out, c.Runs+" "+state+" "+well)
			})
			return out
		}
		time.Sleep(30 * time.Second)
		assert.Equal(t, []string{"1.0 installing well", "1.0 installing well", "1.0 installing well",
			"1.0 installing well", "1.0 idle well"}, now())
		time.Sleep(time.Minute)
		assert.Equal(t, "1.0 starting well", now()[0])
		time.Sleep(time.Minute)
		assert.Equal(t, []string{"2.0 idle well", "2.0 idle sick", "1.0 idle well",
			"1.0 starting well", "1.0 idle well"}, now())
		assert.ErrorIs(t, u.Install(5, "digest"), errNotHeld)
		u.Ask(5)
		time.Sleep(61 * time.Second)
		assert.NoError(t, u.Install(5, "digest"))
	})
}
