package job_test

import (
	"errors"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/order"
)

// wall is what the machines of a site say to each other, as an office keeps it: what a machine says
// counts only if no one has said anything since it looked.
type wall struct {
	mu      sync.Mutex
	said    map[string][]order.Foreign // by machine
	number  uint64
	down    bool
	givenUp []string
	most    int // devices that were open at the same time
	doubled bool
}

// machine is one of them.
type machine struct {
	wall *wall
	name string
	read uint64
}

var errDown = errors.New("the office cannot be reached")

// change changes the wall while machines look at it.
func (w *wall) change(how func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	how()
}

func (m *machine) Others(id string) (out []order.Foreign, err error) {
	m.wall.mu.Lock()
	defer m.wall.mu.Unlock()
	if m.wall.down {
		return nil, errDown
	}
	m.read = m.wall.number
	if slices.Contains(m.wall.givenUp, m.name+"/"+id) {
		return nil, errGivenUp
	}
	for name, said := range m.wall.said {
		for _, f := range said {
			if name != m.name {
				f.Job = name + "/" + f.Job
				out = append(out, f)
			}
		}
	}
	return out, nil
}

var errGivenUp = errors.New("given up")

func (*machine) Taken(err error) bool { return errors.Is(err, errGivenUp) }

func (m *machine) Hold(mine []order.Foreign) (uint64, bool, error) {
	w := m.wall
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.down {
		return 0, false, errDown
	}
	if m.read != w.number {
		return 0, false, nil
	}
	w.number++
	m.read = w.number
	w.said[m.name] = mine
	open, ids := 0, map[string]bool{}
	for _, said := range w.said {
		for _, f := range said {
			open++
			w.doubled = w.doubled || ids[f.Device.ID]
			ids[f.Device.ID] = true
		}
	}
	w.most = max(w.most, open)
	return w.number, true, nil
}

// beside is a second machine at the same devices, with a ledger of its own.
func (n *night) beside(t *testing.T, dir string, w *wall) *night {
	l, err := ledger.Create(dir, n.clock, ledger.Writer{})
	require.NoError(t, err)
	engine := *n.engine
	engine.Ledger, engine.Leases = l, &machine{wall: w, name: "bea"}
	n.engine.Leases = &machine{wall: w, name: "anna"}
	return &night{engine: &engine, ledger: l, dir: dir, known: n.known}
}

// start starts a job, and returns where its error arrives in the end.
func (n *night) start(t *testing.T, o order.Order) (*job.Job, chan error) {
	j, err := n.engine.Start(job.Plan{Order: o, Devices: n.known})
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() { ended <- j.Run(t.Context(), t.Context()) }()
	return j, ended
}

func state(t *testing.T, n *night, id string) job.State {
	s, err := job.Load(n.ledger, id)
	require.NoError(t, err)
	return s
}

// Two machines that do not see each other's ledgers never work on one device, and keep the limits
// of the site together.
func TestTwoMachinesKeepTheRulesTogether(t *testing.T) {
	dir := t.TempDir()
	bubble(
		t,
		troupe{"cam-11": {}, "cam-12": {}, "cam-13": {}, "cam-14": {}},
		func(t *testing.T, n *night) {
			w := &wall{said: map[string][]order.Foreign{}}
			other := n.beside(t, dir, w)
			defer func() { _ = other.ledger.Close() }()
			rules := order.Rules{PerModel: map[string]int{"TG-200": 2}, Parallel: 8}
			_, first := n.start(t, order.Order{Rules: rules,
				Devices: []order.Device{row("cam-11"), row("cam-12"), row("cam-13")}})
			time.Sleep(time.Second)
			_, second := other.start(t, order.Order{Rules: rules, Devices: []order.Device{row("cam-14")}})
			time.Sleep(10 * time.Second)
			assert.Equal(t, "waiting for job anna/j1, which is updating cam-11",
				state(t, other, "j1").Waiting(time.Now())["cam-14"].Error())
			require.NoError(t, <-first)
			require.NoError(t, <-second)
			assert.Equal(
				t,
				map[string]string{"cam-11": "done 2.0", "cam-12": "done 2.0", "cam-13": "done 2.0"},
				ends(state(t, n, "j1")),
			)
			assert.Equal(t, map[string]string{"cam-14": "done 2.0"}, ends(state(t, other, "j1")))
			assert.Equal(t, 2, w.most)
			assert.False(t, w.doubled)
			for name, said := range w.said {
				assert.Empty(t, said, name)
			}
			entries, err := n.ledger.Entries(
				ledger.Filter{Kind: job.StepStarted, Device: "cam-11", Job: "j1"},
			)
			require.NoError(t, err)
			assert.Contains(t, string(entries[0].Body), `"lease":1`)
		},
	)
}

// Without the office nothing starts, what has started is finished, and with it the rest starts.
func TestAnOfficeThatGoesAway(t *testing.T) {
	dir := t.TempDir()
	bubble(t, troupe{"cam-11": {}, "cam-12": {}}, func(t *testing.T, n *night) {
		w := &wall{said: map[string][]order.Foreign{}}
		other := n.beside(t, dir, w)
		defer func() { _ = other.ledger.Close() }()
		o := order.Order{
			Rules:   order.Rules{Parallel: 1},
			Devices: []order.Device{row("cam-11"), row("cam-12")},
		}
		_, ended := n.start(t, o)
		time.Sleep(10 * time.Second)
		w.change(func() { w.down = true })
		time.Sleep(10 * time.Minute)
		s := state(t, n, "j1")
		assert.Equal(t, map[string]string{"cam-11": "done 2.0", "cam-12": "waiting "}, ends(s))
		assert.Equal(t, "waiting for the office: whether another machine works here cannot be told",
			s.Waiting(time.Now())["cam-12"].Error())
		w.change(func() { w.down = false })
		require.NoError(t, <-ended)
		assert.Equal(t, map[string]string{"cam-11": "done 2.0", "cam-12": "done 2.0"},
			ends(state(t, n, "j1")))

		w.change(func() { w.down = true }) // a person has accepted that
		o.Devices = []order.Device{row("cam-11")}
		o.Devices[0].Again = true
		o.Devices[0].From, o.Devices[0].Path[0].From = "2.0", "2.0"
		o.Cautions = []order.Caution{{Name: job.UnseenCaution, Accepted: "anna"}}
		assert.Equal(t, map[string]string{"cam-11": "done 2.0"}, ends(other.run(t, o)))
	})
}

// A job that was given up at another machine starts no more devices, and finishes those it has
// open.
func TestAJobThatWasGivenUpElsewhere(t *testing.T) {
	dir := t.TempDir()
	bubble(t, troupe{"cam-11": {}, "cam-12": {}}, func(t *testing.T, n *night) {
		w := &wall{said: map[string][]order.Foreign{}}
		other := n.beside(t, dir, w)
		defer func() { _ = other.ledger.Close() }()
		_, ended := n.start(t, order.Order{Rules: order.Rules{Parallel: 1},
			Devices: []order.Device{row("cam-11"), row("cam-12")}})
		time.Sleep(10 * time.Second)
		w.change(func() { w.givenUp = []string{"anna/j1"} })
		require.NoError(t, <-ended)
		assert.Equal(t, map[string]string{"cam-11": "done 2.0", "cam-12": "skipped "},
			ends(state(t, n, "j1")))
	})
}
