package order_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/order"
)

// BenchmarkForecast is the forecast of a night: 10,000 devices behind 500 uplinks, with 200
// cover sets; and of less, to see how it grows.
func BenchmarkForecast(b *testing.B) {
	for _, n := range []int{1250, 2500, 5000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var o order.Order
			uplinks := n / 20
			for i := range n {
				d := order.Device{ID: fmt.Sprintf("d%d", i), Name: fmt.Sprintf("d%d", i),
					Path:    path,
					Model:   fmt.Sprintf("M%d", i%40),
					Takes:   time.Duration(180+i*7919%400) * time.Second,
					Returns: 2 * time.Minute}
				if i >= uplinks {
					d.Through = []string{fmt.Sprintf("d%d", i%uplinks),
						fmt.Sprintf("d%d", i%uplinks/25)}
					if i%uplinks < 25 {
						d.Through = d.Through[1:]
					}
				} else if i >= 25 {
					d.Through = []string{fmt.Sprintf("d%d", i/25)}
				}
				o.Devices = append(o.Devices, d)
			}
			for i := range n / 50 {
				c := order.Cover{Name: fmt.Sprintf("view %d", i), Keep: 2}
				for j := range 4 {
					c.Of = append(c.Of, fmt.Sprintf("d%d", (uplinks+i*37+j*101)%n))
				}
				o.Rules.Cover = append(o.Rules.Cover, c)
			}
			o.Rules.Pilot, o.Rules.Parallel, o.Rules.PerUplink = true, 256, 4
			o.Rules.PerModel = map[string]int{"M1": 8, "M2": 1}
			var p order.Schedule
			for b.Loop() {
				var err error
				p, err = order.Forecast(o, begin)
				require.NoError(b, err)
			}
			b.ReportMetric(p.Ratio(), "of-bound")
		})
	}
}
