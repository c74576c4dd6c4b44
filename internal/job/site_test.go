package job_test

import (
	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/order"
)

// testSite is a site for an engine: a function that is missing has nothing to say.
type testSite struct {
	open   func(order.Image) (job.File, error)
	record func(job string, d *device.Device) error
	held   func(device.Device) string
}

func (s *testSite) OpenImage(i order.Image) (job.File, error) { return s.open(i) }

func (s *testSite) RecordDevice(id string, d *device.Device) error {
	if s.record == nil {
		return nil
	}
	return s.record(id, d)
}

func (s *testSite) HeldNow(d device.Device) string {
	if s.held == nil {
		return ""
	}
	return s.held(d)
}

func (s *testSite) KeepOrder(order.Order, string) (string, error) { return "", nil }

func (s *testSite) Recheck(order.Order) (map[string]string, error) { return nil, nil }
