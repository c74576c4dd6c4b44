package job_test

import (
	"bytes"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"catena/internal/job"
	"catena/internal/order"
)

// changing is an image that is changed on the shelf before its end was read.
type changing struct{ memory }

var errChanged = errors.New("the image on the shelf is damaged")

func (changing) ReadAt([]byte, int64) (int, error) { return 0, errChanged }
func (changing) Changed() error                    { return errChanged }

// An image that is changed on the shelf while it is sent is not activated: the device fails on its
// version of before, with that reason, and nothing more is sent to it.
func TestAnImageThatIsChangedWhileItIsSent(t *testing.T) {
	devices := troupe{"cam-11": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		n.engine.Site.(*testSite).open = func(i order.Image) (job.File, error) {
			return changing{memory{bytes.NewReader([]byte(i.File))}}, nil
		}
		s := n.run(t, order.Order{Devices: []order.Device{row("cam-11")}})
		assert.Equal(t, map[string]string{"cam-11": "failed 1.0"}, ends(s))
		assert.Contains(t, s.Devices[0].Reason, "was changed on the shelf while it was sent")
		assert.Zero(t, devices["cam-11"].attempts)
		assert.Equal(t, "1.0", devices["cam-11"].version)
	})
}
