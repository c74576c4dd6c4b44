package family_test

import (
	"fmt"
	"net/http"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/family"
)

// The devices of a family are read at the same time: what is taken of the answer of one is its own.
// The race detector sees shared state of an expression, too, where the values happen to be right.
func TestTakesOfManyDevicesAtOnce(t *testing.T) {
	f, err := family.Parse("f.yaml", []byte(`family: f
vendor: Tollgarth
models: [TG-200]
recognise:
  - get: /about
    take:
      serial: //device[last()]/serial
      model: //model
read:
  - get: /about
    take: {version: //version}
`))
	require.NoError(t, err)
	step := f.Program.Recognise[0]
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			for range 200 {
				v := family.Values{}
				answer := family.Answer{Status: 200, Header: http.Header{"Content-Type": {"text/xml"}},
					Body: fmt.Appendf(nil, "<r><model>M%d</model>%s<device><serial>S%d</serial></device></r>", n,
						"<device><serial>first</serial></device>", n)}
				if !assert.NoError(t, step.TakeFrom(answer, v)) {
					return
				}
				assert.Equal(t, fmt.Sprintf("S%d", n), v["serial"])
				assert.Equal(t, fmt.Sprintf("M%d", n), v["model"])
			}
		})
	}
	all.Wait()
}
